"""Write a picture of each page to a folder, from the demo data, at 1280x800."""

import sys
import time
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QEventLoop, QTimer
from PySide6.QtWidgets import QApplication

from niente.desktop.app import arguments, make_app, show
from niente.desktop.window import NAMES, Window


def wait_until(true: Callable[[], bool], seconds: float) -> None:
    """Let the window live until something is true; give up after some seconds."""
    end = time.monotonic() + seconds
    while not true():
        if time.monotonic() > end:
            raise SystemExit("the demo did not come up in time")
        loop = QEventLoop()
        QTimer.singleShot(50, loop.quit)
        loop.exec()


def ready(window: Window) -> bool:
    """Whether the demo has its pick, and a run with a forecast."""
    live = window.session.live
    return window.session.answer.choice is not None and live is not None and len(live.forecasts) > 4


def main() -> None:
    """Take the pictures."""
    folder = Path(sys.argv[1])
    folder.mkdir(parents=True, exist_ok=True)
    app = make_app(sys.argv[:1])
    window = show(arguments(["--demo"]))
    wait_until(lambda: window.session.bench is not None and window.session.busy(), 60)
    window._set_pace(600.0)
    wait_until(lambda: window.session.live is not None and window.session.live.opened.index >= 7, 90)
    window._set_pace(60.0)
    wait_until(lambda: ready(window), 60)
    for place, name in enumerate(NAMES):
        window.go_to(place)
        window.message.hide()
        for _ in range(6):
            QApplication.processEvents()
            time.sleep(0.05)
        window.grab().save(str(folder / f"{name.lower()}.png"))
        print(folder / f"{name.lower()}.png")
    window.session.close()
    app.quit()


main()
