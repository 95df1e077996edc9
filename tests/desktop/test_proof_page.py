"""The Proof page: what it says of the pick, other settings, what it has to last, and what it puts into the plan."""

from collections.abc import Callable

import pytest
from PySide6.QtCore import Qt
from pytestqt.qtbot import QtBot

from niente.core.model.plan import Step
from niente.core.selection.explanation import risk_text
from niente.desktop.app.window import NAMES, Window
from niente.desktop.pages.answer.page import AnswerPage
from niente.desktop.pages.map.page import MapPage
from niente.desktop.pages.proof.page import ProofPage
from niente.desktop.widgets.blocks import spoken


@pytest.fixture
def window(swept_window: Window) -> Window:
    swept_window.go_to(NAMES.index("Proof"))
    return swept_window


def test_it_says_how_surely_the_pick_lasts(window: Window) -> None:
    page, proof = window.page(ProofPage), window.session.answer.proof
    assert proof is not None
    assert f"At most {risk_text(proof.at_most)}" in page.title.text()
    assert "99 % sure" in page.lead.text()
    assert len(page.loads.rows) == len(proof.loads)
    assert page.months.rows[0][1] == f"{len(proof.exposures)}"
    said = spoken(page.margin())
    assert "corrupts files" in said
    assert "What it rests on" in said
    assert page.finished() is proof.proven
    assert risk_text(proof.at_most) in page.live_line()
    assert page.picture.accessibleDescription().startswith(f"{len(proof.exposures)} exposures")


def test_a_runner_up_is_proved_when_it_is_chosen(window: Window, qtbot: QtBot) -> None:
    page, choice = window.page(ProofPage), window.session.answer.choice
    assert choice is not None
    with qtbot.waitSignal(window.session.proved):
        page.views.show_view(1)
    assert page.proof is not None
    assert page.proof.setting == choice.runners_up[0].setting
    page.views.show_view(0)
    assert page.proof is window.session.answer.proof


def test_the_setting_that_is_selected_on_the_map_is_proved(window: Window, qtbot: QtBot) -> None:
    window.go_to(NAMES.index("Map"))
    on_map, page, choice = window.page(MapPage), window.page(ProofPage), window.session.answer.choice
    assert choice is not None
    qtbot.waitUntil(lambda: on_map.mapped is not None)
    assert on_map.mapped is not None
    settings = on_map.mapped.field.settings
    away = next(n for n in range(settings.count) if settings.at(n) != choice.pick.setting)
    on_map.view.selected.emit(away)
    with qtbot.waitSignal(window.session.proved):
        window.actions_["map.prove"].trigger()
    assert window.stack.currentWidget() is page
    assert page.proof is not None
    assert page.proof.setting == on_map.mapped.field.settings.at(away)
    assert page.views.current == 4
    on_map.view.selected.emit(choice_index := (0 if away else 1))
    with qtbot.waitSignal(window.session.proved):  # the view is current already
        on_map.prove()
    assert page.proof.setting == on_map.mapped.field.settings.at(choice_index)
    page.views.show_view(0)
    assert page.proof is window.session.answer.proof


def test_every_core_has_its_own_depth_with_an_interval(window: Window) -> None:
    page, proof = window.page(ProofPage), window.session.answer.proof
    assert proof is not None
    assert len(page.cores.rows) == len(proof.cores) >= 1  # errors named cores in the search
    for row, one in zip(page.cores.rows, proof.cores, strict=True):
        assert str(row[0]) == one.core
        assert "±" in str(row[-1])
    assert [one.threshold_mv.value for one in proof.cores] == sorted(one.threshold_mv.value for one in proof.cores)


def test_what_it_has_to_last_can_be_set_and_taken_back(window: Window, qtbot: QtBot) -> None:
    page, session = window.page(ProofPage), window.session
    with qtbot.waitSignal(session.answered):
        page.fields["horizon_s"].setValue(720.0)
    assert session.project is not None
    assert session.project.limits.failure.horizon_s == 720.0 * 3600.0
    assert session.project.question.goal == session.project.limits.failure
    assert "in 30\u00a0days" in page.title.text()
    with qtbot.waitSignal(session.answered):
        session.undo.undo()
    assert session.project.limits.failure.horizon_s == 86400.0


def test_the_choice_has_the_same_limit(window: Window, qtbot: QtBot) -> None:
    window.go_to(NAMES.index("Answer"))
    field = window.page(AnswerPage).choice.fields["failure"]
    assert field.value() == 1.0
    with qtbot.waitSignal(window.session.answered):
        field.setValue(0.1)
    assert window.session.project is not None
    assert window.session.project.limits.failure.chance == pytest.approx(0.001)


def test_what_would_make_it_surer_comes_next_in_the_plan(window: Window, qtbot: QtBot) -> None:
    page, proof = window.page(ProofPage), window.session.answer.proof
    assert proof is not None
    assert proof.more
    page.more_view.selectRow(0)
    more = page.selected()
    assert more is not None
    window.actions_["proof.run"].trigger()
    qtbot.waitUntil(lambda: more.step in _steps(window))
    window.actions_["proof.soak"].trigger()
    qtbot.waitUntil(lambda: any(step.exposure.min_s == 8.0 * 3600.0 for step in _steps(window)))
    soak = next(step for step in _steps(window) if step.exposure.min_s == 8.0 * 3600.0)
    assert (soak.setting, soak.load) == (proof.setting, proof.load)


def _steps(window: Window) -> list[Step]:
    plan = window.session.plan
    return [entry for entry in plan.entries if isinstance(entry, Step)] if plan is not None else []


def test_it_is_reached_by_its_key_and_says_what_is_missing(open_window: Callable[..., Window], qtbot: QtBot) -> None:
    window = open_window()
    qtbot.keyClick(window, Qt.Key.Key_7, Qt.KeyboardModifier.ControlModifier)
    assert window.stack.currentWidget() is window.page(ProofPage)
    assert "No pick to prove yet" in window.page(ProofPage).title.text()
