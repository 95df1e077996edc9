"""A real window that is killed in the middle of a run, and opened again: the run is there, from its first sample."""

import os
import signal
import subprocess
import sys
from pathlib import Path

import pytest
from pytestqt.qtbot import QtBot

from niente.core.storage.reader import BookReader
from niente.desktop.app.main import arguments, make_app, show
from niente.desktop.pages.run.page import RunPage

ROOT = Path(__file__).parents[2]


def test_a_window_that_is_killed_finds_its_run_again(qtbot: QtBot, tmp_path: Path) -> None:
    book = tmp_path / "night.niente"
    first = subprocess.Popen(
        [sys.executable, "-m", "tests.realwindow.window_process", str(book)], cwd=ROOT, stdout=subprocess.PIPE
    )
    assert first.stdout is not None
    assert first.stdout.readline() == b"runs\n"
    os.kill(first.pid, signal.SIGKILL)
    first.wait()
    first.stdout.close()
    reader = BookReader(book)
    run = reader.runs()[-1]
    reader.close()
    make_app([])
    window = show(arguments([str(book)]))
    qtbot.addWidget(window, before_close_func=lambda closing: closing.session.close())
    qtbot.waitExposed(window)
    session = window.session
    qtbot.waitUntil(lambda: session.bench is not None and bool(window.pages))
    assert session.busy()
    qtbot.waitUntil(lambda: session.live is not None and session.live.samples.count > 30)
    assert session.live is not None
    assert session.live.opened.run_id >= run.id
    page = window.page(RunPage)
    assert window.stack.currentWidget() is page  # it shows what runs
    qtbot.waitUntil(lambda: page.traces.sight is not None)
    reader = BookReader(book)
    live = next(one for one in reader.runs() if one.id == session.live.opened.run_id)
    assert session.live.samples.time_s[0] == reader.frames(live)[0][0]  # from its first sample
    reader.close()
    window.actions_["run.stop"].trigger()  # and it commands
    qtbot.waitUntil(lambda: not session.busy())
    assert session.bench is not None
    assert not session.bench.follows


@pytest.mark.parametrize("rest", ["-wal", "-shm"])
def test_nothing_is_left_beside_a_book_whose_bench_has_ended(qtbot: QtBot, tmp_path: Path, rest: str) -> None:
    book = tmp_path / "day.niente"
    make_app([])
    window = show(arguments([str(book), "--seed", "3"]))
    qtbot.addWidget(window, before_close_func=lambda closing: closing.session.close())
    qtbot.waitUntil(lambda: window.session.bench is not None and bool(window.pages))
    window.session.close()
    assert not book.with_name(book.name + rest).exists()
