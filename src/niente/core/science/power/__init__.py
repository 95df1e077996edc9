"""What a processor draws and does: power over voltage, clock and temperature, and where limits hold it."""
