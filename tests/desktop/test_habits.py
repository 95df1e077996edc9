"""The window's habits: finder, help, undo that says what, recent books, drag and drop, memory, what is asked and told."""

import itertools
import threading
from collections.abc import Callable
from importlib.metadata import version as metadata_version
from pathlib import Path

import pytest
from PySide6.QtCore import QMimeData, QPoint, QPointF, Qt, QUrl
from PySide6.QtGui import QAction, QDragEnterEvent, QDropEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QLabel, QMenu, QWidget
from pytestqt.qtbot import QtBot

from niente import __version__
from niente.core.model.plan import read_plan
from niente.core.model.rig_card import RigCard
from niente.core.planning.templates import grid_project, plan_for
from niente.desktop.actions.finder import Finder, found, searched_words
from niente.desktop.actions.guide import TOPICS, Guide, page_of, title_of, topic_of
from niente.desktop.actions.menus import MENUS, letters_for, marked
from niente.desktop.actions.registry import SPECS
from niente.desktop.app.focus_ring import FocusRing
from niente.desktop.app.window import NAMES, PAGE_OF, Window
from niente.desktop.dialogs.about import About, libraries
from niente.desktop.pages.answer.page import AnswerPage
from niente.desktop.pages.plan.page import PlanPage
from niente.desktop.pages.rig.page import RigPage
from niente.desktop.services.preferences import MAX_BOOKS, Preferences
from niente.desktop.session.session import Session
from tests.desktop.conftest import drain
from tests.waiting import PATIENCE_S


def entries_of(window: Window, menu: str) -> list[QAction]:
    """What stands in a menu, rules included."""
    head = next(one for one in window.menuBar().actions() if one.text().replace("&", "") == menu)
    return list(head.menu().actions())  # type: ignore[attr-defined]


def words_of(entry: QAction) -> str:
    """An entry's words, without the mark of its letter and its keys."""
    return entry.text().partition("\t")[0].replace("&", "")


# -- the registry --------------------------------------------------------------------------------------------------


def test_every_action_stands_in_a_menu_with_words_of_its_own(read_window: Window) -> None:
    texts = [spec.text for spec in SPECS]
    assert len(set(texts)) == len(texts)
    assert {spec.menu for spec in SPECS} == set(MENUS)
    for spec in SPECS:
        assert spec.text in [words_of(entry) for entry in entries_of(read_window, spec.menu)]


def test_menus_have_a_letter_each_rules_between_groups_and_quit_comes_last(read_window: Window) -> None:
    heads = read_window.menuBar().actions()
    letters = [head.text()[head.text().index("&") + 1].lower() for head in heads]
    assert len(set(letters)) == len(letters)
    book = entries_of(read_window, "Book")
    assert words_of(book[0]) == "New book …"
    assert words_of(book[-1]) == "Quit"
    for menu in MENUS:
        entries = entries_of(read_window, menu)
        marks = [entry.text()[entry.text().index("&") + 1].lower() for entry in entries if not entry.isSeparator()]
        assert len(set(marks)) == len(marks), menu
        rules = [entry.isSeparator() for entry in entries]
        assert not rules[0]
        assert not rules[-1]
        assert not any(one and other for one, other in itertools.pairwise(rules))


def test_a_letter_chooses_an_entry_of_an_open_menu(read_window: Window) -> None:
    menu = next(head.menu() for head in read_window.menuBar().actions() if head.text() == "&View")
    assert isinstance(menu, QMenu)
    margin = read_window.actions_["view.margin"]
    stood = margin.isChecked()
    menu.popup(read_window.mapToGlobal(QPoint(10, 10)))
    QTest.keyClick(menu, Qt.Key.Key_M)
    assert margin.isChecked() is not stood
    entry = next(one for one in menu.actions() if words_of(one) == "Margin")
    assert entry.isChecked() is margin.isChecked()
    assert entry.text().endswith("\tF9")
    entry.trigger()
    assert margin.isChecked() is stood
    assert entry.isChecked() is stood


