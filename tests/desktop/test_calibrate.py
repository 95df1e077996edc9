"""A sensor is compared with a reference, and trusted for what that shows."""

import msgspec
import pytest
from PySide6.QtCore import Qt, QTimer
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from niente.core.analysis.evidence import Evidence
from niente.core.model.rig_card import RigCard
from niente.desktop.app.window import NAMES, Window
from niente.desktop.dialogs.calibrate import Calibrate, caps_of
from niente.desktop.pages.rig.page import RigPage


def put(dialog: Calibrate, pairs: list[tuple[str, str]]) -> None:
    for (true, reads), (one, other) in zip(dialog.pairs, pairs, strict=False):
        true.setText(one)
        reads.setText(other)


def test_pairs_are_told_as_they_are_typed(swept_window: Window, card: RigCard, evidence: Evidence) -> None:
    dialog = Calibrate(swept_window, card, evidence)
    ok = dialog.take
    assert not ok.isEnabled()
    assert "no pair" in dialog.result_text.text()
    dialog.sensor.setCurrentIndex(dialog.sensor.findData("board_temperature_c"))
    put(dialog, [("40 °C", "32")])
    assert "references further apart would show a gain" in dialog.result_text.text()
    put(dialog, [("40", "32.1"), ("60", "48,0"), ("80", "64.1"), ("90", "rubbish")])
    assert "from 3 pairs" in dialog.result_text.text()
    assert "0.800" in dialog.result_text.text()
    assert ok.isEnabled()
    trust = dialog.trust()
    assert trust is not None
    assert trust.channel == "board_temperature_c"
    assert trust.gain == pytest.approx(0.8, abs=0.002)
    put(dialog, [("40", "64"), ("60", "48"), ("80", "32")])
    assert "do not rise" in dialog.result_text.text()
    assert dialog.trust() is None


def test_runs_at_their_cap_are_pairs(swept_window: Window, card: RigCard, evidence: Evidence) -> None:
    held = caps_of(evidence)
    assert held
    assert all(cap == 90.0 and abs(read - cap) < 3.0 for cap, read in held)
    dialog = Calibrate(swept_window, card, evidence)
    assert dialog.from_caps.isEnabled()
    dialog.take_caps()
    assert dialog.name == "core_temperature_c"
    assert dialog.found is not None
    assert abs(dialog.found.offset) < 3.0
    none = Calibrate(swept_window, card, msgspec.structs.replace(evidence, runs=()))
    assert not none.from_caps.isEnabled()


def test_what_was_found_is_trusted_and_undone(swept_window: Window) -> None:
    session = swept_window.session
    assert session.sheet is not None
    dialog = Calibrate(swept_window, session.card, session.answer.evidence)  # type: ignore[arg-type]
    dialog.sensor.setCurrentIndex(dialog.sensor.findData("board_temperature_c"))
    put(dialog, [("40", "32"), ("60", "48"), ("80", "64")])
    trust = dialog.trust()
    assert trust is not None
    swept_window.rig_commands.take_trust(trust)
    assert trust in session.sheet.trust
    session.undo.undo()
    assert trust not in session.sheet.trust


def test_a_whole_calibration_by_hand(swept_window: Window, qtbot: QtBot) -> None:
    """From the menu's action to the sheet, typed into the dialog, shown on the page, and taken back."""
    session = swept_window.session
    sheet = session.sheet
    assert sheet is not None
    before = sheet.trust

    def type_pairs() -> None:
        dialog = QApplication.activeModalWidget()
        assert isinstance(dialog, Calibrate)
        dialog.sensor.setCurrentIndex(dialog.sensor.findData("board_temperature_c"))
        for (true, reads), (one, other) in zip(dialog.pairs, (("40", "32"), ("60", "48"), ("80", "64")), strict=False):
            QTest.keyClicks(true, one)
            QTest.keyClicks(reads, other)
        assert dialog.take.isEnabled()
        QTest.keyClick(dialog, Qt.Key.Key_Return)

    QTimer.singleShot(200, type_pairs)
    swept_window.actions_["rig.calibrate"].trigger()
    qtbot.waitUntil(lambda: session.sheet is not None and session.sheet.trust != before)
    assert session.sheet is not None
    found = next(one for one in session.sheet.trust if one.channel == "board_temperature_c")
    assert found.gain == pytest.approx(0.8, abs=0.002)
    swept_window.go_to(NAMES.index("Rig"))
    page = swept_window.page(RigPage)
    page.views.show_view(4)
    rows = {row[0].text: row for row in page.sensors_view.model.entries}
    assert any("0.8" in entry.text for entry in rows["Board supply"])
    swept_window.actions_["edit.undo"].trigger()
    qtbot.waitUntil(lambda: session.sheet is not None and session.sheet.trust == before)
