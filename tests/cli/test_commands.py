"""The command line: what it prints, how it ends, and that nothing is lost when it is ended."""

import contextlib
import json
import os
import signal
import sqlite3
import subprocess
import sys
from pathlib import Path

import msgspec
import numpy as np
import pytest
from click.testing import CliRunner

from niente.cli.main import NOT_ENOUGH, REFUSED, commands, main
from niente.cli.running import ENDED_EARLY, STOPPED
from niente.core.model.plan import read_plan
from niente.core.model.project import Project
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting
from niente.core.storage.reader import BookReader
from tests.conftest import short_plan
from tests.waiting import PATIENCE_S, until

NIENTE = [sys.executable, "-m", "niente.cli"]


def niente(capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch, *words: str) -> tuple[int, str, str]:
    """Run the command line in this process, as ``niente-cli`` would."""
    monkeypatch.setattr(sys, "argv", ["niente-cli", *words])
    with pytest.raises(SystemExit) as ended:
        main()
    out, err = capsys.readouterr()
    assert "Traceback" not in out + err
    return int(ended.value.code or 0), out, err


def test_the_rigs_are_listed() -> None:
    told = CliRunner().invoke(commands, ["rigs"])
    assert told.exit_code == 0
    assert "larkspur" in told.output
    cards = json.loads(CliRunner().invoke(commands, ["rigs", "--json"]).output)
    assert cards[0]["name"] == "larkspur"


def test_a_plan_is_made_with_options() -> None:
    words = [
        "plan",
        "quiet-point",
        "--rig",
        "larkspur",
        "--power",
        "90,120",
        "--fans",
        "30",
        "--offset",
        "-40",
        "--loads",
        "vector",
    ]
    told = CliRunner().invoke(commands, words)
    assert told.exit_code == 0, told.output
    plan = read_plan(told.output)
    heavy = [step for step in plan.steps if step.stage == "capacity"]
    assert [(step.setting.sustained_power_w, step.setting.fan_duty["case"]) for step in heavy] == [(90.0, 30.0), (120.0, 30.0)]
    assert all(step.setting.voltage_offset_mv == -40.0 for step in heavy)
    assert {step.load for step in plan.steps} == {"idle", "vector", "single"}  # one core at stock, for what the pick costs it


