"""One bench and its clients: one commands, others look on and may ask; a slow one misses nothing and holds up nobody."""

import socket
import threading
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
import pytest

from niente.core.acquisition.client import BenchLost, CommandAsked, CommandGiven, Heard
from niente.core.acquisition.opening import open_bench
from niente.core.model.commands import Command
from niente.core.model.errors import BookError, RigError
from niente.core.model.frame import Frame
from niente.core.model.limits import Limits
from niente.core.model.records import (
    FrameTaken,
    HandCardShown,
    NoteAdded,
    PlanEnded,
    PlanStarted,
    Record,
    RunClosed,
    RunOpened,
    SettingStays,
    StateChanged,
    WarningRaised,
)
from niente.core.model.runs import RunOutcome
from niente.core.model.setting import Setting
from niente.core.model.states import BenchState
from niente.core.planning.templates import grid_project
from niente.core.rigs.simulated.machine_files import shipped_file
from niente.core.rigs.simulated.rig import SimulatedRig
from niente.core.serving import outbox as outbox_module
from niente.core.serving.channel import MessageChannel, decoder_for
from niente.core.serving.messages import PROTOCOL, Hello, Message, PutInForce, Refused, StartPlan
from niente.core.serving.outbox import Outbox, OutboxFullError
from niente.core.serving.under_way import UnderWay
from niente.core.storage.notes import notes_in
from niente.core.storage.reader import BookReader
from tests.conftest import larkspur_rig, short_plan
from tests.core.serving.conftest import Ear
from tests.here import BenchHere, another_client, one_by_one, serve_here
from tests.waiting import PATIENCE_S, until

COOL = Setting(sustained_power_w=100.0, fan_duty={"case": 60.0, "cooler": 60.0})
Serve = Callable[..., BenchHere]


@pytest.fixture
def serve(tmp_path: Path) -> Iterator[Serve]:
    """Return a function that serves a bench here and returns its first client."""
    made: list[BenchHere] = []

    def on(ear: Callable[[Heard], None], rig: SimulatedRig | None = None) -> BenchHere:
        machine = rig or larkspur_rig()
        made.append(serve_here(lambda hear: open_bench(machine, tmp_path / "b.niente", hear), ear))
        return made[-1]

    yield on
    for client in made:
        client.close()


def samples(told: list[Heard]) -> dict[int, list[tuple[float, bytes]]]:
    """Every sample that was told, by run."""
    found: dict[int, list[tuple[float, bytes]]] = {}
    for one in one_by_one(told):  # type: ignore[arg-type]
        if isinstance(one, FrameTaken) and one.run_id is not None:
            found.setdefault(one.run_id, []).append((one.frame.time_s, one.frame.values.tobytes()))
    return found


def in_book(path: Path) -> dict[int, list[tuple[float, bytes]]]:
    book = BookReader(path)
    try:
        return {
            run.id: [(at, row.tobytes()) for at, row in zip(*map(list, book.frames(run)), strict=True)] for run in book.runs()
        }
    finally:
        book.close()


# -- command ---------------------------------------------------------------------------------------------------------------


def test_one_commands_and_hands_over_when_asked(serve: Serve) -> None:
    mine, theirs = Ear(), Ear()
    first = serve(mine, larkspur_rig(pace=600.0))
    second = another_client(first.server, theirs)
    assert (first.follows, second.follows) == (False, True)
    plan = short_plan(first.card, COOL, seconds=3000.0)
    refusals: tuple[Callable[[], object], ...] = (
        lambda: second.start(plan, Limits()),
        lambda: second.note("mine"),
        lambda: second.save_project(grid_project(second.card)),
        lambda: second.take_sheet(second.first_sheet),
        lambda: second.judge(machine_down=True),
        lambda: second.tick((0,)),
        second.read_cautions,
    )
    for refused in refusals:
        with pytest.raises(BookError, match="is view-only"):
            refused()
    second.hand_over()  # it has nothing to hand over
    until(lambda: bool(theirs.of(WarningRaised)))
    second.ask_for_command()
    until(lambda: bool(mine.of(CommandAsked)))
    assert second.follows  # asking alone gives nothing
    first.hand_over()
    until(lambda: not second.follows)
    until(lambda: mine.of(CommandGiven) == [CommandGiven(False)])
    assert first.follows
    second.start(plan, Limits())
    until(lambda: bool(mine.of(RunOpened)))  # the first looks on
    assert first.busy
    first.stop()
    until(lambda: any("is view-only" in one.text for one in mine.of(WarningRaised)))  # type: ignore[union-attr]
    assert second.busy
    second.leave()
    first.ask_for_command()  # nobody commands: asking is enough
    until(lambda: not first.follows)
    first.stop()
    until(lambda: bool(mine.of(PlanEnded)))


