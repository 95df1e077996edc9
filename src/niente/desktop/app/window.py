"""The window: passage, message bar, pages, margin and pulse."""

from collections.abc import Callable
from importlib import import_module
from pathlib import Path
from typing import TypeVar

from PySide6.QtCore import QTimer
from PySide6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent, QResizeEvent
from PySide6.QtWidgets import QApplication, QHBoxLayout, QMainWindow, QVBoxLayout, QWidget

from niente.core.model.commands import Command
from niente.core.serving.desktop_bus import DesktopBus
from niente.desktop.actions.enabling import OF_A_CHOICE, OF_CURVES, OF_THE_LIST, Enabling
from niente.desktop.actions.menus import fill_menus
from niente.desktop.actions.registry import Actions
from niente.desktop.app.focus_ring import FocusRing
from niente.desktop.app.margin import Margin
from niente.desktop.app.message_bar import MessageBar
from niente.desktop.app.passage import Passage
from niente.desktop.app.pulse import Pulse
from niente.desktop.app.screens import stay_on_screen
from niente.desktop.app.tab_order import chain
from niente.desktop.app.waiting import Opening, Working
from niente.desktop.app.words import PageWords
from niente.desktop.commands.bench_commands import BenchCommands
from niente.desktop.commands.file_commands import FileCommands, dropped_file
from niente.desktop.commands.plan_commands import PlanCommands
from niente.desktop.commands.rig_commands import Make, RigCommands
from niente.desktop.dialogs import prompts
from niente.desktop.dialogs.about import About
from niente.desktop.pages.page import Page
from niente.desktop.services.preferences import Preferences
from niente.desktop.services.theme import Look, PaletteChoice
from niente.desktop.services.translation import tr
from niente.desktop.session.notices import Ending, Notice, NoticeEnd
from niente.desktop.session.session import Session
from niente.desktop.widgets.labels import rule, upright_rule
from niente.desktop.widgets.page_stack import PageStack

SOLVERS = "scipy.optimize.elementwise"
"""What a page needs for a prediction: it takes a second to import, which is then over before a plan runs."""
LEAST_WIDE_PX, LEAST_HIGH_PX, FOLDS_UNDER_PX = 960, 560, 1000
"""A narrower window folds its margin."""
NAMES = ["Rig", "Plan", "Run", "Map", "Answer", "Fans", "Proof"]
PAGE_OF = {
    **dict.fromkeys((*OF_THE_LIST, "plan.keep", "plan.compare"), "Plan"),
    **dict.fromkeys(("map.run_here", "map.prove", "map.picture", "map.csv", "map.table"), "Map"),
    **dict.fromkeys(OF_CURVES, "Fans"),
    **dict.fromkeys(("proof.run", "proof.soak"), "Proof"),
    **dict.fromkeys((*OF_A_CHOICE, "answer.check"), "Answer"),
    "run.follow": "Run",
}
"""The page that carries an action out; it comes up for it."""
P = TypeVar("P", bound=Page)


