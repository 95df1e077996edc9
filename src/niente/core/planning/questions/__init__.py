"""The questions that Niente knows: for each, what it starts with on a rig, and the runs that answer it."""