def test_what_only_the_bench_finds_comes_in_words(serve: Serve) -> None:
    ear = Ear()
    client = serve(ear)
    wrong = short_plan(SimulatedRig(shipped_file("heron"), seed=1).describe(), Setting(), seconds=60.0)
    client.start(wrong, Limits())
    until(lambda: bool(ear.of(PlanEnded)))
    assert not client.busy
    assert not ear.of(RunOpened)
    client.bench.busy = True
    client._ask(StartPlan(wrong, Limits()))
    until(lambda: len(ear.of(PlanEnded)) == 2)
    assert "busy" in ear.of(PlanEnded)[1].reason  # type: ignore[union-attr]
    client.bench.busy = False


def test_a_bug_in_a_request_ends_nothing(serve: Serve, monkeypatch: pytest.MonkeyPatch) -> None:
    ear = Ear()
    client = serve(ear)
    monkeypatch.setattr(client.bench, "note", lambda text: 1 / 0)
    client.note("a note")
    until(lambda: bool(ear.of(WarningRaised)))
    assert "ZeroDivisionError" in ear.of(WarningRaised)[0].text  # type: ignore[union-attr]
    monkeypatch.undo()
    client.note("another")
    until(lambda: bool(ear.of(NoteAdded)))


def test_everybody_hears_what_one_does(serve: Serve) -> None:
    mine, theirs = Ear(), Ear()
    first = serve(mine)
    second = another_client(first.server, theirs)
    project = grid_project(first.card)
    first.save_project(project)
    first.set_pace(60.0)
    until(lambda: second.project == project and second.pace == 60.0)


# -- coming and going ------------------------------------------------------------------------------------------------------


def test_whoever_comes_in_the_middle_has_all_of_it(serve: Serve, tmp_path: Path) -> None:
    mine, theirs = Ear(), Ear()
    first = serve(mine, larkspur_rig(pace=600.0))
    first.start(short_plan(first.card, COOL, COOL, seconds=400.0), Limits())
    until(lambda: len(mine.of(RunOpened)) == 2)
    second = another_client(first.server, theirs)
    assert second.busy
    until(lambda: bool(theirs.of(PlanEnded)))
    until(lambda: bool(mine.of(PlanEnded)))
    assert [one.run_id for one in theirs.of(RunOpened)] == [2]  # type: ignore[union-attr]
    assert second.history.runs[0].run_id == 1
    assert np.array_equal(second.history.time_s, [at for at, _ in in_book(tmp_path / "b.niente")[1]])
    assert samples(theirs.told)[2] == in_book(tmp_path / "b.niente")[2] == samples(mine.told)[2]


