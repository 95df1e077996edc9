"""The Answer page: the same words as the terminal's, one answer a question, and pictures that show what they should."""

from collections.abc import Callable
from functools import partial
from pathlib import Path

import msgspec
import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import QColor, QImage
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QPushButton
from pytestqt.qtbot import QtBot

from niente.core.answers.answer_text import answer_as_text
from niente.core.model.answer_document import (
    AnswerCurve,
    Bar,
    Bars,
    Column,
    CurvePoint,
    Curves,
    Depths,
    Differences,
    Mark,
    Rail,
    Ruled,
    Spread,
    Spreads,
    Track,
    Value,
    value_of,
)
from niente.core.model.hand_over_card import read_card
from niente.core.model.limits import Limits
from niente.core.model.project import Project
from niente.core.planning.templates import first_question, plan_for
from niente.core.selection.explanation import candidate_text
from niente.desktop.app.main import look_of, make_app
from niente.desktop.app.window import NAMES, Window
from niente.desktop.pages.answer.page import AnswerPage
from niente.desktop.pages.answer.picture import AnswerPicture
from niente.desktop.services.preferences import Preferences
from niente.desktop.services.theme import DUSK, PAPER, PaletteChoice
from niente.desktop.widgets.blocks import Buttons, spoken
from tests.conftest import larkspur_rig
from tests.core.planning.plans import run, short

BARS = Bars(
    (
        Bar("Heavy", "12 cores", 23.0, 80.0, value_of(84.0, 0.6), 85.0, "sustained limit"),
        Bar("Light", "one core", 23.0, 35.0, value_of(44.0, 1.4), 46.0, "clock cap", open=True),
    ),
    90.0,
    95.0,
    (Track("Power limit, 165 W", "heavy", 1.0, "reached", True), Track("Guard", "heavy", 0.8, "11 K", False)),
)
SPREAD = Spread("Heavy", "equal duty, 60 %", value_of(-3.1, 0.6), (-3.4, -2.8), "Better by 3.1 ± 0.6 K", "2 pairs.")
DIFFERENCES = Differences(
    "filter in",
    "filter out",
    (Spreads("Judged by degrees", "K", 1, (SPREAD,), 0.5, "B cooler by, K", "B warmer"),),
    ((0, 83.0, 23.2), (1, 80.0, 23.3), (1, 80.2, 23.4), (0, 83.1, 23.5)),
)
RAIL = Rail("Heavy", "12 cores", (Mark(0.0, 900.0, False), Mark(-60.0, 40.0, True, 3)), Value(-68.0, -72.0, -64.0), leads=True)
DEPTHS = Depths((RAIL,), -20.0, Value(-42.0, -57.0, -25.0), (RAIL, Rail("2", "", (), Value(-108.0, -144.0, -85.0))))
POINTS = tuple(CurvePoint(float(x), value_of(90.0 + x, 0.5), failed=x == 2) for x in range(4))
CURVES = Curves(
    Column("x", "Cap", "°C", 0),
    Column("y", "Work", "%", 0),
    (AnswerCurve("heavy", POINTS, leads=True),),
    (Ruled("knee", x=2.0),),
)


def how_many(image: QImage, wanted: QColor) -> int:
    """How many pixels have a colour, as far as smooth edges let it."""
    image = image.convertToFormat(QImage.Format.Format_RGB32)
    rows = np.frombuffer(image.constBits(), np.uint8).reshape(image.height(), image.bytesPerLine())
    pixels = rows[:, : 4 * image.width()].reshape(-1, 4)[:, :3].astype(int)
    away = np.abs(pixels - (wanted.blue(), wanted.green(), wanted.red())).sum(axis=1)
    return int((away < 40).sum())


@pytest.mark.parametrize("size", [(940, 560), (640, 360), (2400, 1400)])
@pytest.mark.parametrize("palette", [PaletteChoice.PAPER, PaletteChoice.DUSK])
@pytest.mark.parametrize(("picture", "marks"), [(BARS, "ink"), (DIFFERENCES, "accent"), (DEPTHS, "guard"), (CURVES, "accent")])
def test_pictures_show_their_marks_in_both_looks_at_all_sizes(
    qtbot: QtBot, picture: Bars, marks: str, palette: PaletteChoice, size: tuple[int, int]
) -> None:
    look = look_of(make_app([]), Preferences())
    look.apply(palette)
    shown = AnswerPicture(look)
    qtbot.addWidget(shown)
    shown.show_picture(picture, "words")
    shown.resize(*size)
    wanted = QColor(getattr(DUSK if palette == PaletteChoice.DUSK else PAPER, marks))
    assert how_many(shown.grab().toImage(), wanted) > 16
    look.apply(PaletteChoice.PAPER)


