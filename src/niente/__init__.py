"""Niente: find a computer's quiet, stable operating point."""

__version__ = "0.1.0"
