"""Plans run from the command line: events as JSON, words at the terminal, cards, what an end left open, and looking on."""

import io
import json
import sys
import threading
from pathlib import Path

import msgspec
import pytest

from niente.cli.main import REFUSED
from niente.cli.terminal import HELP, Terminal
from niente.core.acquisition.hand_cards import reading_card, setting_card
from niente.core.acquisition.opening import open_bench
from niente.core.model.commands import Command
from niente.core.model.errors import DocumentError
from niente.core.model.hand_cards import HandCard
from niente.core.model.limits import Limits
from niente.core.model.records import HandCardShown, Record
from niente.core.model.rig_card import SetBy
from niente.core.model.rig_sheet import applied, sheet_of
from niente.core.model.setting import Setting
from niente.core.planning.templates import grid_project
from niente.core.rigs.simulated.machine_files import shipped_file
from niente.core.rigs.simulated.rig import SimulatedRig
from niente.core.storage.reader import BookReader
from tests.cli.test_commands import niente
from tests.conftest import Watcher, larkspur_rig, short_plan
from tests.core.acquisition.test_recovery import left_open
from tests.here import serve_here


def plover() -> SimulatedRig:
    return SimulatedRig(shipped_file("plover"), seed=1)


def plan_file(folder: Path, rig: SimulatedRig, *watts: float, seconds: float = 40.0) -> Path:
    plan = short_plan(rig.describe(), *(Setting(sustained_power_w=one) for one in watts), seconds=seconds)
    file = folder / "plan.json"
    file.write_bytes(plan.to_json())
    return file


