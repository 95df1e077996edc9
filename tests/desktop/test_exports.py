"""Everything that leaves the window as a file, by the action that a person takes; each can be read again."""

import csv
import io
from pathlib import Path

import pytest
from PySide6.QtGui import QImage
from pytestqt.qtbot import QtBot

from niente.core.model.plan import read_plan
from niente.desktop.app.window import NAMES, Window
from niente.desktop.dialogs import prompts
from niente.desktop.services.files import is_sheet

EXPORTS = (
    ("map.csv", "Map", "where_to_save_table", "map.csv"),
    ("map.picture", "Map", "where_to_save_picture", "map.png"),
    ("map.picture", "Map", "where_to_save_picture", "map.svg"),
    ("plan.save", "Plan", "where_to_save_plan", "plan.json"),
    ("rig.export", "Rig", "where_to_save_sheet", "rig.json"),
)


@pytest.mark.parametrize("export", EXPORTS, ids=lambda export: export[-1])
def test_every_export_writes_what_can_be_read(
    swept_window: Window, qtbot: QtBot, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, export: tuple[str, str, str, str]
) -> None:
    action, page, ask, name = export
    file = tmp_path / name
    monkeypatch.setattr(prompts, ask, lambda *_: file)
    swept_window.go_to(NAMES.index(page))
    assert swept_window.actions_[action].isEnabled()
    swept_window.actions_[action].trigger()
    qtbot.waitUntil(file.exists)
    match file.suffix:
        case ".csv":
            rows = list(csv.reader(io.StringIO(file.read_text())))
            assert len(rows) > 100
            assert len({len(row) for row in rows}) == 1
        case ".png":
            assert not QImage(str(file)).isNull()
        case ".svg":
            assert "<svg" in file.read_text()
        case _ if name == "rig.json":
            assert is_sheet(file)
        case _:
            assert len(read_plan(file.read_bytes()).steps) > 3