def test_an_entry_says_what_its_action_says_now(read_window: Window) -> None:
    undo = read_window.actions_["edit.undo"]
    entry = next(one for one in entries_of(read_window, "Edit") if words_of(one).startswith("Undo"))
    undo.setText("Undo R & D")
    assert entry.text().startswith("&Undo R && D")
    assert not entry.isEnabled()
    undo.setText("Undo")
    assert words_of(entry) == "Undo"


def test_each_text_of_a_menu_gets_a_letter_of_its_own_while_there_are_any() -> None:
    assert letters_for(["Run", "Run", "Run", "Run"]) == ["r", "u", "n", ""]
    assert letters_for(["Ab", "Cb", "Ca"]) == ["a", "b", "c"]
    assert letters_for(["Ab", "Ac", "A", "C"]) == ["b", "", "a", "c"]
    assert letters_for(["Ab", "Ca", "Ac"]) == ["b", "c", "a"]  # the first gives its letter up: it has another
    assert marked("Run", "") == "Run"
    assert marked("Plan what is missing", "w") == "Plan &what is missing"
    assert marked("Resume", "z") == "Resume"


def test_about_names_version_licence_and_libraries(read_window: Window) -> None:
    about = About(read_window)
    words = " ".join(one.text() for one in about.findChildren(QLabel))
    assert __version__ in words
    assert "MIT" in words
    assert "Open Font" in words
    assert dict(libraries())["numpy"] == metadata_version("numpy")


@pytest.mark.parametrize("spec", SPECS, ids=lambda spec: spec.name)
def test_every_action_has_its_page_of_help(spec: object) -> None:
    text = page_of(spec.help)  # type: ignore[attr-defined]
    assert f"*{spec.text}*" in text or spec.text in text  # type: ignore[attr-defined]


@pytest.mark.parametrize(("name", "where"), [("Run", "traces"), ("Plan", "table"), ("Map", "view"), ("Answer", "choice")])
def test_context_menus_come_from_the_registry(read_window: Window, name: str, where: str) -> None:
    offered = getattr(read_window.pages[NAMES.index(name)], where)
    offered = getattr(offered, "scatter", offered)
    assert offered.contextMenuPolicy() == Qt.ContextMenuPolicy.ActionsContextMenu
    assert len(offered.actions()) >= 3
    for action in offered.actions():
        assert action is read_window.actions_[action.objectName()]


# -- the finder ------------------------------------------------------------------------------------------------------

TEXTS = {spec.name: searched_words(spec, spec.text) for spec in SPECS}


@pytest.mark.parametrize(
    ("words", "wanted"),
    [
        ("hold now", "run.pause_now"),
        ("ps nw", "run.pause_now"),
        ("stop", "run.stop"),
        ("stopp", "run.stop"),
        ("dark", "view.dusk"),
        ("export", "plan.save"),
        ("save picture", "map.picture"),
        ("screenshot", "map.picture"),
        ("new book", "rig.copy"),
        ("version", "help.about"),
        ("manual", "help.here"),
        ("map", "page.map"),
        ("undo", "edit.undo"),
        ("write a note", "run.note"),
        ("keys", "help.keys"),
    ],
)
def test_a_few_letters_find_it(words: str, wanted: str) -> None:
    assert wanted in found(words, TEXTS)[:2]


def test_nothing_fits_nonsense_and_no_words_give_all() -> None:
    assert not found("qqqzzz", TEXTS)
    assert found("", TEXTS) == list(TEXTS)


def test_the_finder_does_what_is_found_by_keyboard(swept_window: Window) -> None:
    swept_window.actions_["edit.find"].trigger()
    finder = swept_window.findChild(Finder)
    assert finder is not None
    QTest.keyClicks(finder.line, "answer")
    QTest.keyClick(finder.line, Qt.Key.Key_Return)
    assert not finder.isVisible()
    assert swept_window.stack.currentWidget() is swept_window.page(AnswerPage)
    swept_window.actions_["edit.find"].trigger()
    assert swept_window.findChildren(Finder) == [finder]
    assert not finder.line.text()
    QTest.keyClick(finder.line, Qt.Key.Key_Down)
    assert finder.list.currentRow() == 1
    finder.hide()


