"""Between the threads: events arrive in order, a bench that outruns the window waits, garbage is collected in one thread."""

import gc
import threading
import time
from collections import deque
from pathlib import Path

import pytest
from pytestqt.qtbot import QtBot

from niente.core.model.records import WarningRaised
from niente.core.model.runs import RunKind
from niente.core.planning.templates import grid_project
from niente.desktop.app.main import arguments, make_app, show
from niente.desktop.app.window import Window
from niente.desktop.pages.run.page import RunPage
from niente.desktop.services.garbage import GarbageCollection
from niente.desktop.services.turns import Turns
from niente.desktop.session import bridge as module
from niente.desktop.session.bridge import Bridge


def test_events_arrive_in_order_and_in_the_windows_thread(qtbot: QtBot) -> None:
    bridge = Bridge(Turns())
    seen: list[str] = []
    threads: set[int] = set()

    def take(events: list[WarningRaised]) -> None:
        threads.add(threading.get_ident())
        seen.extend(event.text for event in events)

    bridge.arrived.connect(take)
    words = [WarningRaised(str(number)) for number in range(60)]
    sender = threading.Thread(target=lambda: deque(map(bridge.push, words)))
    sender.start()
    qtbot.waitUntil(lambda: len(seen) == 60)
    sender.join()
    assert seen == [str(number) for number in range(60)]
    assert threads == {threading.get_ident()}
    bridge.stop()


def test_a_bench_that_outruns_the_window_waits(qtbot: QtBot, monkeypatch: pytest.MonkeyPatch) -> None:
    waits: list[float] = []
    monkeypatch.setattr(time, "sleep", waits.append)
    bridge = Bridge(Turns())
    for number in range(module.MAX_WAITING):
        bridge.push(WarningRaised(str(number)))
    assert not waits
    bridge.push(WarningRaised("one too many"))
    assert waits == [module.BACK_PRESSURE_S]
    bridge.hand_over()
    bridge.push(WarningRaised("room again"))
    assert len(waits) == 1
    bridge.stop()


def test_what_is_stopped_hands_nothing_over(qtbot: QtBot) -> None:
    bridge = Bridge(Turns())
    seen: list[object] = []
    bridge.arrived.connect(seen.append)
    bridge.push(WarningRaised("late"))
    bridge.stop()
    assert not bridge._timer.isActive()
    bridge.hand_over()
    assert not seen


def test_garbage_is_collected_here_and_given_back(qtbot: QtBot) -> None:
    class Ring:
        pass

    collected: list[int] = []

    def note(phase: str, info: dict[str, int]) -> None:
        if phase == "start":
            collected.append(threading.get_ident())

    garbage = GarbageCollection()
    gc.callbacks.append(note)
    try:
        assert not gc.isenabled()
        garbage.settle()
        maker = threading.Thread(target=lambda: [Ring() for _ in range(50_000)])
        maker.start()
        maker.join()
        qtbot.waitUntil(lambda: len(collected) > 1)
    finally:
        gc.callbacks.remove(note)
        garbage.release()
    assert set(collected) == {threading.get_ident()}
    assert gc.isenabled()


def test_another_book_can_be_opened(qtbot: QtBot, tmp_path: Path, sweep_copy: Path) -> None:
    make_app([])
    window = show(arguments([str(tmp_path / "first.niente")]))
    qtbot.addWidget(window, before_close_func=lambda closing: closing.session.close())
    qtbot.waitUntil(lambda: window.session.bench is not None and bool(window.pages))
    assert window._reopen is not None
    other = window._reopen(sweep_copy)
    assert isinstance(other, Window)
    qtbot.addWidget(other, before_close_func=lambda closing: closing.session.close())
    assert window.session.bench is None
    assert not window.isVisible()
    qtbot.waitUntil(lambda: other.session.answer.choice is not None)
    assert other.session.card is not None
    assert other.session.card.serial == "3"  # the book knows its machine
    assert "copy" in other.windowTitle()


def test_an_interrupted_run_is_told_with_its_remedy(qtbot: QtBot, tmp_path: Path) -> None:
    from niente.core.planning.templates import plan_for
    from niente.core.storage.writer import BookWriter
    from tests.conftest import larkspur_rig

    path = tmp_path / "lost.niente"
    card = larkspur_rig(seed=1).describe()
    writer = BookWriter(path)
    writer.add_document("rig", card)
    plan = writer.add_document("plan", plan_for(card, grid_project(card).question))
    writer.open_run(plan, 0, RunKind.STEP, card.stock, "idle", card, 0.0)
    writer.close()
    make_app([])
    window = show(arguments([str(path)]))
    qtbot.addWidget(window, before_close_func=lambda closing: closing.session.close())
    qtbot.waitUntil(lambda: "in the middle of a run" in window.message.text)
    assert window.message._act.text() == "See what it was"
    window.message._act.click()
    run = window.page(RunPage)
    assert run.upper.currentWidget() is run.after_view
    run.after_view.ended.click()
    run.after_view.resume.click()
    qtbot.waitUntil(window.session.busy)
    qtbot.waitUntil(lambda: window.session.live is not None)
    assert window.session.live is not None
    assert window.session.live.opened.index == 0  # the lost run is repeated
