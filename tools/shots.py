"""Write a picture of each page to a folder, from the demo data.

    python tools/shots.py FOLDER [--size 1280x800] [--palette paper|dusk|both] [--pages map,choose]

QT_SCALE_FACTOR in the environment gives pictures at another scale.
"""

import argparse
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QEventLoop, QTimer
from PySide6.QtWidgets import QApplication

from niente.desktop.app.main import arguments, make_app, show
from niente.desktop.app.window import NAMES, Window
from niente.desktop.pages.fans.page import FansPage
from niente.desktop.pages.map.page import MapPage
from niente.desktop.pages.plan.page import PlanPage
from niente.desktop.pages.rig.page import RigPage
from niente.desktop.services.theme import PaletteChoice

RIG_VIEWS = ["", "air", "limits", "room", "sensors"]
MAP_VIEWS = ["", "watts", "noise", "table"]
PICTURES = [
    "rig",
    "rig-air",
    "rig-limits",
    "rig-room",
    "rig-sensors",
    *("choice" if name == "Answer" else name.lower() for name in NAMES[1:] if name != "Plan"),
    "map-watts",
    "map-noise",
    "run-after",
    "run-card",
]
"""In this order: the last ones end the demo's plan."""
ASKED = {
    "baseline": ("larkspur", "baseline"),
    "variants": ("larkspur", "variants"),
    "rig-air-wren": ("wren", "baseline"),
    "plan": ("larkspur", "quiet-point"),
}
"""Pictures of what the demo's book does not hold: a machine is asked a question first."""
GOES_ON_AFTER = {"plan": 31}
"""Of these the question is under way: so many runs are made, and the next one is being made."""
START = "start"
"""The picture of a fresh book, on another machine than the demo's."""
PAGE_OF = {"choice": "answer"}


def wait_until(true: Callable[[], bool], seconds: float) -> None:
    """Let the window live until something is true; give up after some seconds."""
    end = time.monotonic() + seconds
    while not true():
        if time.monotonic() > end:
            raise SystemExit("the demo did not come up in time")
        live(0.05)


def live(seconds: float) -> None:
    """Let the window live for a while."""
    loop = QEventLoop()
    QTimer.singleShot(int(seconds * 1000), loop.quit)
    loop.exec()


def keep(window: Window, folder: Path, name: str, palette: str) -> None:
    """Write what the window shows to a folder; ``palette`` is said in the file's name where there are several."""
    file = folder / (f"{name}-{palette}.png" if palette else f"{name}.png")
    window.grab().save(str(file))
    print(file)


def ready(window: Window) -> bool:
    """Whether the demo has its pick, and a run with a forecast."""
    run = window.session.live
    return window.session.answer.choice is not None and run is not None and run.closed is None and len(run.forecasts) > 8


def show_after(window: Window) -> None:
    """Let the window say what it would if everything had ended in the latest run."""
    from niente.core.acquisition.recovery import LAST_S, InterruptedRun
    from niente.core.storage.reader import BookReader

    bench = window.session.bench
    assert bench is not None
    window.session.stop()
    wait_until(lambda: not window.session.busy(), 30)
    book = BookReader(bench.path)
    run = [one for one in book.runs() if one.kind == "step"][-1]
    time_s, values = book.frames(run)
    book.close()
    last = time_s >= time_s[-1] - LAST_S
    window.session.hands.found(InterruptedRun(run, float(time_s[-1] - time_s[0]), time_s[last], values[last], None))


def show_card(window: Window) -> None:
    """Let the machine be asked into another state by hand, and its first line be ticked."""
    import msgspec

    from niente.core.model.plan import Step
    from niente.core.planning.templates import first_question, plan_for

    session = window.session
    assert session.card is not None
    session.hands.put_away()
    plan = plan_for(session.card, first_question(session.card, "variants"))
    out = [entry for entry in plan.entries if isinstance(entry, Step) and entry.variant not in ("", session.card.variant)]
    session.planner.take(msgspec.structs.replace(plan, entries=tuple(out)), None)
    window.actions_["plan.start"].trigger()
    wait_until(lambda: session.hands.card is not None, 30)
    session.hands.tick(1, True)


def ask_a_machine(rig: str, question: str, book: Path, runs: int = 1000) -> None:
    """Run a question as it starts to its end, or so many runs of it, hands doing what they are asked."""
    import threading

    from niente.core.acquisition.opening import open_bench
    from niente.core.demo import SEED
    from niente.core.model.limits import Limits
    from niente.core.model.records import HandCardShown, PlanEnded, Record, RunClosed
    from niente.core.planning.templates import first_question, plan_for, project_asking
    from niente.core.rigs.registry import open_rig

    over = threading.Event()

    def hear(record: Record) -> None:
        if isinstance(record, PlanEnded):
            over.set()
        if isinstance(record, HandCardShown) and record.card is not None:
            threading.Timer(0.05, lambda: bench.confirm()).start()
        if isinstance(record, RunClosed) and record.index + 1 >= runs:
            bench.stop()

    bench = open_bench(open_rig(rig, seed=SEED), book, hear)
    bench.save_project(project_asking(bench.card, None, question))
    bench.start(plan_for(bench.card, first_question(bench.card, question)), Limits())
    over.wait(600)
    bench.close()


