"""The heat path from the core to the room: its sum, its fit, and what it says."""
