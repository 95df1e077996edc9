"""The Map page."""
