"""The Choose page."""
