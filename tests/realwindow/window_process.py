"""A window in a process of its own that starts its plan and can be killed: its one argument is the book."""

import sys

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication

from niente.desktop.app.main import arguments, make_app, show


def main() -> None:
    """Show the window, start the plan as soon as the book is open, and say when samples come in."""
    app: QApplication = make_app([])
    window = show(arguments([*sys.argv[1:], "--seed", "3"]))
    window.session.opened.connect(lambda: window.plan_commands.choose("quiet-point"))
    window.session.opened.connect(lambda: QTimer.singleShot(0, window.actions_["plan.start"].trigger))
    said: list[bool] = []

    def look() -> None:
        live = window.session.live
        if not said and live is not None and live.samples.count > 20:
            said.append(True)
            print("runs", flush=True)

    window.session.sampled.connect(look)
    app.exec()


if __name__ == "__main__":
    main()