@pytest.fixture(scope="module")
def two_questions(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A book with a baseline that was run to its end, and a fan sweep that was cut short."""
    book = tmp_path_factory.mktemp("answers") / "two.niente"
    card = larkspur_rig().describe()
    run(plan_for(card, first_question(card, "baseline")), larkspur_rig(), book)
    sweep = plan_for(card, first_question(card, "fan-sweep"))
    run(short(msgspec.structs.replace(sweep, entries=sweep.entries[:8]), 20.0), larkspur_rig(), book)
    return book


@pytest.fixture
def asked(open_window: Callable[..., Window], two_questions: Path, tmp_path: Path, qtbot: QtBot) -> Window:
    """A window that asks for the baseline."""
    copy = tmp_path / "copy.niente"
    copy.write_bytes(two_questions.read_bytes())
    card = larkspur_rig().describe()
    window = open_window(book=copy, project=Project(card.name, first_question(card, "baseline"), Limits()))
    window.go_to(NAMES.index("Answer"))
    page = window.page(AnswerPage)
    qtbot.waitUntil(lambda: page.current is not None and page.title.text() == page.current.sentence)
    assert len(window.session.documents) == 2
    return window


def test_the_page_says_what_the_terminal_says(asked: Window) -> None:
    page = asked.page(AnswerPage)
    answer = asked.session.documents[0]
    assert answer.question == "baseline"
    assert page.title.text() == answer.sentence
    assert page.lead.text() == answer.lead
    assert page.consequence.text() == answer.consequence
    text = answer_as_text(answer)
    for words in (page.title.text(), page.lead.text(), page.consequence.text()):
        assert words in text
    said = spoken(page.margin())
    for remark in answer.remarks:
        assert remark.words in said
    assert answer.table is not None
    assert [row[0].split(" ")[0] for row in page.document.model.rows] == [row.title.split(" ")[0] for row in answer.table.rows]
    assert page.finished()
    assert page.live_line() == answer.short
    assert isinstance(page.document.picture.shown, Bars)


def test_each_question_of_a_book_keeps_its_answer(asked: Window, qtbot: QtBot) -> None:
    page = asked.page(AnswerPage)
    names = [button.text() for button in page.views.findChildren(QPushButton) if button.isVisible()]
    assert names == ["Baseline", "Fan sweep"]
    fans = next(button for button in page.views.findChildren(QPushButton) if button.text() == "Fan sweep")
    QTest.mouseClick(fans, Qt.MouseButton.LeftButton)
    assert page.current is not None
    assert page.current.question == "fan-sweep"
    assert isinstance(page.document.picture.shown, Curves)
    assert "still to come" not in spoken(page.margin())  # the plan that was run had no more
    asked.plan_commands.choose("cap-sweep")  # another question is asked: its answer leads, the others stay
    qtbot.waitUntil(lambda: asked.session.documents[0].question == "cap-sweep")
    assert {one.question for one in asked.session.documents} == {"baseline", "fan-sweep", "cap-sweep"}


def test_what_makes_it_surer_comes_next_in_the_plan(asked: Window, qtbot: QtBot) -> None:
    page, planner = asked.page(AnswerPage), asked.session.planner
    assert page.current is not None
    assert page.current.surer is not None
    (wanted,) = page.current.surer.steps
    qtbot.waitUntil(lambda: bool(planner.rows))
    before = len(planner.rows)
    asked.actions_["answer.surer"].trigger()
    qtbot.waitUntil(lambda: len(planner.rows) == before + 1)
    assert any(row.step.load == wanted.load and not row.status.closed for row in planner.rows)
    asked.actions_["edit.undo"].trigger()
    qtbot.waitUntil(lambda: len(planner.rows) == before)


@pytest.mark.parametrize("name", ["baseline", "variants", "undervolt-ladder", "capacity-ladder", "soak", "fan-sweep"])
def test_a_picture_that_is_still_to_come_stands_there_in_outline(
    open_window: Callable[..., Window], qtbot: QtBot, name: str
) -> None:
    card = larkspur_rig().describe()
    window = open_window(project=Project(card.name, first_question(card, name), Limits()))
    window.go_to(NAMES.index("Answer"))
    page = window.page(AnswerPage)
    qtbot.waitUntil(lambda: bool(window.session.documents))
    document = page.document
    assert document.empty.isVisible()
    assert "Start the plan" in document.empty.text()
    assert document.picture.isVisible()
    assert document.picture.awaited == name
    drawn = document.picture.grab().toImage()
    lines = drawn.width() * drawn.height() - how_many(drawn, QColor(PAPER.ground))
    assert lines > 240
    assert not document.table or not document.table.isVisible()


def test_a_question_without_a_run_says_so(open_window: Callable[..., Window], qtbot: QtBot) -> None:
    card = larkspur_rig().describe()
    window = open_window(project=Project(card.name, first_question(card, "cap-sweep"), Limits()))
    window.go_to(NAMES.index("Answer"))
    page = window.page(AnswerPage)
    qtbot.waitUntil(lambda: bool(window.session.documents))
    assert "not both been run" in page.title.text()
    assert "No run has been made for it yet" in spoken(page.margin())
    assert not page.finished()


def test_the_pick_is_handed_over_as_a_card(swept_window: Window, tmp_path: Path, qtbot: QtBot) -> None:
    """Written away from the window's thread, in the format of the file's ending; where it cannot be, that is said."""
    swept_window.go_to(NAMES.index("Answer"))
    page, session = swept_window.page(AnswerPage), swept_window.session
    qtbot.waitUntil(lambda: session.answer.choice is not None)
    assert swept_window.actions_["answer.card"].isEnabled()
    assert any(isinstance(block, Buttons) and "answer.card" in block.actions for block in page.margin())
    for ending, begins in ((".pdf", b"%PDF-"), (".html", b"<!doctype html>"), (".json", b"{")):
        file = tmp_path / f"card{ending}"
        page.write_card(file)
        qtbot.waitUntil(file.exists, timeout=20000)
        qtbot.waitUntil(partial(lambda name: name in swept_window.message.text, str(file)), timeout=5000)
        assert file.read_bytes().startswith(begins)
    card = read_card((tmp_path / "card.json").read_bytes())
    assert session.answer.choice is not None
    assert card.sentence == candidate_text(session.answer.choice.pick)
    page.write_card(tmp_path / "nowhere" / "card.pdf")
    qtbot.waitUntil(lambda: "could not be written" in swept_window.message.text, timeout=20000)


def test_without_a_pick_nothing_is_handed_over(open_window: Callable[..., Window]) -> None:
    window = open_window()
    window.go_to(NAMES.index("Answer"))
    assert not window.actions_["answer.card"].isEnabled()
    assert "no pick" in window.actions_["answer.card"].whatsThis()
