"""Tests in a real window: they need an X display, which ``make test`` gives them (tools/with_screen.sh)."""

import os

import pytest

if os.environ.get("QT_QPA_PLATFORM") != "xcb" or not os.environ.get("DISPLAY"):
    pytest.skip("needs a real window: run tools/with_screen.sh pytest tests/realwindow", allow_module_level=True)
