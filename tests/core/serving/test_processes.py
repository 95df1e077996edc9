"""Real processes that are killed, stopped and cut off: the load never stays on alone, and nothing that was measured is lost."""

import os
import signal
import socket
import subprocess
import sys
import threading
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from niente.core.acquisition.client import BenchLost
from niente.core.model.commands import WhenLost
from niente.core.model.errors import BookError, RigError
from niente.core.model.limits import Limits
from niente.core.model.records import MadeSafe, PlanEnded, PlanStarted, RunOpened, SamplesTaken
from niente.core.model.setting import Setting
from niente.core.planning.templates import grid_project
from niente.core.serving.channel import LENGTH
from niente.core.serving.process import take_back
from niente.core.serving.remote_bench import RemoteBench
from niente.core.serving.run_folder import socket_of
from niente.core.serving.starting import BenchOptions, reach_bench
from niente.core.storage.reader import BookReader
from niente.core.storage.writer import BookWriter
from tests.conftest import larkspur_rig, short_plan
from tests.core.serving.conftest import ROOT, THIRD, Ear, process_of, runs
from tests.core.serving.starter import long_plan
from tests.waiting import PATIENCE_S, until

Reach = Callable[..., RemoteBench]
State = Callable[[], dict[str, Any]]


def killed_window(book: Path, rig: str, load: str, when_lost: WhenLost) -> None:
    """A window starts a long plan and is killed in the middle of its first run."""
    words = [sys.executable, "-m", "tests.core.serving.starter", str(book), rig, load, when_lost]
    window = subprocess.Popen(words, cwd=ROOT, stdout=subprocess.PIPE)
    assert window.stdout is not None
    assert window.stdout.readline() == b"started\n"
    until(lambda: samples_in(book) > 5)
    window.send_signal(signal.SIGKILL)
    window.wait()
    window.stdout.close()


def samples_in(book: Path) -> int:
    reader = BookReader(book)
    try:
        return sum(reader.frames(run)[0].shape[0] for run in reader.runs())
    finally:
        reader.close()


def started(reach: Reach, ear: Ear, rig: str, **options: object) -> RemoteBench:
    """A client with a long plan on the machine in the third process, some samples in."""
    bench = reach(ear, rig=rig, **options)
    bench.read_cautions()
    bench.start(long_plan(bench.card, "ring", 10.0), Limits())
    until(lambda: sum(one.time_s.shape[0] for one in ear.of(SamplesTaken) if one.run_id is not None) > 3)  # type: ignore[union-attr]
    return bench


# -- the window goes -------------------------------------------------------------------------------------------------------


def test_a_window_that_is_killed_leaves_the_plan_to_its_bench(tmp_path: Path, reach: Reach) -> None:
    book = tmp_path / "b.niente"
    killed_window(book, "larkspur", "vector", WhenLost.GO_ON)
    before = samples_in(book)
    until(lambda: samples_in(book) > before + 10)
    ear = Ear()
    bench = reach(ear)
    assert bench.busy
    assert not bench.follows  # it takes the place of the one that is gone
    until(lambda: sum(one.time_s.shape[0] for one in ear.of(SamplesTaken)) > before)  # type: ignore[union-attr]
    assert ear.of(PlanStarted)
    assert len(ear.of(RunOpened)) == 1
    times = np.concatenate([one.time_s for one in ear.of(SamplesTaken) if one.run_id == 1])  # type: ignore[union-attr]
    reader = BookReader(book)
    assert times[0] == reader.frames(reader.runs()[0])[0][0]  # the run from its first sample
    reader.close()
    assert np.all(np.diff(times) == 1.0)  # each once, in order
    bench.stop()
    until(lambda: bool(ear.of(PlanEnded)))


def test_a_bench_stops_with_its_window_where_that_is_wanted(tmp_path: Path, machine: State) -> None:
    book = tmp_path / "b.niente"
    killed_window(book, THIRD, "ring", WhenLost.STOP)
    until(lambda: machine()["load"] == "idle")
    bench = process_of(book) if machine() else 0
    until(lambda: not runs(bench))
    reader = BookReader(book)
    assert [run.outcome for run in reader.runs()] == ["stopped"]
    assert not reader.events(kind="made safe")  # the bench did it itself
    reader.close()


