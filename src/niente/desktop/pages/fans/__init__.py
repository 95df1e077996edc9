"""The Fans page: curves of a point, and the days that they were rehearsed for."""
