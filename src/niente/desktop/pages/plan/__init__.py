"""The Plan page."""
