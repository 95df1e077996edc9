"""What is watched at every sample, and what is done about it: levels, sensors, fans."""
