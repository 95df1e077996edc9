"""The window: passage, message bar, pages, margin and pulse."""

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QTimer
from PySide6.QtGui import QCloseEvent
from PySide6.QtWidgets import (
    QApplication,
    QFileDialog,
    QHBoxLayout,
    QInputDialog,
    QMainWindow,
    QMessageBox,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from niente.core.bench.engine import Command
from niente.desktop.actions import Actions
from niente.desktop.session import Notice, Session
from niente.desktop.theme import Palette
from niente.desktop.widgets.labels import label, rule
from niente.desktop.widgets.margin import Margin
from niente.desktop.widgets.message_bar import MessageBar
from niente.desktop.widgets.page import Page
from niente.desktop.widgets.passage import Passage
from niente.desktop.widgets.pulse import Pulse

WORDS_MS = 250
"""Passage and margin follow the samples at the pace of reading, not of repainting."""
NAMES = ["Plan", "Run", "Map", "Choose"]


class Window(QMainWindow):
    """One window on one session. The pages are made once the window shows: plots are slow to import."""

    def __init__(self, session: Session, palette: Palette, reopen: Callable[[Path], object] | None = None) -> None:
        super().__init__()
        self.session = session
        self._palette = palette
        self._reopen = reopen
        self.setWindowTitle("Niente")
        self.resize(1280, 800)
        self.setMinimumSize(1000, 640)
        self.pages: list[Page] = []
        self.actions_ = Actions(self, self._deeds())
        self.passage = Passage(NAMES, palette)
        self.passage.chosen.connect(self.go_to)
        self.message = MessageBar()
        self.message.acted.connect(lambda name: self.actions_[name].trigger())
        self.stack = QStackedWidget()
        self.waiting = label("Opening …", "lead")
        self.waiting.setContentsMargins(24, 24, 24, 24)
        self.stack.addWidget(self.waiting)
        self.margin = Margin()
        self.pulse = Pulse(session, self.actions_["run.stop"])
        self.pulse.paced.connect(self._set_pace)
        self._words_rest = QTimer(self)
        self._words_rest.setSingleShot(True)
        self._lay_out()
        self._build_menus()
        session.opened.connect(self._opened)
        session.notice.connect(self._show_notice)
        session.broke.connect(self._show_bug)
        session.progress.connect(self.waiting.setText)
        session.sampled.connect(self._sampled)
        for signal in (session.answered, session.run_changed, session.project_changed, session.state_changed):
            signal.connect(self._refresh_frame)

    def _lay_out(self) -> None:
        middle = QHBoxLayout()
        middle.setContentsMargins(0, 0, 0, 0)
        middle.setSpacing(0)
        middle.addWidget(self.stack, 1)
        middle.addWidget(self.margin)
        whole = QWidget()
        rows = QVBoxLayout(whole)
        rows.setContentsMargins(0, 0, 0, 0)
        rows.setSpacing(0)
        rows.addWidget(self.passage)
        rows.addWidget(self.message)
        rows.addLayout(middle, 1)
        rows.addWidget(rule())
        rows.addWidget(self.pulse)
        self.setCentralWidget(whole)

    def _build_menus(self) -> None:
        for name, actions in self.actions_.by_menu().items():
            menu = self.menuBar().addMenu(name)
            menu.addActions(actions)

    def _deeds(self) -> dict[str, Callable[[], object]]:
        """Return what each action does."""
        tell, session = self.session.tell, self.session
        return {
            "book.open": self._open_book,
            "book.quit": self.close,
            "edit.undo": session.undo.undo,
            "edit.redo": session.undo.redo,
            "page.plan": lambda: self.go_to(0),
            "page.run": lambda: self.go_to(1),
            "page.map": lambda: self.go_to(2),
            "page.choose": lambda: self.go_to(3),
            "view.margin": lambda: self.margin.setVisible(not self.margin.isVisible()),
            "plan.start": self._start,
            "run.hold_after": lambda: tell(Command.HOLD_AFTER),
            "run.hold_now": lambda: tell(Command.HOLD_NOW),
            "run.go_on": lambda: tell(Command.GO_ON),
            "run.skip": lambda: tell(Command.SKIP),
            "run.note": self._note,
            "run.stop": session.stop,
        }

    # -- pages -----------------------------------------------------------------------------------------------------

    def build_pages(self) -> None:
        """Make the pages; called once the window shows."""
        if self.pages:
            return
        from niente.desktop.pages.choose.page import ChoosePage
        from niente.desktop.pages.map.page import MapPage
        from niente.desktop.pages.plan.page import PlanPage
        from niente.desktop.pages.run.page import RunPage

        self.pages = [
            PlanPage(self.session, self.actions_),
            RunPage(self.session, self.actions_, self._palette),
            MapPage(self.session, self._palette),
            ChoosePage(self.session, self._palette),
        ]
        for page in self.pages:
            self.stack.addWidget(page)

    def go_to(self, place: int) -> None:
        """Show a page."""
        if not self.pages or self.session.bench is None:
            return
        self.stack.setCurrentWidget(self.pages[place])
        self.passage.show_page(place)
        self._refresh_frame()

    def page(self, name: str) -> Page:
        """Return a page by name."""
        return self.pages[NAMES.index(name)]

    def _current(self) -> Page | None:
        shown = self.stack.currentWidget()
        return shown if isinstance(shown, Page) else None

    def _opened(self) -> None:
        self.build_pages()
        self.pulse.attach()
        book = self.session.bench.writer.path if self.session.bench is not None else None
        card = self.session.card
        self.setWindowTitle(f"{book.stem if book else ''} — {card.title if card else ''} — Niente")
        self.go_to(1 if self.session.busy() else 0)
        self.setFocus()

    def _sampled(self) -> None:
        """Show what came since the last time; the bridge calls about thirty times a second."""
        self.pulse.refresh()
        shown = self._current()
        if shown is not None and shown.name == "Run":
            shown.show_frame()  # type: ignore[attr-defined]
        if not self._words_rest.isActive():
            self._words_rest.start(WORDS_MS)
            self._refresh_frame()

    def _refresh_frame(self) -> None:
        """Bring passage and margin up to date."""
        for page, entry in zip(self.pages, self.passage.entries, strict=False):
            entry.set_line(page.live_line())
            if entry.finished != page.finished():
                entry.finished = page.finished()
                self.passage.update()
        shown = self._current()
        if shown is not None:
            self.margin.show_words(shown.margin())

    # -- deeds -----------------------------------------------------------------------------------------------------

    def _start(self) -> None:
        self.session.start()
        self.go_to(1)

    def _set_pace(self, pace: float | None) -> None:
        if self.session.bench is not None:
            self.session.bench.set_pace(pace)

    def _note(self) -> None:
        text, given = QInputDialog.getText(self, "Note", "Written into the book with this moment's time:")
        if given and text.strip():
            self.session.note(text.strip())

    def _open_book(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "Open book", "", "Niente books (*.niente)")
        if name and self._reopen is not None and self._may_end():
            self._reopen(Path(name))

    def _show_notice(self, notice: Notice) -> None:
        action = self.actions_[notice.action].text() if notice.action else ""
        self.message.show_notice(notice, "Go on" if notice.action == "plan.start" else action)
        if not self.pages or self.session.bench is None:
            self.waiting.setText(notice.text)

    def _show_bug(self, report: str) -> None:
        box = QMessageBox(
            QMessageBox.Icon.Warning,
            "Niente",
            "Something in Niente went wrong. The rig is looked after, and every sample is kept.",
            parent=self,
        )
        box.setDetailedText(report)
        box.open()

    def _may_end(self) -> bool:
        """Ask before a running plan is ended; keeping on is the default."""
        if not self.session.busy():
            return True
        answer = QMessageBox.question(
            self,
            "A plan is running",
            "A plan is running. Stop it and restore the rig? Every sample is kept, and the plan can go on later.",
            QMessageBox.StandardButton.Yes | QMessageBox.StandardButton.No,
            QMessageBox.StandardButton.No,
        )
        return answer == QMessageBox.StandardButton.Yes

    def closeEvent(self, event: QCloseEvent) -> None:
        """Ask, then stop and restore."""
        if not self._may_end():
            event.ignore()
            return
        self.session.close()
        event.accept()
        QTimer.singleShot(0, QApplication.quit)
