"""Widgets that more than one page uses."""