def test_the_finder_leaves_alone_what_cannot_be_done(read_window: Window) -> None:
    read_window.actions_["edit.find"].trigger()
    finder = read_window.findChild(Finder)
    assert finder is not None
    QTest.keyClicks(finder.line, "skip")
    QTest.keyClick(finder.line, Qt.Key.Key_Return)
    assert finder.isVisible()  # no run to skip: nothing happens, and the finder waits for other words
    finder.hide()


# -- help ------------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("name", NAMES)
def test_help_opens_at_the_page_in_focus(read_window: Window, name: str) -> None:
    read_window.go_to(NAMES.index(name))
    assert topic_of(read_window.pages[NAMES.index(name)], "window") == name.lower()
    read_window.actions_["help.here"].trigger()
    guide = read_window.findChild(Guide)
    assert guide is not None
    assert guide.isVisible()
    assert title_of(name.lower()) == name
    assert guide.text.toPlainText().startswith(name)
    guide.close()


def test_help_belongs_to_the_thing_in_focus(read_window: Window) -> None:
    plan, rig = read_window.page(PlanPage), read_window.page(RigPage)
    assert topic_of(plan.axes.rows["voltage_offset_mv"].first, "window") == "safety"
    assert topic_of(plan.axes.rows["sustained_power_w"].first, "window") == "plan"
    assert topic_of(rig.scale, "window") == "noise"
    assert topic_of(read_window.pulse.stop, "window") == "run"
    assert topic_of(None, "map") == "map"


def test_every_topic_has_a_page_and_links_lead_somewhere(read_window: Window) -> None:
    for topic in TOPICS:
        assert page_of(topic).startswith("# ")
    guide = Guide.over(read_window)
    guide.open_at("rig")
    guide.text.anchorClicked.emit(QUrl("safety.md"))
    assert guide.text.toPlainText().startswith("Safety")
    guide.close()


def test_the_sheet_of_keys_comes_from_the_registry() -> None:
    sheet = page_of("keys")
    for spec in SPECS:
        assert spec.text.removesuffix(" …") in sheet
        assert not spec.keys or f"| {spec.keys} |" in sheet


# -- edits -----------------------------------------------------------------------------------------------------------


def test_undo_says_what(open_window: Callable[..., Window]) -> None:
    window = open_window()
    undo, redo = window.actions_["edit.undo"], window.actions_["edit.redo"]
    assert not undo.isEnabled()
    page = window.page(PlanPage)
    page.rules.repeats.setValue(2)
    assert undo.text() == "Undo change of the repeats"
    undo.trigger()
    assert redo.text() == "Redo change of the repeats"
    assert undo.text() == "Undo"


# -- books and plans -------------------------------------------------------------------------------------------------


def drop(window: Window, *files: Path) -> bool:
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(file)) for file in files])
    at, copy = QPoint(50, 50), Qt.DropAction.CopyAction
    button, none = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    enter = QDragEnterEvent(at, copy, data, button, none)
    enter.ignore()
    window.dragEnterEvent(enter)
    if enter.isAccepted():
        window.dropEvent(QDropEvent(QPointF(at), copy, data, button, none))
    return enter.isAccepted()


def test_a_plan_is_taken_from_a_file_and_given_back(
    open_window: Callable[..., Window], card: RigCard, tmp_path: Path, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
) -> None:
    window = open_window()
    plan = plan_for(card, grid_project(card).question)
    file = tmp_path / "three runs.json"
    import msgspec

    file.write_bytes(msgspec.structs.replace(plan, entries=plan.steps[:3]).to_json())
    assert drop(window, file)
    qtbot.waitUntil(lambda: window.session.planner.file == file)
    page = window.page(PlanPage)
    assert page.title.text() == "three runs"
    assert len(page.model.rows) == 3
    assert window.actions_["edit.undo"].text() == "Undo plan from three runs.json"
    window.actions_["edit.undo"].trigger()
    assert page.title.text() == "Quiet point"
    window.actions_["edit.redo"].trigger()
    assert len(page.model.rows) == 3
    out = tmp_path / "out.json"
    monkeypatch.setattr("niente.desktop.dialogs.prompts.where_to_save_plan", lambda _: out)
    window.actions_["plan.save"].trigger()
    assert read_plan(out.read_bytes()) == window.session.plan
    page.rules.repeats.setValue(2)
    assert window.session.planner.file is None  # an edit of the question makes its own plan again
    assert page.title.text() == "Quiet point"