def show_curves(window: Window) -> None:
    """Put both groups on a first curve, have others drawn, and show those beside the fixed duties."""
    page = window.page(FansPage)
    wait_until(lambda: page.group is not None, 60)
    if not page.curves:
        window.actions_["fans.draw"].trigger()
        wait_until(lambda: bool(page.curves), 240)
    page._choose_group("cooler")
    page.view.select(1)
    wait_until(lambda: page.finished() and page._worst is not None and page._worst.over, 60)


def show_going_on(window: Window) -> None:
    """Let a plan that was stopped go on, and show it with the run that is being made."""
    session = window.session
    wait_until(lambda: session.bench is not None and window.actions_["plan.start"].isEnabled(), 60)
    window.actions_["plan.start"].trigger()
    wait_until(lambda: session.live is not None and session.live.closed is None, 60)
    window._set_pace(5.0)  # slower than what is worked out beside it
    live(15.0)
    wait_until(lambda: not window.working.shows(), 60)
    window._set_pace(60.0)
    window.go_to(NAMES.index("Plan"))
    plan, now = window.page(PlanPage), session.running_index()
    plan.table.selectRow(plan.model.item_of(now if now is not None else 0))


def show_asked(asked: argparse.Namespace, palettes: list[PaletteChoice]) -> None:
    """Take the pictures of what the demo's book does not hold."""
    width, height = (int(part) for part in asked.size.split("x"))
    for name, (rig, question) in ASKED.items():
        if name not in asked.pages.split(","):
            continue
        with tempfile.TemporaryDirectory() as folder:
            book = Path(folder) / f"{name}.niente"
            ask_a_machine(rig, question, book, GOES_ON_AFTER.get(name, 1000))
            window = show(arguments([str(book)]))
            window.resize(width, height)
            if name in GOES_ON_AFTER:
                show_going_on(window)
            else:
                wait_until(lambda: bool(window.session.documents) and bool(window.pages), 60)  # noqa: B023
                window.go_to(NAMES.index("Rig" if name.startswith("rig") else "Answer"))
                window.page(RigPage).views.show_view(RIG_VIEWS.index("air") if name.startswith("rig") else 0)
            for palette_choice in palettes:
                window.look.apply(palette_choice)
                live(1.0)
                window.message.hide()
                keep(window, asked.folder, name, palette_choice if len(palettes) > 1 else "")
            window.session.close()
            window.close()
            QApplication.processEvents()


def show_start(asked: argparse.Namespace, palettes: list[PaletteChoice]) -> None:
    """Take the picture of a fresh book."""
    if START not in asked.pages.split(","):
        return
    width, height = (int(part) for part in asked.size.split("x"))
    with tempfile.TemporaryDirectory() as folder:
        window = show(arguments([str(Path(folder) / "fresh.niente"), "--rig", "wren"]))
        window.resize(width, height)
        wait_until(lambda: bool(window.pages) and bool(window.page(RigPage).start.rows), 60)
        for palette_choice in palettes:
            window.look.apply(palette_choice)
            live(2.0)
            wait_until(lambda: not window.working.shows(), 60)
            keep(window, asked.folder, START, palette_choice if len(palettes) > 1 else "")
        window.session.close()
        window.close()
        QApplication.processEvents()


def wanted() -> argparse.Namespace:
    """Read the command line."""
    parser = argparse.ArgumentParser()
    parser.add_argument("folder", type=Path)
    parser.add_argument("--size", default="1280x800")
    parser.add_argument("--palette", dest="wear", default="paper", choices=["paper", "dusk", "both"])
    parser.add_argument("--pages", default=",".join([*PICTURES, START, *ASKED]))
    return parser.parse_args()


def main() -> None:
    """Take the pictures."""
    asked = wanted()
    asked.folder.mkdir(parents=True, exist_ok=True)
    app = make_app(["niente"])
    window = show(arguments(["--demo"]))
    width, height = (int(part) for part in asked.size.split("x"))
    window.resize(width, height)
    palettes = [PaletteChoice.PAPER, PaletteChoice.DUSK] if asked.wear == "both" else [PaletteChoice(asked.wear)]
    wait_until(lambda: window.session.bench is not None and window.session.busy(), 60)
    window._set_pace(600.0)
    wait_until(lambda: window.session.live is not None and window.session.live.opened.index >= 21, 120)
    window._set_pace(60.0)
    wait_until(lambda: ready(window), 60)
    for palette_choice in palettes:
        window.look.apply(palette_choice)
        for name in PICTURES:
            if name not in asked.pages.split(","):
                continue
            page, _, view = name.partition("-")
            window.go_to([one.lower() for one in NAMES].index(PAGE_OF.get(page, page)))
            if view == "after":
                show_after(window)
            if view == "card":
                show_card(window)
            if page == "rig":
                window.page(RigPage).views.show_view(RIG_VIEWS.index(view))
            if page == "map":
                window.page(MapPage).views.show_view(MAP_VIEWS.index(view))
            window.message.hide()
            live(0.4)
            if name == "fans":
                show_curves(window)
            if name == "choice":
                wait_until(lambda: window.session.beside is not None, 60)
            under_way = name == "run"
            wait_until(lambda: not window.working.shows() and (ready(window) or not under_way), 60)  # noqa: B023
            QApplication.sendPostedEvents()  # what has just been said is laid out too
            keep(window, asked.folder, name, palette_choice if len(palettes) > 1 else "")
    window.session.close()
    QApplication.processEvents()
    show_start(asked, palettes)
    show_asked(asked, palettes)
    app.quit()


main()
