"""Lines of the run list that say why a run follows from what was measured."""

import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from pytestqt.qtbot import QtBot

from niente.core.model.plan import Exposure, Step
from niente.core.model.rig_card import RigCard
from niente.core.planning.forecast import StepForecast
from niente.core.planning.progress import Row, RunStatus
from niente.core.science.dynamics import Scale
from niente.desktop.pages.plan.run_list import STAGE, WHY, RunList, RunListView, ShownRun
from tests.conftest import larkspur_rig

WHOLE = "Tells whether this keeps 8 K of headroom, 2.6 dB under 102 W, 44 %"


@pytest.fixture
def card() -> RigCard:
    return larkspur_rig().describe()


def shown(card: RigCard, *runs: tuple[str, str, RunStatus]) -> ShownRun:
    rows = tuple(
        Row(0, Step(card.stock, "vector", Exposure(300.0, 600.0), stage, reason), status) for stage, reason, status in runs
    )
    return ShownRun(card, rows, (600.0,) * len(rows), ("sustained_power_w",), lambda _: StepForecast(), Scale(), None)


def test_why_a_run_follows_has_a_line_of_its_own(card: RigCard, qtbot: QtBot) -> None:
    model = RunList()
    view = RunListView(model)
    qtbot.addWidget(view)
    view.setModel(model)
    done, ahead = ("near pick", WHOLE, RunStatus.DONE), ("near pick", "Tells whether that", RunStatus.AHEAD)
    expected = ("near pick", "Near the pick, once that is known", RunStatus.EXPECTED)
    heat = ("capacity", "Heat here", RunStatus.DONE)
    model.show(shown(card, heat, done, ahead, expected))
    assert [row[STAGE] for row in model.rows] == ["capacity", "near pick", WHOLE, "", "Tells whether that", ""]
    assert [row[WHY] for row in model.rows] == ["Heat here", "", "", "", "", "Near the pick, once that is known"]
    assert [view.columnSpan(item, STAGE) for item in range(model.count())] == [1, 1, WHY - STAGE + 1, 1, WHY - STAGE + 1, 1]
    assert [model.index_of(item) for item in range(model.count())] == [0, 1, 1, 2, 2, 3]
    assert [model.item_of(run) for run in range(4)] == [0, 1, 3, 5]
    assert not model.index(2, STAGE).flags() & Qt.ItemFlag.ItemIsSelectable
    view.selectRow(1)
    QTest.keyClick(view, Qt.Key.Key_Down)
    assert view.currentIndex().row() == 3  # from run to run
    model.show(shown(card, done, heat, ahead, expected))  # as many lines, elsewhere
    assert [view.columnSpan(item, STAGE) > 1 for item in range(model.count())] == [False, True, False, False, True, False]
