"""Pure functions on arrays: they know no rig, no book and no window. Results carry intervals, or the reason for none."""