def test_a_slow_client_reads_from_the_book_what_it_missed(
    serve: Serve, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(outbox_module, "MAX_SAMPLES", 40)
    mine, slow, gate = Ear(), Ear(), threading.Event()

    def reads_late(one: Heard) -> None:
        if isinstance(one, RunOpened):
            gate.wait(PATIENCE_S)
        slow(one)

    first = serve(mine)
    another_client(first.server, reads_late)
    first.start(short_plan(first.card, COOL, COOL, seconds=2000.0), Limits())
    until(lambda: bool(mine.of(PlanEnded)))
    gate.set()
    until(lambda: bool(slow.of(PlanEnded)))
    assert samples(slow.told) == in_book(tmp_path / "b.niente")
    heard = [type(one) for one in slow.told if isinstance(one, RunOpened | RunClosed | PlanStarted | PlanEnded)]
    assert heard == [PlanStarted, RunOpened, RunClosed, RunOpened, RunClosed, PlanEnded]


def test_a_client_that_never_reads_holds_up_nobody(serve: Serve, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(outbox_module, "MAX_SAMPLES", 4000)
    ear = Ear()
    first = serve(ear)
    ours, theirs = socket.socketpair()
    first.server.take_in(theirs)
    MessageChannel(ours, decoder_for(Message)).send(Hello(PROTOCOL, "0", False))
    until(lambda: len(first.server._clients) == 2)
    first.start(short_plan(first.card, COOL, seconds=6000.0), Limits())
    until(lambda: bool(ear.of(PlanEnded)))
    assert ear.of(PlanEnded)[0].complete  # type: ignore[union-attr]
    ours.close()


def test_another_version_is_refused_in_words(serve: Serve) -> None:
    first = serve(Ear())
    ours, theirs = socket.socketpair()
    first.server.take_in(theirs)
    channel = MessageChannel(ours, decoder_for(Message))
    channel.send(Hello(99, "7.0", True))
    answer = channel.receive()
    assert isinstance(answer, Refused)
    assert "do not speak the same protocol" in answer.error.happened
    assert channel.receive() is None
    channel.close()


def test_a_bench_that_does_not_answer_is_said_not_to(monkeypatch: pytest.MonkeyPatch) -> None:
    from niente.core.serving import remote_bench

    monkeypatch.setattr(remote_bench, "WELCOME_S", 0.1)
    ours, theirs = socket.socketpair()
    with pytest.raises(RigError, match="does not answer"):
        remote_bench.RemoteBench(ours, Ear())
    theirs.close()


def test_a_bench_that_has_ended_takes_no_requests(serve: Serve) -> None:
    ear = Ear()
    client = serve(ear)
    client.server.over.set()
    until(lambda: bool(ear.of(BenchLost)))
    assert ear.of(BenchLost) == [BenchLost("The bench ended.", False)]
    with pytest.raises(RigError, match="process has ended"):
        client.note("late")
    client.send_command(Command.SKIP)  # nothing runs: nothing is sent
    client.stop()


def test_a_bench_that_nobody_looks_on_ends(serve: Serve, monkeypatch: pytest.MonkeyPatch) -> None:
    from niente.core.serving import server

    monkeypatch.setattr(server, "LINGER_S", 0.1)
    client = serve(Ear())
    client.leave()
    assert client.over.wait(PATIENCE_S)


# -- what is kept for whom -------------------------------------------------------------------------------------------------


def frame(run_id: int | None, at: float) -> FrameTaken:
    return FrameTaken(Frame(at, np.array([at])), run_id)


def test_an_outbox_that_nobody_empties_says_so(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(outbox_module, "MAX_SAMPLES", 4)
    monkeypatch.setattr(outbox_module, "MAX_OTHERS", 4)
    box = Outbox()
    for number in range(8):
        box.put(WarningRaised(str(number)))
    with pytest.raises(OutboxFullError):
        box.put(WarningRaised("one too many"))
    box.close()
    assert box.take() is not None
    assert box.take() is None


def test_what_is_under_way_is_what_still_holds() -> None:
    under_way = UnderWay()
    card = larkspur_rig().describe()
    plan = short_plan(card, COOL, seconds=60.0)
    opened = RunOpened(7, 0, 1, plan.steps[0], 1, 0, COOL, "vector", 0.0)
    told: list[Record] = [PlanStarted(plan, 1, 0), opened, frame(7, 1.0), frame(7, 2.0), StateChanged(BenchState.EXPOSING)]
    for record in told:
        under_way.hear(record)
    assert under_way.before_samples() == [told[0], opened]
    assert under_way.last_s == 2.0
    assert under_way.after_samples() == [told[-1]]
    closed = RunClosed(7, 0, RunOutcome.DONE, "its time is over")
    under_way.hear(closed)
    assert closed in under_way.after_samples()
    under_way.hear(HandCardShown(None))
    under_way.hear(PlanEnded(True, "the plan is done"))
    assert under_way.before_samples() == []
    assert under_way.after_samples() == [told[-1]]


def test_notes_of_a_client_are_in_the_book(serve: Serve, tmp_path: Path) -> None:
    ear = Ear()
    serve(ear).note("a smell of dust #dust")
    until(lambda: bool(ear.of(NoteAdded)))
    book = BookReader(tmp_path / "b.niente")
    assert [note.tags for note in notes_in(book)] == [("dust",)]
    book.close()


# -- a setting that stays ----------------------------------------------------------------------------------------------


def test_a_setting_that_stays_is_known_to_everybody(serve: Serve) -> None:
    mine, theirs = Ear(), Ear()
    first = serve(mine)
    second = another_client(first.server, theirs)
    with pytest.raises(BookError, match="is view-only"):
        second.put_in_force(COOL)
    first.put_in_force(COOL)
    assert first.busy
    with pytest.raises(RigError, match="busy"):
        first.put_in_force(COOL)
    whole = COOL.over(first.card.stock)
    until(lambda: first.stays == whole and second.stays == whole)
    assert not first.busy
    late = another_client(first.server, Ear())
    assert late.stays == whole
    first.stop()
    until(lambda: first.stays is None and second.stays is None)


def test_a_plan_of_another_client_stays_one_that_runs(serve: Serve) -> None:
    """A setting that is refused since a plan runs by now must not let that plan seem to have ended."""
    ear = Ear()
    client = serve(ear, larkspur_rig(pace=600.0))
    client.bench.start(short_plan(client.card, COOL, seconds=3000.0), Limits())  # another's, of which this client hears late
    client._ask(PutInForce(COOL))
    client._putting = True
    until(lambda: bool(ear.of(SettingStays)) and bool(ear.of(PlanStarted)))
    assert client.busy
    client.stop()
    until(lambda: bool(ear.of(PlanEnded)))
    assert not client.busy


def test_what_the_bench_does_not_put_in_force_has_ended(serve: Serve) -> None:
    ear = Ear()
    client = serve(ear)
    with pytest.raises(RigError, match="range"):
        client.put_in_force(Setting(sustained_power_w=5000.0))
    client.bench.busy = True  # of which this client does not know yet
    client.put_in_force(COOL)
    until(lambda: bool(ear.of(SettingStays)))
    assert "busy" in ear.of(SettingStays)[0].problem  # type: ignore[union-attr]
    assert not client.busy
    client.bench.busy = False
