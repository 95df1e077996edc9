"""The Run page."""
