"""Tests in a real window: they need an X display, which ``make test`` gives them (tools/with_screen.sh)."""

import os
from pathlib import Path

import pytest

from tests.waiting_bot import qtbot

__all__ = ["qtbot"]

if os.environ.get("QT_QPA_PLATFORM") != "xcb" or not os.environ.get("DISPLAY"):
    pytest.skip("needs a real window: run tools/with_screen.sh pytest tests/realwindow", allow_module_level=True)


@pytest.fixture(autouse=True)
def own_settings(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Nothing of the person's who runs the tests is read or written."""
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path / "config"))
