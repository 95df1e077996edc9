"""Niente without a window: the same work from the command line."""

from niente.cli.main import main

__all__ = ["main"]
