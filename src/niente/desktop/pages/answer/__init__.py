"""The Answer page: what the book says to the question that was asked, and for a quiet point the choice."""