def test_what_happens_is_told_as_json(
    tmp_path: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    file = plan_file(tmp_path, plover(), 24.0, seconds=240.0)
    book = str(tmp_path / "json.niente")
    code, out, err = niente(capsys, monkeypatch, "run", str(file), "--rig", "plover", "--book", book, "--json")
    assert code == 0
    told = [json.loads(line) for line in out.splitlines()]
    kinds = [one["event"] for one in told]
    assert kinds[0] == "plan_started"
    assert kinds[-1] == "plan_ended" or "plan_ended" in kinds
    opened = next(one for one in told if one["event"] == "run_opened")
    assert (opened["number"], opened["of"], opened["setting"]) == (1, 1, {"sustained_power_w": 24.0})
    card = next(one for one in told if one["event"] == "card")["card"]
    assert card["lines"][0]["words"] == "Sustained power limit"
    assert next(one for one in told if one["event"] == "run_closed")["how"] == "done"
    assert all(one["half_width_k"] > 0 for one in told if one["event"] == "forecast")
    assert "taken as done" in err
    reference = (Path(__file__).parents[2] / "docs" / "reference" / "command-line.md").read_text()
    for one in told:
        assert f"`{one['event']}`" in reference
        assert all(f"`{key}`" in reference for key in one if key != "event"), one


def test_a_simulated_meter_is_read_where_nobody_sits(
    tmp_path: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:

    book = tmp_path / "meter.niente"
    bench = open_bench(larkspur_rig(seed=1), book, lambda event: None)
    sheet = msgspec.structs.replace(sheet_of(bench.own_card), by_hand=("noise_dba",))
    bench.save_project(msgspec.structs.replace(grid_project(bench.card), sheet=sheet))
    bench.close()
    file = plan_file(tmp_path, larkspur_rig(), 100.0, seconds=60.0)
    code, _, err = niente(capsys, monkeypatch, "run", str(file), "--rig", "larkspur", "--book", str(book))
    assert code == 0
    assert "Read by hand" in err
    reader = BookReader(book)
    (reading,) = reader.events(kind="reading")
    assert 15.0 < reading.body["value"] < 80.0
    reader.close()


def test_a_real_machine_that_needs_hands_is_refused_where_nobody_sits(
    tmp_path: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    """Before anything is set: the refusal says what hands are needed for."""
    file = plan_file(tmp_path, plover(), 24.0)
    book = tmp_path / "real.niente"
    words = ["run", str(file), "--rig", "tests.contract.by_hand:real_plover", "--book", str(book), "--cautions-read"]
    monkeypatch.setattr(sys, "stdin", io.StringIO(""))
    code, _, err = niente(capsys, monkeypatch, *words)
    assert code == REFUSED
    assert "set sustained power limit" in err
    reader = BookReader(book)
    assert reader.runs() == []
    reader.close()


@pytest.mark.parametrize(("word", "runs"), [("failed", 1), ("repeat", 3)])
def test_a_person_says_what_an_end_was(
    tmp_path: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch, word: str, runs: int
) -> None:
    book = tmp_path / "ended.niente"
    plan = left_open(book, larkspur_rig(), Watcher())
    file = tmp_path / "plan.json"
    file.write_bytes(plan.to_json())
    words = ["run", str(file), "--rig", "larkspur", "--seed", "3", "--book", str(book), "--last-run", word]
    code, _, err = niente(capsys, monkeypatch, *words)
    assert code == 0
    assert ("counts as failed" in err) == (word == "failed")
    reader = BookReader(book)
    assert sum(run.outcome == "done" for run in reader.runs()) == runs
    reader.close()


def test_the_status_of_a_book_is_read_beside_its_writer(
    tmp_path: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    watcher = Watcher()
    bench = open_bench(larkspur_rig(pace=600.0), tmp_path / "status.niente", watcher.hear)
    try:
        bench.start(short_plan(bench.card, Setting(sustained_power_w=100.0), seconds=8000.0), Limits())
        for _ in range(200):
            code, out, _ = niente(capsys, monkeypatch, "status", str(bench.path), "--json")
            said = json.loads(out)
            if said["running"] is not None and said["running"]["samples"] > 100:
                break
            threading.Event().wait(0.05)
        assert code == 0
        assert said["rig"] == "larkspur"
        assert said["running"]["load"] == "vector"
        assert 20.0 < said["running"]["hottest_core_c"] < 100.0
        code, out, _ = niente(capsys, monkeypatch, "status", str(bench.path))
        assert out.startswith("Larkspur, filter in: 0 of 1 runs done; vector for")
    finally:
        bench.close()
    code, out, _ = niente(capsys, monkeypatch, "status", str(tmp_path / "status.niente"))
    assert "nothing runs" in out
    code, _, err = niente(capsys, monkeypatch, "status", str(tmp_path / "none.niente"))
    assert code == REFUSED
    assert "There is no book" in err


# -- a person at the terminal --------------------------------------------------------------------------------------------


class Stand:
    """A bench and a terminal that only keep what they are told."""

    def __init__(self, card: HandCard | None = None, shown: dict[str, float] | None = None) -> None:
        self.card = card
        self.shown = shown or {}
        self.printed: list[str] = []
        self.told: list[Command] = []
        self.notes: list[str] = []
        self.confirmed: list[dict[str, float]] = []
        self.stopped = 0
        self.handed_over = 0

    def print_line(self, text: str) -> None:
        self.printed.append(text)

    def send_command(self, command: Command) -> None:
        self.told.append(command)

    def note(self, text: str) -> None:
        self.notes.append(text)

    def stop(self) -> None:
        self.stopped += 1

    def hand_over(self) -> None:
        self.handed_over += 1

    def confirm(self, readings: dict[str, float]) -> None:
        if self.card is not None:
            self.card.insist(readings)
        self.confirmed.append(dict(readings))


def at(stand: Stand, monkeypatch: pytest.MonkeyPatch) -> Terminal:
    monkeypatch.setattr("niente.cli.terminal.select.select", lambda *_: ([], [], []))
    terminal = Terminal(stand, stand)  # type: ignore[arg-type]
    terminal.look()
    return terminal


def test_words_are_taken_while_it_runs(monkeypatch: pytest.MonkeyPatch) -> None:
    stand = Stand()
    terminal = at(stand, monkeypatch)
    for typed in ("hold", "Hold after\n", "go on", "skip", "repeat", "note panel rattles #fan", "stop", "", "what?"):
        terminal.take(typed)
    assert stand.told == [Command.PAUSE_NOW, Command.PAUSE_AFTER, Command.RESUME, Command.SKIP, Command.REPEAT]
    assert stand.notes == ["panel rattles #fan"]
    assert stand.stopped == 1
    assert stand.printed[-1] == HELP


def test_an_end_of_input_confirms_nothing(monkeypatch: pytest.MonkeyPatch) -> None:
    """A terminal that hangs up gives an empty read, again and again; hands have done nothing by that."""
    rig = plover().describe()
    stand = Stand(setting_card(rig, Setting(sustained_power_w=24.0).over(rig.stock), {}))
    monkeypatch.setattr("niente.cli.terminal.select.select", lambda *_: ([sys.stdin], [], []))
    monkeypatch.setattr(sys, "stdin", io.StringIO(""))
    terminal = Terminal(stand, stand)  # type: ignore[arg-type]
    terminal.look()
    assert terminal.gone
    assert not stand.confirmed


def test_enter_says_that_hands_are_done(monkeypatch: pytest.MonkeyPatch) -> None:
    rig = plover().describe()
    stand = Stand(setting_card(rig, Setting(sustained_power_w=24.0).over(rig.stock), {}))
    terminal = at(stand, monkeypatch)
    assert "Press Enter" in stand.printed[-1]
    terminal.take("yes?\n")
    assert not stand.confirmed
    terminal.take("\n")
    assert stand.confirmed == [{}]


def test_readings_are_asked_for_one_by_one_until_they_can_be(monkeypatch: pytest.MonkeyPatch) -> None:
    card = larkspur_rig().describe()
    asked = reading_card(applied(card, msgspec.structs.replace(sheet_of(card), by_hand=("wall_power_w", "noise_dba"))))
    assert asked is not None
    stand = Stand(asked, {"wall_power_w": 187.5})
    terminal = at(stand, monkeypatch)
    assert "the simulated meter shows 187.5" in stand.printed[-1]
    terminal.take("lots\n")
    assert "no number" in stand.printed[-1]
    terminal.take("0,187 kW\n")
    terminal.take("3140\n")  # the comma was lost: both are asked for again
    assert any("cannot be" in text for text in stand.printed)
    assert not stand.confirmed
    terminal.take("187\n")
    terminal.take("31,4 dBA\n")
    assert stand.confirmed == [{"wall_power_w": 187.0, "noise_dba": 31.4}]
    with pytest.raises(DocumentError):
        asked.insist({"noise_dba": 31.4})


def test_a_bench_with_its_own_terminal(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """The whole way: the card of a bench is confirmed by a line that is typed."""
    watcher = Watcher()
    stand = Stand()
    bench = serve_here(lambda hear: open_bench(plover(), tmp_path / "typed.niente", hear), watcher.hear)
    terminal = Terminal(bench, stand)
    monkeypatch.setattr("niente.cli.terminal.select.select", lambda *_: ([], [], []))

    def on(event: Record) -> None:
        if isinstance(event, HandCardShown):
            stand.card = event.card

    watcher.on = on
    bench.start(short_plan(bench.card, Setting(sustained_power_w=24.0), seconds=30.0), Limits())
    for _ in range(400):
        if stand.card is not None:
            break
        threading.Event().wait(0.02)
    terminal.look()
    terminal.take("\n")
    assert watcher.end().complete
    assert bench.bench.by_hand == {"sustained_power_w": 24.0}
    assert all(control.set_by == SetBy.FIRMWARE for control in bench.card.controls if control.name == "sustained_power_w")
    bench.close()