@pytest.mark.parametrize("text", [b"", b"{", b'{"format": "niente-plan/1"}', b"\xff\xfe"])
def test_a_plan_that_is_none_changes_nothing(open_window: Callable[..., Window], tmp_path: Path, text: bytes) -> None:
    window = open_window()
    before = window.session.plan
    file = tmp_path / "bad.json"
    file.write_bytes(text)
    window.file_commands.open(file)
    assert "not a plan that Niente can read" in window.message.text
    assert window.session.plan is before


def test_what_cannot_be_read_or_written_is_said(open_window: Callable[..., Window], tmp_path: Path) -> None:
    window = open_window()
    window.plan_commands.take_plan(tmp_path / "nowhere.json")
    assert "cannot be read" in window.message.text
    window.plan_commands.save_plan(tmp_path / "no folder" / "plan.json")
    assert "could not be written" in window.message.text


def test_other_files_are_not_welcome(open_window: Callable[..., Window], tmp_path: Path) -> None:
    window = open_window()
    picture, book = tmp_path / "cat.png", tmp_path / "a.niente"
    for file in (picture, book):
        file.touch()
    assert not drop(window, picture)
    assert not drop(window, book, picture)


def test_a_dropped_book_opens_in_place(open_window: Callable[..., Window], tmp_path: Path, qtbot: QtBot) -> None:
    window = open_window()
    opened: list[Path] = []
    window._reopen = opened.append
    other = tmp_path / "other.niente"
    other.touch()
    assert drop(window, other)
    qtbot.waitUntil(lambda: opened == [other])


def test_books_opened_lately_are_listed(open_window: Callable[..., Window], tmp_path: Path) -> None:
    other = tmp_path / "other.niente"
    other.touch()
    Preferences().add_book(other)
    window = open_window()
    opened: list[Path] = []
    window._reopen = opened.append
    window.file_commands.list_recent()
    entries = window.file_commands.recent.actions()
    assert [entry.text() for entry in entries] == ["other"]  # and not the book that is open
    entries[0].trigger()
    assert opened == [other]


# -- memory ----------------------------------------------------------------------------------------------------------


def test_memory_keeps_few_books_latest_first_and_forgets_lost_ones(tmp_path: Path) -> None:
    preferences = Preferences(tmp_path / "window.ini")
    books = [tmp_path / f"{n}.niente" for n in range(MAX_BOOKS + 3)]
    for book in books:
        book.touch()
        preferences.add_book(book)
    preferences.add_book(books[5])
    again = Preferences(tmp_path / "window.ini")
    preferences.sync()
    kept = again.books()
    assert len(kept) == MAX_BOOKS
    assert kept[0] == books[5]
    books[5].unlink()
    assert books[5] not in again.books()


def test_the_demos_book_is_not_remembered(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path))
    demo = tmp_path / "niente" / "Larkspur-demo-1.niente"
    demo.parent.mkdir()
    demo.touch()
    preferences = Preferences(tmp_path / "window.ini")
    preferences.add_book(demo)
    assert preferences.books() == []


def test_the_window_comes_back_as_it_was(open_window: Callable[..., Window], tmp_path: Path) -> None:
    window = open_window()
    window.resize(1180, 760)
    window.show_margin(False)
    splitter = window.page(PlanPage).splitters()[0]
    window.go_to(NAMES.index("Plan"))
    QApplication.processEvents()
    splitter.setSizes([320, 600])
    sizes = splitter.sizes()
    window._remember()
    window.session.close()
    other = open_window(book=tmp_path / "second.niente")
    assert other.height() == 760  # the width is held to the screen, which is small offscreen
    assert not other.margin.isVisible()
    other.go_to(NAMES.index("Plan"))
    QApplication.processEvents()
    again = other.page(PlanPage).splitters()[0].sizes()
    assert again[0] / sum(again) == pytest.approx(sizes[0] / sum(sizes), abs=0.02)
    other.show_margin(True)


