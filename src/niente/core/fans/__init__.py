"""Fan curves: how a day sounds and warms under them, whether they hunt, and which one nobody hears."""