def test_a_client_that_leaves_lets_the_plan_go_on(reach: Reach, tmp_path: Path) -> None:
    ear = Ear()
    bench = reach(ear, pace=60.0)
    bench.start(long_plan(bench.card, "vector", 100.0), Limits())
    until(lambda: bool(ear.of(RunOpened)))
    bench.leave()
    before = samples_in(tmp_path / "b.niente")
    until(lambda: samples_in(tmp_path / "b.niente") > before + 10)
    again = Ear()
    assert reach(again).busy


# -- the bench goes --------------------------------------------------------------------------------------------------------


def test_the_load_of_a_killed_bench_is_ended_by_its_guardian(reach: Reach, tmp_path: Path, machine: State) -> None:
    ear = Ear()
    started(reach, ear, THIRD)
    assert machine()["load"] == "ring"
    os.kill(process_of(tmp_path / "b.niente"), signal.SIGKILL)
    until(lambda: machine()["load"] == "idle")
    assert machine()["setting"]["sustained_power_w"] == 5.0  # its safe one
    until(lambda: bool(ear.of(MadeSafe)))
    assert ear.of(BenchLost) == [BenchLost("", True)]
    (said,) = ear.of(MadeSafe)
    assert said.safe  # type: ignore[union-attr]
    book = BookReader(tmp_path / "b.niente")
    (event,) = book.events(kind="made safe")
    assert "guardian ended the load" in event.body
    book.close()
    again = Ear()
    bench = reach(again, rig=THIRD)
    assert bench.interrupted is not None
    assert bench.interrupted.to_be_judged


@pytest.mark.parametrize("how", ["stopped", "interpreter held"])
def test_a_bench_that_hangs_as_a_whole_is_ended(reach: Reach, tmp_path: Path, machine: State, how: str) -> None:
    ear = Ear()
    rig = THIRD if how == "stopped" else "tests.contract.misbehaving:HoldsInterpreter"
    started(reach, ear, rig, silent_s=1.0)
    bench = process_of(tmp_path / "b.niente")
    if how == "stopped":
        os.kill(bench, signal.SIGSTOP)
    until(lambda: machine()["load"] == "idle")
    until(lambda: not runs(bench))
    until(lambda: bool(ear.of(MadeSafe)))


def test_the_processes_of_a_load_end_with_it(reach: Reach, tmp_path: Path, machine: State) -> None:
    started(reach, Ear(), "tests.contract.misbehaving:LoadsByProcess")
    bench = process_of(tmp_path / "b.niente")
    (load,) = [
        int(folder.name)
        for folder in Path("/proc").iterdir()
        if folder.name.isdigit() and (folder / "cmdline").exists() and b"4321" in (folder / "cmdline").read_bytes()
    ]
    os.kill(bench, signal.SIGKILL)
    until(lambda: not runs(load))
    until(lambda: machine()["load"] == "idle")


def test_a_guardian_that_is_killed_has_a_successor(reach: Reach, tmp_path: Path, machine: State) -> None:
    book = tmp_path / "b.niente"
    started(reach, Ear(), THIRD)
    first = process_of(book, "guardian")
    os.kill(first, signal.SIGKILL)
    until(lambda: not runs(first) and _guardian(book) not in (0, first))
    os.kill(process_of(book), signal.SIGKILL)
    until(lambda: machine()["load"] == "idle")


def _guardian(book: Path) -> int:
    try:
        return process_of(book, "guardian")
    except AssertionError:
        return 0


@pytest.mark.parametrize("one", [signal.SIGTERM, signal.SIGHUP, signal.SIGQUIT])
def test_a_bench_that_is_told_to_end_restores_first(reach: Reach, tmp_path: Path, machine: State, one: signal.Signals) -> None:
    ear = Ear()
    started(reach, ear, THIRD)
    os.kill(process_of(tmp_path / "b.niente"), one)
    until(lambda: bool(ear.of(BenchLost)))
    assert machine()["load"] == "idle"
    assert "told to end" in ear.of(BenchLost)[0].text  # type: ignore[union-attr]
    assert not ear.of(MadeSafe)
    book = BookReader(tmp_path / "b.niente")
    assert [(run.outcome, run.reason) for run in book.runs()] == [("stopped", "stopped, since the bench was told to end")]
    book.close()


# -- bad input -------------------------------------------------------------------------------------------------------------


