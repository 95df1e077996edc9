"""Machine files: one JSON file a simulated machine."""
