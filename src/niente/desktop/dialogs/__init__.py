"""Dialogs: what is asked in a window of its own."""