def test_a_plan_runs_goes_on_and_gives_a_pick(
    tmp_path: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    plan, book = tmp_path / "plan.json", tmp_path / "out.niente"
    code, out, _ = niente(
        capsys, monkeypatch, *["plan", "quiet-point", "--rig", "larkspur", "--power", "85,105,125", "--fans", "24,48"]
    )
    plan.write_text(out)
    assert code == 0
    words = ["run", str(plan), "--rig", "larkspur", "--seed", "3", "--book", str(book)]
    code, _, err = niente(capsys, monkeypatch, *words)
    assert code == 0
    assert "The plan is done" in err
    code, _, err = niente(capsys, monkeypatch, *words)
    assert code == 0
    assert "Going on" in err
    code, out, _ = niente(capsys, monkeypatch, "choose", str(book), "--json")
    choice = json.loads(out)
    assert code == 0
    assert choice["format"] == "niente-choice/1"
    assert choice["confirmed"]
    assert len(choice["runners_up"]) == 3
    assert choice["pick"]["setting"]["fan_duty"]["case"] >= 22.0  # what turns about as fast as at 24 % counts as measured
    assert {cost["limit"] for cost in choice["costs"]} == {"throughput", "headroom", "results", "failures"}
    code, out, _ = niente(capsys, monkeypatch, "choose", str(book))
    assert out.startswith("The pick:")
    code, _, err = niente(capsys, monkeypatch, "choose", str(book), "--headroom", "60")
    assert code == NOT_ENOUGH
    assert "most headroom" in err


def test_what_was_asked_on_the_command_line_is_answered_and_kept_in_the_book(
    tmp_path: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    plan, book = tmp_path / "plan.json", tmp_path / "fans.niente"
    _, out, _ = niente(capsys, monkeypatch, "plan", "fan-sweep", "--rig", "wren")
    plan.write_text(out)
    code, _, _ = niente(capsys, monkeypatch, "run", str(plan), "--rig", "wren", "--book", str(book))
    assert code == 0
    reader = BookReader(book)
    project = reader.project()
    reader.close()
    assert project is not None
    assert project.question.template == "fan-sweep"  # the window opens under it
    code, out, _ = niente(capsys, monkeypatch, "answer", str(book))
    assert code == 0
    assert out.startswith("Fan sweep: Wren")
    code, out, _ = niente(capsys, monkeypatch, "answer", str(book), "--json")
    (answer,) = json.loads(out)
    assert answer["format"] == "niente-answer/1"
    assert answer["state"] == "complete"
    assert answer["sentence"] in niente(capsys, monkeypatch, "answer", str(book))[1]


def test_more_than_the_makers_voltage_is_asked_for_each_time(
    tmp_path: Path, card: RigCard, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    plan, book = tmp_path / "plan.json", str(tmp_path / "x.niente")
    plan.write_bytes(short_plan(card, Setting(core_offset_mv={"3": 10.0}), seconds=5.0).to_json())
    words = ["run", str(plan), "--rig", "larkspur", "--book", book]
    code, _, err = niente(capsys, monkeypatch, *words)
    assert code != 0
    assert "above stock: core\u00a03 10\u00a0mV" in err
    assert "Nothing was started" in err
    assert niente(capsys, monkeypatch, *words, "--raise-voltage")[0] == 0
    code, _, _ = niente(capsys, monkeypatch, *words)
    assert code != 0  # each time


def test_a_proof_for_people_and_for_scripts(
    sweep: tuple[Path, Project], capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    book = str(sweep[0])
    code, out, _ = niente(capsys, monkeypatch, "proof", book, "--json")
    proof = json.loads(out)
    assert code == 0
    assert proof["format"] == "niente-proof/1"
    assert 0.0 <= proof["failure_chance"] <= proof["failure_chance_at_most"] <= 1.0
    assert proof["decided_by"] in {load["load"] for load in proof["loads"]}
    assert sum(one["failed"] for one in proof["exposures"]) == sum(load["failures"] for load in proof["loads"])
    _, deep, _ = niente(capsys, monkeypatch, "proof", book, "--json", "--set", "voltage_offset_mv=-90", "--horizon", "48")
    assert json.loads(deep)["failure_chance_at_most"] > 0.9
    assert json.loads(deep)["goal"]["horizon_s"] == 172800.0
    code, out, _ = niente(capsys, monkeypatch, "proof", book)
    assert out.startswith("A failure within 24\u00a0h is at most")
    assert "corrupts files" in out
    assert "Run next" in out


def test_what_cannot_be_used_is_refused_in_sentences(
    tmp_path: Path, card: RigCard, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    no_plan = tmp_path / "plan.json"
    no_plan.write_text('{"format": "niente-plan/1", "rig": 5}')
    far = tmp_path / "far.json"
    far.write_bytes(short_plan(card, Setting(sustained_power_w=900.0)).to_json())
    book = str(tmp_path / "x.niente")
    for words, code, said in (
        (["run", str(no_plan), "--rig", "larkspur", "--book", book], REFUSED, "at rig"),
        (["run", str(tmp_path / "none.json"), "--rig", "larkspur", "--book", book], REFUSED, "cannot be read"),
        (["run", str(far), "--rig", "nobody", "--book", book], REFUSED, "no rig called"),
        (["run", str(far), "--rig", "larkspur", "--book", str(no_plan)], REFUSED, "not a Niente book"),
        (["run", str(far), "--rig", "larkspur", "--book", book], ENDED_EARLY, "outside the rig's range"),
        (["choose", str(tmp_path / "none.niente")], REFUSED, "There is no book"),
        (["choose", book], NOT_ENOUGH, "three settled runs"),
        (["plan", "quiet-point", "--rig", "larkspur", "--power", "much"], 2, "wanted CONTROL=80,100,125"),
        (["plan", "quiet-point", "--rig", "larkspur", "--power", "20"], REFUSED, "lies outside 45 to 200"),
        (["plan", "quiet-point"], 2, "--rig"),
    ):
        found, out, err = niente(capsys, monkeypatch, *words)
        assert (found, said in out + err) == (code, True), (words, found, out + err)


def test_a_real_machine_wants_its_cautions_read(
    tmp_path: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    from tests.core.acquisition.test_cautions import plan as ringing

    file, book = tmp_path / "plan.json", str(tmp_path / "real.niente")
    file.write_bytes(ringing().to_json())
    words = ["run", str(file), "--rig", "tests.contract.outside:RealDoorbell", "--book", book]
    code, _, err = niente(capsys, monkeypatch, *words)
    assert code == REFUSED
    assert "unplugged" in err
    code, _, _ = niente(capsys, monkeypatch, *words, "--cautions-read")
    assert code == 0
    code, _, _ = niente(capsys, monkeypatch, *words)  # the book remembers
    assert code == 0


def test_an_outside_rig_runs(tmp_path: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch) -> None:
    from tests.contract.outside import CARD

    plan = tmp_path / "plan.json"
    plan.write_bytes(short_plan(CARD, Setting(sustained_power_w=10.0), load="ring", seconds=90.0).to_json())
    book = tmp_path / "doorbell.niente"
    code, _, err = niente(
        capsys, monkeypatch, "run", str(plan), "--rig", "tests.contract.outside:Doorbell", "--book", str(book)
    )
    assert code == 0, err
    reader = BookReader(book)
    assert reader.card() == CARD
    assert reader.frames(reader.runs()[0])[1].shape[1] == len(CARD.channels)
    reader.close()


def test_an_outside_rig_gets_its_quiet_point(
    tmp_path: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    """One fan group, one load: the same questions are answered, or it is said why not."""
    heard, deaf = ("6,9,12", "30,60", 0, "The pick:"), ("6,12", "30,60", NOT_ENOUGH, "no noise readings")
    for name, (watts, duties, code, said) in (("Doorbell", heard), ("DeafDoorbell", deaf)):
        rig, plan, book = f"tests.contract.outside:{name}", tmp_path / f"{name}.json", tmp_path / f"{name}.niente"
        _, out, _ = niente(capsys, monkeypatch, "plan", "quiet-point", "--rig", rig, "--power", watts, "--fans", duties)
        plan.write_text(out)
        assert niente(capsys, monkeypatch, "run", str(plan), "--rig", rig, "--book", str(book))[0] == 0
        found, out, err = niente(capsys, monkeypatch, "choose", str(book), "--throughput", "70")
        assert (found, said in out + err) == (code, True), out + err


def bench_process(book: Path) -> int:
    """The process that holds the bench of a book."""
    for folder in Path("/proc").iterdir():
        if folder.name.isdigit():
            with contextlib.suppress(OSError):
                words = (folder / "cmdline").read_bytes().split(b"\0")
                if b"niente.core.serving.process" in words and str(book).encode() in words:
                    return int(folder.name)
    raise AssertionError(f"no bench of {book}")


def started(tmp_path: Path, card: RigCard, *more: str) -> tuple[subprocess.Popen[str], Path]:
    """Start a long run in a process of its own, and wait until samples are in its book."""
    plan, book = tmp_path / "plan.json", tmp_path / "out.niente"
    plan.write_bytes(
        short_plan(card, Setting(sustained_power_w=100.0), Setting(sustained_power_w=110.0), seconds=600.0).to_json()
    )
    words = [*NIENTE, "run", str(plan), "--rig", "larkspur", "--seed", "3", "--book", str(book), *more]
    process = subprocess.Popen(words, stderr=subprocess.PIPE, text=True)

    def begun() -> bool:
        with contextlib.suppress(sqlite3.OperationalError):
            return bool(
                sqlite3.connect(f"file:{book}?mode=ro", uri=True).execute("SELECT sum(count) FROM frames").fetchone()[0]
            )
        return False

    until(begun)
    return process, book


@pytest.mark.filterwarnings("ignore::ResourceWarning")
def test_kill_9_loses_at_most_a_second_and_the_next_start_says_so(tmp_path: Path, card: RigCard) -> None:
    process, book = started(tmp_path, card, "--pace", "60")
    reader = BookReader(book)
    until(lambda: reader.frames(reader.runs()[0])[0].shape[0] >= 90)
    before = reader.frames(reader.runs()[0])[0].shape[0]
    os.kill(bench_process(book), signal.SIGKILL)
    _, err = process.communicate(timeout=PATIENCE_S)
    assert process.returncode == ENDED_EARLY
    assert "ended without a word" in err
    assert "its load ended with it" in err  # so its guardian says
    after, _ = reader.frames(reader.runs()[0])
    assert after.shape[0] >= before
    assert np.array_equal(np.diff(after), np.ones(after.shape[0] - 1))
    assert reader.runs()[0].outcome is None
    reader.close()
    again = subprocess.run(
        [*NIENTE, "run", str(tmp_path / "plan.json"), "--rig", "larkspur", "--seed", "3", "--book", str(book)],
        capture_output=True,
        text=True,
        timeout=PATIENCE_S,
        check=False,
    )
    assert again.returncode == 0
    assert "went down in run 1" in again.stderr
    reader = BookReader(book)
    assert [(run.step, run.outcome) for run in reader.runs()] == [(0, "interrupted"), (0, "done"), (1, "done")]
    assert reader.frames(reader.runs()[0])[0].shape[0] == after.shape[0]  # what was measured is kept
    reader.close()


@pytest.mark.filterwarnings("ignore::ResourceWarning")
@pytest.mark.parametrize("one", [signal.SIGINT, signal.SIGHUP, signal.SIGQUIT])
def test_ctrl_c_and_a_terminal_that_closes_stop_and_restore(tmp_path: Path, card: RigCard, one: signal.Signals) -> None:
    process, book = started(tmp_path, card, "--pace", "60")
    process.send_signal(one)
    _, err = process.communicate(timeout=PATIENCE_S)
    assert process.returncode == STOPPED
    assert "restored" in err
    assert "Traceback" not in err
    reader = BookReader(book)
    assert [run.outcome for run in reader.runs()] == ["stopped"]
    reader.close()


@pytest.mark.filterwarnings("ignore::ResourceWarning")
@pytest.mark.parametrize("if_lost", ["go-on", "stop"])
def test_whoever_reads_the_output_may_go_away(tmp_path: Path, card: RigCard, if_lost: str) -> None:
    """A closed pipe is no error, and reaches nothing that guards: the plan goes on, or stops and restores, as was said."""
    plan, book = tmp_path / "plan.json", tmp_path / "out.niente"
    plan.write_bytes(short_plan(card, Setting(sustained_power_w=100.0), seconds=600.0).to_json())
    words = ["run", str(plan), "--rig", "larkspur", "--seed", "3", "--book", str(book), "--pace", "60", "--json"]
    process = subprocess.Popen(
        [*NIENTE, *words, "--if-lost", if_lost], stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
    )
    assert process.stdout is not None
    assert "plan_started" in process.stdout.readline()
    process.stdout.close()
    assert process.stderr is not None
    err = process.stderr.read()
    assert process.wait(PATIENCE_S) == (0 if if_lost == "go-on" else STOPPED)
    assert "Traceback" not in err
    reader = BookReader(book)
    outcomes = [run.outcome for run in reader.runs()]
    reader.close()
    if if_lost == "stop":
        assert outcomes == ["stopped"]
        return
    assert outcomes == [None]
    bench = bench_process(book)
    os.kill(bench, signal.SIGTERM)
    until(lambda: not Path(f"/proc/{bench}").exists())


def test_the_package_starts_as_a_module() -> None:
    told = subprocess.run([*NIENTE, "--version"], capture_output=True, text=True, check=True)
    assert "niente-cli" in told.stdout


def test_public_names_stand_in_the_reference(card: RigCard) -> None:
    """Outside rigs and scripts live by these names."""
    text = "\n".join(path.read_text() for path in (Path(__file__).parents[2] / "docs" / "reference").glob("*.md"))
    from niente.core.model.frame import Frame
    from niente.core.model.plan import Exposure, Guard, Plan, Step
    from niente.core.selection.pick import Candidate

    names = {
        name
        for struct in (Setting, RigCard, Frame, Plan, Step, Exposure, Guard, Candidate)
        for name in struct.__struct_encode_fields__
    }
    names |= {channel.name.partition(".")[0] for channel in card.channels} | {load.name for load in card.loads}
    names -= {"limit_w", "duty"}  # not in the JSON
    missing = sorted(name for name in names if f"`{name}" not in text)
    assert not missing
    assert msgspec.json.encode(card)