# -- what takes long, and what is told ---------------------------------------------------------------------------------


def test_opening_can_be_cancelled(qtbot: QtBot) -> None:
    session = Session()
    told: list[str] = []
    begun = threading.Event()
    ended: list[bool] = []
    session.progress.connect(told.append)
    session.cancelled.connect(lambda: ended.append(True))

    def prepare(progress: Callable[[str], None], listener: object) -> object:
        for step in range(10_000):
            progress(f"step {step}")
            begun.set()
            threading.Event().wait(0.002)
        raise AssertionError("was not cancelled")

    session.open(prepare, start=False)  # type: ignore[arg-type]
    assert begun.wait(PATIENCE_S)
    session.cancel_opening()
    qtbot.waitUntil(lambda: ended == [True])
    assert session.bench is None
    session.close()


def test_work_that_takes_long_shows_itself_and_can_be_cancelled(swept_window: Window, qtbot: QtBot) -> None:
    working, session = swept_window.working, swept_window.session
    session.working.emit(True)
    assert not working.shows()
    qtbot.waitUntil(working.shows)
    asked = session.analyst._newest
    working.cancel.click()
    assert not working.shows()
    assert session.analyst._newest == asked + 1  # the answer under way is then a stale one
    session.working.emit(True)
    session.working.emit(False)
    assert not working._patience.isActive()  # what was quick is not mentioned
    assert not working.shows()


def test_the_end_of_a_plan_is_told(open_window: Callable[..., Window], card: RigCard, qtbot: QtBot) -> None:
    import msgspec

    window = open_window()
    plan = plan_for(card, grid_project(card).question)
    window.session.planner.take(msgspec.structs.replace(plan, entries=plan.steps[:2]), None)
    window.actions_["plan.start"].trigger()
    desktop_bus = window.desktop_bus
    qtbot.waitUntil(lambda: bool(desktop_bus.notified))  # type: ignore[attr-defined]
    assert desktop_bus.notified == [("Larkspur", "The plan is done.", False)]  # type: ignore[attr-defined]


def test_a_guard_is_told_once_and_urgently(open_window: Callable[..., Window], card: RigCard, qtbot: QtBot) -> None:
    import msgspec

    window = open_window()
    plan = plan_for(card, grid_project(card).question)
    guard = msgspec.structs.replace(plan.guards[0], trip=40.0, clear=30.0)
    heavy = next(step for step in plan.steps if step.load == "vector")
    window.session.planner.take(msgspec.structs.replace(plan, entries=(heavy,), guards=(guard,)), None)
    window.actions_["plan.start"].trigger()
    desktop_bus = window.desktop_bus
    qtbot.waitUntil(lambda: bool(desktop_bus.notified) and not window.session.busy())  # type: ignore[attr-defined]
    drain(window.session)
    assert [(title, urgent) for title, _, urgent in desktop_bus.notified] == [("A guard has ended a run", True)]  # type: ignore[attr-defined]


def test_the_ring_stands_round_what_has_the_focus(read_window: Window, qtbot: QtBot) -> None:
    read_window.activateWindow()
    read_window.go_to(NAMES.index("Plan"))
    field: QWidget = read_window.page(PlanPage).axes.rows["sustained_power_w"].first
    ring = read_window.findChild(FocusRing)
    assert ring is not None
    ring._moved(None, field)
    assert ring.widget() is field
    QApplication.processEvents()
    picture = read_window.grab().toImage()
    corner = field.mapTo(read_window, QPoint(field.width() // 2, -1))
    accent = read_window.look.palette.accent.lower()
    near = {picture.pixelColor(corner.x(), corner.y() + dy).name() for dy in (-2, -1, 0, 1)}
    assert accent in near
    ring._moved(field, None)
    assert ring.widget() is None


def test_pages_carry_out_what_the_window_sends_them(read_window: Window) -> None:
    """An action that is sent to a page without a handler would do nothing but fail."""
    handled = {action: page.name for page in read_window.pages for action in page.handlers()}
    assert handled == PAGE_OF
    assert handled.keys() <= {spec.name for spec in SPECS}
