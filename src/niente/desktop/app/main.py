"""Starting Niente: the window first, everything heavy after it shows."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QEvent, QObject, QTimer
from PySide6.QtGui import QIcon
from PySide6.QtWidgets import QApplication, QWidget

from niente import __version__
from niente.core.storage.log_files import start_log
from niente.desktop.app.bug_report import Hook
from niente.desktop.app.window import Window
from niente.desktop.commands.rig_commands import Make
from niente.desktop.services.garbage import GarbageCollection
from niente.desktop.services.preferences import Preferences
from niente.desktop.services.theme import Look, asset, load_fonts
from niente.desktop.session.session import Session

if TYPE_CHECKING:  # the core comes in after the window shows
    from niente.core.acquisition.client import BenchClient, Hearer
    from niente.core.model.project import Project

APP_ID = "org.niente.Niente"
PACE = 60.0
SWITCH_S = 0.001
"""How long one thread may keep the interpreter: the bench at full speed must not make the window stutter."""
UNSEEN_MS = 400
"""So long a window waits for its first picture before it goes on without one."""


def arguments(argv: list[str]) -> argparse.Namespace:
    """Read the command line."""
    parser = argparse.ArgumentParser(prog="niente", description="Find a computer's quiet, stable operating point.")
    parser.add_argument("book", nargs="?", type=Path, help="the book to open; made where there is none")
    parser.add_argument("--rig", help="the rig's name, or module:factory (default: the book's)")
    parser.add_argument("--seed", type=int, help="which sample of a simulated machine (default: the book's, or 1)")
    parser.add_argument("--variant", help="the state that the machine is in (default: the book's)")
    parser.add_argument("--demo", action="store_true", help="open the demo book in your cache; none of your files is touched")
    parser.add_argument("--version", action="version", version=f"niente {__version__}")
    parser.set_defaults(make=None, otherwise=None, nothing=False)
    return parser.parse_args(argv)


def make_app(argv: list[str]) -> QApplication:
    """Return the application, with its name and its fonts."""
    existing = QApplication.instance()
    app = existing if isinstance(existing, QApplication) else QApplication(argv)
    app.setApplicationName("niente")
    app.setApplicationDisplayName("Niente")
    app.setDesktopFileName(APP_ID)
    app.setWindowIcon(QIcon(asset(f"icons/{APP_ID}.svg")))
    load_fonts()
    return app


def look_of(app: QApplication, preferences: Preferences) -> Look:
    """Return the look a person chose, shared by the application; windows one after the other share it."""
    known = app.findChild(Look)
    return known if isinstance(known, Look) else Look(app, preferences.palette_choice)


def open_book(window: Window, wanted: argparse.Namespace) -> None:
    """Attach what the command line asks for, away from the window's thread.

    What that takes is imported here, by the window's thread: two threads that import at once can trip each other.
    """
    from niente.core.acquisition.follower import Follower
    from niente.core.model.errors import BookBusyError
    from niente.core.serving.starting import BenchOptions, reach_bench

    when_lost = window.preferences.when_lost
    if wanted.demo:
        from niente.core.demo import is_prepared, open_demo

        if not is_prepared():
            window.build_pages()  # making the demo's book imports what pages do
        window.session.open(lambda progress, listener: open_demo(progress, listener, when_lost), start=True)
        return
    book = wanted.book or default_book()
    options = BenchOptions(wanted.rig, wanted.seed, PACE, wanted.variant, wanted.otherwise)
    window.book_wanted = book
    make: Make | None = wanted.make
    if make is not None:
        window.build_pages()

    def prepare(progress: Callable[[str], None], listener: Hearer) -> tuple[BenchClient, Project | None]:
        if make is not None:
            progress(f"Making {book} …")
            make(book, progress)
        progress(f"Opening {book} …")
        try:
            return reach_bench(book, listener, options, when_lost=when_lost, progress=progress), None
        except BookBusyError:
            return Follower(book, listener), None

    window.session.open(prepare, start=False)


def default_book() -> Path:
    """Return the book that opens when none is named."""
    import platformdirs

    return Path(platformdirs.user_data_dir("niente")) / "bench.niente"


def show(wanted: argparse.Namespace) -> Window:
    """Show the window; the rest follows once it stands."""

    def reopen(book: Path | None, make: Make | None = None) -> Window:
        window.hide()
        window.session.close()
        window.desktop_bus.close()
        wanted.demo, wanted.book, wanted.make, wanted.nothing = False, book, make, book is None
        wanted.otherwise = wanted.rig or wanted.otherwise
        wanted.seed = wanted.rig = wanted.variant = None
        kept.append(show(wanted))
        return kept[-1]

    kept: list[Window] = []
    app = QApplication.instance()
    assert isinstance(app, QApplication)
    preferences = Preferences()
    window = Window(Session(own_processes=True), look_of(app, preferences), preferences, reopen)
    window.show()

    def after() -> None:
        if wanted.nothing:
            window.opening.rest()
            return
        open_book(window, wanted)
        window.build_pages()

    FirstPaint(window.opening, after)
    return window


class FirstPaint(QObject):
    """Calls once a widget has been painted: what takes long is then done behind a picture, and not before it. Where nothing is
    painted, as in a window that opens minimised, it calls soon."""

    def __init__(self, widget: QWidget, then: Callable[[], object]) -> None:
        super().__init__(widget)
        self._then: Callable[[], object] | None = then
        widget.installEventFilter(self)
        QTimer.singleShot(UNSEEN_MS, self, self._call)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Notice the first picture; what follows comes in a turn of its own, once that is on the screen."""
        if event.type() == QEvent.Type.Paint and self._then is not None:
            watched.removeEventFilter(self)
            QTimer.singleShot(0, self, self._call)
        return False

    def _call(self) -> None:
        then, self._then = self._then, None
        if then is not None:
            then()


def show_bug(report: str) -> None:
    """Show a bug in the window that is open; after another book was opened that is not the first one."""
    for window in QApplication.topLevelWidgets():
        if isinstance(window, Window) and window.isVisible():
            window.show_bug(report)


def main() -> None:
    """Run Niente."""
    wanted = arguments(sys.argv[1:])
    start_log("window")
    sys.setswitchinterval(SWITCH_S)
    app = make_app(sys.argv[:1])
    garbage = GarbageCollection(app)
    hook = Hook(app)
    hook.install()
    window = show(wanted)
    hook.caught.connect(show_bug)
    window.session.opened.connect(garbage.settle)
    code = app.exec()
    garbage.release()
    sys.exit(code)