class Window(QMainWindow):
    """One window on one session. The pages are made once the window shows: plots are slow to import."""

    def __init__(
        self,
        session: Session,
        look: Look,
        preferences: Preferences,
        reopen: Callable[..., object] | None = None,
        desktop_bus: DesktopBus | None = None,
    ) -> None:
        super().__init__()
        self.session = session
        self.look = look
        self.preferences = preferences
        self.desktop_bus = desktop_bus or DesktopBus()
        self._reopen = reopen
        self.setWindowTitle("Niente")
        self.setAcceptDrops(True)
        self.resize(1280, 800)
        self.setMinimumSize(LEAST_WIDE_PX, LEAST_HIGH_PX)
        self._narrow = False
        self.pages: list[Page] = []
        self.book_wanted: Path | None = None
        """The book that is opened in this window."""
        self.plan_commands = PlanCommands(session, self)
        self.file_commands = FileCommands(session, self, preferences, self.plan_commands, self._leave_for)
        self.rig_commands = RigCommands(session, self, self.file_commands.open_made)
        self.bench_commands = BenchCommands(session, self, preferences, reopen)
        self.actions_ = self.bench_commands.switches = Actions(self, self._commands())
        self.passage = Passage([tr(name) for name in NAMES], look)
        self.passage.chosen.connect(self.go_to)
        self.message = MessageBar()
        self.message.acted.connect(lambda name: self.actions_[name].trigger())
        self.stack = PageStack()
        self.working = Working(session)
        self.opening = Opening(session, self.actions_)
        self.stack.addWidget(self.opening)
        self.margin = Margin(look, self.actions_)
        self.margin.rebuilt.connect(self._order_tabs)
        self.pulse = Pulse(session, self.actions_["run.stop"], look)
        self.pulse.paced.connect(self._set_pace)
        for region, topic in ((self.passage, "window"), (self.margin, "window"), (self.pulse, "run"), (self.message, "window")):
            region.setProperty("help", topic)
        self._words = PageWords(self.passage, self.margin, self.pages, self._current, session.turns)
        self._lay_out()
        self._build_menus()
        self._recall()
        self._ring = FocusRing(self, look)
        session.opened.connect(self._opened)
        session.notice.connect(self._show_notice)
        session.broke.connect(self.show_bug)
        session.sampled.connect(self._sampled)
        session.ended.connect(self._tell_ending)
        session.untrusted.connect(lambda error: self.bench_commands.ask_for_trust(error, self.book_wanted))
        session.command_changed.connect(self._name_window)
        session.proof_wanted.connect(lambda _: self.go_to(NAMES.index("Proof")))
        self._enabling = Enabling(session, self.actions_, self)
        for signal in (session.answered, session.run_changed, session.project_changed, session.state_changed):
            signal.connect(self._words.soon)
        for signal in (session.run_changed, session.state_changed, session.project_changed, session.busy_changed):
            signal.connect(self._enable)
        for signal in (session.command_changed, session.planner.changed):
            signal.connect(self._enable)
        session.hands.changed.connect(self._enable)
        session.hands.over.connect(lambda: self.message.drop("page.run"))
        self._enable()

    def _lay_out(self) -> None:
        middle = QHBoxLayout()
        middle.setContentsMargins(0, 0, 0, 0)
        middle.setSpacing(0)
        middle.addWidget(self.stack.scrolling(), 1)
        self.margin_rule = upright_rule()
        middle.addWidget(self.margin_rule)
        middle.addWidget(self.margin)
        whole = QWidget()
        rows = QVBoxLayout(whole)
        rows.setContentsMargins(0, 0, 0, 0)
        rows.setSpacing(0)
        rows.addWidget(self.passage)
        rows.addLayout(middle, 1)
        rows.addWidget(self.message)  # at the foot: what stands above it does not move
        rows.addWidget(rule())
        rows.addWidget(self.pulse)
        self.setCentralWidget(whole)

    def _build_menus(self) -> None:
        fill_menus(self.menuBar(), self.actions_, self.file_commands.recent)
        self.menuBar().setCornerWidget(self.working)

    def _commands(self) -> dict[str, Callable[[], object]]:
        """Return what each action does."""
        send, session = self.session.send_command, self.session
        pages = {f"page.{name.lower()}": lambda index=index: self.go_to(index) for index, name in enumerate(NAMES)}
        looks = {
            f"view.{palette_choice}": lambda palette_choice=palette_choice: self.apply(palette_choice)
            for palette_choice in PaletteChoice
        }
        on_pages = {action: lambda action=action: self._on_page(action) for action in PAGE_OF}
        return {
            **pages,
            **looks,
            **on_pages,
            **self.bench_commands.actions(),
            "book.open": self.file_commands.open_dialog,
            "book.close": lambda: self._leave_for(None),
            "book.quit": self.close,
            "rig.new": self.rig_commands.new,
            "rig.copy": self.rig_commands.copy,
            "rig.import": self.rig_commands.take_sheet,
            "rig.export": self.rig_commands.save_sheet,
            "rig.part": self.rig_commands.change_part,
            "rig.calibrate": self.rig_commands.calibrate,
            "plan.ask": lambda: self.go_to(NAMES.index("Plan")),
            "plan.open": self.plan_commands.open,
            "plan.save": self.plan_commands.save,
            "edit.undo": self.plan_commands.undo,
            "edit.redo": self.plan_commands.redo,
            "edit.find": self._find,
            "view.margin": lambda: self.show_margin(not self.margin.isVisible()),
            "map.missing": self.plan_commands.plan_missing,
            "plan.start": self._start,
            "run.pause_now": lambda: send(Command.PAUSE_NOW),
            "run.resume": session.resume,
            "run.skip": lambda: send(Command.SKIP),
            "run.repeat": lambda: send(Command.REPEAT),
            "run.note": self._note,
            "run.stop": session.stop,
            "help.here": self._help_here,
            "help.keys": lambda: self._help("keys"),
            "help.about": lambda: About(self).open(),
        }

    # -- what is remembered ------------------------------------------------------------------------------------

    def _recall(self) -> None:
        shape = self.preferences.shape("window")
        if shape is not None:
            self.restoreGeometry(shape)
        stay_on_screen(self)
        self.show_margin(self.preferences.margin_shown)
        self.bench_commands.show_when_lost()
        self.actions_[f"view.{self.look.palette_choice}"].setChecked(True)

    def _remember(self) -> None:
        self.preferences.keep_shape("window", self.saveGeometry())
        for page in self.pages:
            for index, splitter in enumerate(page.splitters()):
                self.preferences.keep_shape(f"{page.name.lower()}_{index}", splitter.saveState())
        self.preferences.sync()

    def apply(self, palette_choice: PaletteChoice) -> None:
        """Apply another look, now and from the next start on."""
        self.preferences.palette_choice = palette_choice
        self.look.apply(palette_choice)
        for other in PaletteChoice:
            self.actions_[f"view.{other}"].setChecked(other == palette_choice)

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Fold the margin where the window gets narrow, and bring it back where it gets wide again."""
        super().resizeEvent(event)
        self.margin.fit_to(self.width())
        narrow = self.width() < FOLDS_UNDER_PX
        if narrow != self._narrow:
            self._narrow = narrow
            self.show_margin(self.preferences.margin_shown and not narrow)

    def show_margin(self, shown: bool) -> None:
        """Show or hide the margin; what is done in a narrow window is for as long as it is narrow."""
        self.margin.setVisible(shown)
        self.margin_rule.setVisible(shown)
        self.actions_["view.margin"].setChecked(shown)
        if not self._narrow:
            self.preferences.margin_shown = shown

    # -- pages -----------------------------------------------------------------------------------------------------

    def build_pages(self) -> None:
        """Make the pages; called once the window shows."""
        if self.pages:
            return
        from niente.desktop.pages.answer.page import AnswerPage
        from niente.desktop.pages.fans.page import FansPage
        from niente.desktop.pages.map.page import MapPage
        from niente.desktop.pages.plan.page import PlanPage
        from niente.desktop.pages.proof.page import ProofPage
        from niente.desktop.pages.rig.page import RigPage
        from niente.desktop.pages.run.page import RunPage

        import_module(SOLVERS)
        parts = (self.session, self.actions_, self.look)
        rig = RigPage(*parts, self.plan_commands)
        self.pages += [
            rig,
            PlanPage(*parts, self.plan_commands),
            RunPage(*parts),
            MapPage(*parts, self.plan_commands),
            AnswerPage(*parts, self.plan_commands),
            FansPage(*parts, self.plan_commands),
            ProofPage(*parts, self.plan_commands),
        ]
        rig.variant_wanted.connect(self.rig_commands.become)
        rig.part_chosen.connect(self.rig_commands.change_part)
        for page in self.pages:
            self.stack.addWidget(page)
            page.margin_changed.connect(self._words.now)
            for index, splitter in enumerate(page.splitters()):
                shape = self.preferences.shape(f"{page.name.lower()}_{index}")
                if shape is not None:
                    splitter.restoreState(shape)

    def go_to(self, index: int) -> None:
        """Show a page."""
        if not self.pages or self.session.bench is None:
            return
        self.look.finish()
        self.stack.setCurrentWidget(self.pages[index])
        self.passage.show_page(index)
        self.message.drop(f"page.{NAMES[index].lower()}")  # it only led here
        self._enable()
        self._words.now()
        self._order_tabs()

    def _order_tabs(self) -> None:
        shown = self.stack.currentWidget() or self.opening
        margin = self.margin.currentWidget() or self.margin
        chain([self.passage, shown, margin, self.message, self.pulse, self.working])

    def page(self, kind: type[P]) -> P:
        """Return the page of a kind."""
        return next(page for page in self.pages if isinstance(page, kind))

    def _current(self) -> Page | None:
        shown = self.stack.currentWidget()
        return shown if isinstance(shown, Page) else None

    def _enable(self) -> None:
        shown = self._current()
        self._enabling.look(shown.name if shown is not None else "", [one for page in self.pages for one in page.editors()])
        self.pulse.show_stop(self.session.busy())

    def _on_page(self, action: str) -> None:
        """Go to the page that carries an action out, and let it."""
        if self.pages and self.session.bench is not None:
            index = NAMES.index(PAGE_OF[action])
            self.go_to(index)
            self.pages[index].handlers()[action]()

    def _opened(self) -> None:
        self.message.end(NoticeEnd.BOOK_OPENS)
        self.build_pages()
        if self.session.bench is not None:
            self.preferences.add_book(self.session.bench.path)
            self.session.bench.set_when_lost(self.preferences.when_lost)
        self._name_window()
        self.go_to(NAMES.index("Run" if self.session.busy() else "Plan" if self.session.question_stands else "Rig"))
        self.setFocus()

    def _name_window(self) -> None:
        """Say in the title what is open, and whether this window only looks on."""
        bench, card = self.session.bench, self.session.card
        looks_on = tr(", view only") if bench is not None and bench.follows else ""
        book = bench.path.stem if bench is not None else ""
        self.setWindowTitle(f"{book} — {card.title if card else ''}{looks_on} — Niente")
        self.pulse.attach()

    def _sampled(self) -> None:
        """Show what came since the last time; the bridge calls about thirty times a second."""
        shown = self._current()
        if shown is not None and shown.name == "Run":
            shown.show_frame()  # type: ignore[attr-defined]
        self._words.at_leisure()

    # -- commands -----------------------------------------------------------------------------------------------------

    def _start(self) -> None:
        cautions = self.session.unread_cautions()
        if cautions:
            if not prompts.whether_cautions_are_read(self, cautions):
                return
            self.session.read_cautions()
        if not self.plan_commands.may_raise_voltage():
            return
        self.session.start()
        self.go_to(NAMES.index("Run"))
        self._enable()

    def _set_pace(self, pace: float | None) -> None:
        if self.session.bench is not None:
            self.session.bench.set_pace(pace)

    def _note(self) -> None:
        text = prompts.for_note(self)
        if text:
            self.session.note(text)

    def _leave_for(self, book: Path | None, *made: Make) -> None:
        """Open another book in place of this one, or none, where the plan that runs may end."""
        keep_running = self.bench_commands.may_close()
        if self._reopen is not None and keep_running is not None:
            self._remember()
            if keep_running and self.session.bench is not None:
                self.session.bench.leave()
            self._reopen(book, *made)

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        """Welcome one file that can be opened."""
        if dropped_file(event) is not None:
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        """Open what was dropped."""
        self.file_commands.drop(event)

    def _find(self) -> None:
        from niente.desktop.actions.finder import Finder

        Finder.over(self, self.actions_).run()

    def _help_here(self) -> None:
        from niente.desktop.actions.guide import topic_of

        shown = self._current()
        self._help(topic_of(QApplication.focusWidget(), shown.name.lower() if shown is not None else "window"))

    def _help(self, topic: str) -> None:
        from niente.desktop.actions.guide import Guide

        Guide.over(self).open_at(topic)

    # -- what is said ----------------------------------------------------------------------------------------------

    def _show_notice(self, notice: Notice | NoticeEnd) -> None:
        if isinstance(notice, NoticeEnd):
            self.message.end(notice)
            return
        if self.session.bench is None and not notice.action:
            self.opening.rest(notice.text)
            return
        shown = self._current()
        if shown is not None and notice.action == f"page.{shown.name.lower()}":
            return  # it only leads to what is looked at
        text = self.actions_[notice.action].text() if notice.action else ""
        self.message.show_notice(notice, tr(notice.label) or text)

    def show_bug(self, report: str) -> None:
        """Show a bug of our own, with a report that can be copied."""
        from niente.desktop.app.bug_report import BugDialog

        if self.findChild(BugDialog) is None:  # one at a time: a bug in a painter would come thirty times a second
            BugDialog(report, self).open()

    def _tell_ending(self, ending: Ending) -> None:
        self.desktop_bus.notify(ending.title, ending.text, urgent=ending.urgent)

    def closeEvent(self, event: QCloseEvent) -> None:
        """Ask what becomes of a plan that runs, then let go of the book."""
        keep_running = self.bench_commands.may_close()
        if keep_running is None:
            event.ignore()
            return
        self._remember()
        self.hide()
        self.session.close(keep_running=keep_running)
        self.desktop_bus.close()
        event.accept()
        QTimer.singleShot(0, QApplication.quit)