def test_a_socket_that_is_left_over_is_put_away(reach: Reach, tmp_path: Path) -> None:
    BookWriter(tmp_path / "b.niente").close()
    left = socket_of(tmp_path / "b.niente")
    old = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
    old.bind(str(left))
    old.close()
    assert left.exists()
    assert reach(Ear()).card.title == "Larkspur"
    assert left.stat().st_mode & 0o777 == 0o600


def test_two_that_open_a_book_at_once_share_one_bench(tmp_path: Path) -> None:
    book, found, gate = tmp_path / "b.niente", [], threading.Barrier(2)

    def open_it() -> None:
        gate.wait()
        found.append(reach_bench(book, Ear(), BenchOptions("larkspur", seed=3)))

    threads = [threading.Thread(target=open_it) for _ in range(2)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(PATIENCE_S)
    assert sorted(client.follows for client in found) == [False, True]
    for client in sorted(found, key=lambda one: not one.follows):
        client.close()


@pytest.mark.parametrize("sent", [b"GET / HTTP/1.1\r\n\r\n", LENGTH.pack(40) + b"half", b""])
def test_rubbish_and_a_client_that_dies_in_a_word_harm_nobody(reach: Reach, tmp_path: Path, sent: bytes) -> None:
    ear = Ear()
    bench = reach(ear)
    stranger = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
    stranger.connect(str(socket_of(tmp_path / "b.niente")))
    stranger.sendall(sent)
    stranger.close()
    bench.start(short_plan(bench.card, Setting(sustained_power_w=100.0), seconds=60.0), Limits())
    until(lambda: bool(ear.of(PlanEnded)))
    assert ear.of(PlanEnded)[0].complete  # type: ignore[union-attr]


def test_what_is_cancelled_leaves_nothing(tmp_path: Path) -> None:
    class Enough(Exception):  # noqa: N818 (a person's wish)
        pass

    def progress(text: str) -> None:
        raise Enough

    with pytest.raises(Enough):
        reach_bench(tmp_path / "b.niente", Ear(), BenchOptions("larkspur", seed=3), progress=progress)
    with pytest.raises(AssertionError):
        process_of(tmp_path / "b.niente")
    assert not list(tmp_path.glob("b.niente*"))


def test_only_a_book_that_nobody_has_and_that_holds_nothing_is_taken_back(tmp_path: Path, sweep_copy: Path) -> None:
    """A bench that could not be opened beside one that just made the same book must not remove it."""
    made, theirs = tmp_path / "made.niente", tmp_path / "theirs.niente"
    BookWriter(made).close()
    writer = BookWriter(theirs)
    for book in (made, theirs, sweep_copy, tmp_path / "none.niente"):
        take_back(book)
    assert not list(tmp_path.glob("made.niente*")) + list(tmp_path.glob("none.niente*"))
    assert theirs.exists()
    assert sweep_copy.exists()
    assert len(BookReader(sweep_copy).runs()) > 40
    writer.add_document("project", grid_project(larkspur_rig().describe()))
    writer.close()
    take_back(theirs)
    assert theirs.exists()  # somebody's project is in it


@pytest.mark.parametrize("how", ["a link", "open to others"])
def test_a_run_time_folder_that_is_not_ones_own_is_refused(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, how: str) -> None:
    monkeypatch.delenv("XDG_RUNTIME_DIR")
    monkeypatch.setattr("tempfile.tempdir", str(tmp_path))
    folder = tmp_path / f"niente-{os.getuid()}"
    if how == "a link":
        (tmp_path / "elsewhere").mkdir(mode=0o700)
        folder.symlink_to(tmp_path / "elsewhere")
    else:
        folder.mkdir()
        folder.chmod(0o777)
    with pytest.raises(RigError, match="not yours alone"):
        socket_of(tmp_path / "b.niente")


def test_a_book_that_another_program_writes_is_said_to_be_busy(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    from niente.core.serving import starting

    monkeypatch.setattr(starting, "REACHED_S", 0.2)
    writer = BookWriter(tmp_path / "b.niente")
    with pytest.raises(BookError, match="written by another"):
        reach_bench(tmp_path / "b.niente", Ear(), BenchOptions("larkspur"))
    writer.close()


def test_a_bug_at_the_start_comes_with_its_report(tmp_path: Path) -> None:
    (tmp_path / "state").mkdir()
    with pytest.raises(RigError, match="could not be loaded"):
        reach_bench(tmp_path / "b.niente", Ear(), BenchOptions("tests.contract.third_process:nothing"))
