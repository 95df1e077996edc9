"""How a plan stands: runs answer steps by what was run, edits keep what was measured, and one failure counts."""

import time
from pathlib import Path

import msgspec
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from niente.core.acquisition.bench import Bench
from niente.core.analysis.evidence import Evidence
from niente.core.model.commands import Command
from niente.core.model.guard_rules import default_guards
from niente.core.model.plan import PLAN_FORMAT, Entry, Exposure, Plan, QuietHours, SearchMethod, Step, Until
from niente.core.model.question import Axis, ListChange, ListEdit
from niente.core.model.records import RunClosed, RunLeftOut, RunOpened, StateChanged, WarningRaised
from niente.core.model.runs import RunKind, RunOutcome
from niente.core.model.setting import Setting
from niente.core.model.states import BenchState
from niente.core.planning.list_edits import KeyedEntries, edited, keyed
from niente.core.planning.progress import Row, RunStatus, plan_rows
from niente.core.planning.templates import anew, entries_of, first_question, plan_for
from niente.core.rigs.simulated.faults import Fault, FaultKind
from niente.core.science.clock_limiter import ClockLimiter
from niente.core.storage.reader import BookReader
from tests.conftest import larkspur_rig
from tests.core.planning.plans import card_of, copy, read, run, short
from tests.grids import grid_question

CARD = card_of("larkspur")
MINUTE = Exposure(60.0, 60.0)


def step(watts: float, duty: float = 40.0, **changed: object) -> Step:
    usual = Step(Setting(sustained_power_w=watts, fan_duty={"case": duty}), "vector", MINUTE, "ladder", "a test")
    return msgspec.structs.replace(usual, **changed)


def plan(*entries: Entry, **changed: object) -> Plan:
    return msgspec.structs.replace(Plan(PLAN_FORMAT, CARD.name, "test", entries, default_guards(CARD)), **changed)


def standings(one: Plan, evidence: Evidence | None = None) -> list[str]:
    return [row.status.value for row in plan_rows(one, CARD, evidence)]


@pytest.fixture(scope="module")
def three(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A book with runs at 80, 100 and 120 W."""
    book = tmp_path_factory.mktemp("three") / "three.niente"
    run(plan(step(80.0), step(100.0), step(120.0)), larkspur_rig(), book)
    return book


def test_an_edited_plan_keeps_what_was_measured(three: Path) -> None:
    evidence = read(three)
    assert standings(plan(step(120.0), step(90.0), step(80.0)), evidence) == ["done", "ahead", "done"]
    assert standings(plan(step(80.0), step(80.0)), evidence) == ["done", "ahead"]  # measured once, asked for twice
    longer = step(80.0, exposure=Exposure(120.0, 120.0))
    assert standings(plan(longer), evidence) == ["ahead"]  # it did not last that long
    assert standings(plan(step(80.0, exposure=Exposure(30.0, 30.0))), evidence) == ["done"]
    assert standings(plan(step(80.0, load="dome")), evidence) == ["ahead"]
    assert standings(plan(step(80.0, variant="filter out")), evidence) == ["ahead"]  # another state of the machine
    assert standings(plan(step(80.0, variant="filter in")), evidence) == ["done"]
    assert standings(plan(step(80.0, skip=True), step(90.0, skip=True)), evidence) == ["done", "skipped"]


def test_measured_anew_only_later_runs_count(three: Path) -> None:
    evidence = read(three)
    fresh = anew(grid_question(CARD)).since
    assert standings(plan(step(80.0), since=fresh), evidence) == ["ahead"]
    assert standings(plan(step(80.0), since="2020-01-01T00:00:00+00:00"), evidence) == ["done"]


def test_whole_numbers_are_the_same_figures(three: Path) -> None:
    """A rig of one's own may say 80 where the book says 80.0."""
    evidence = read(three)
    assert standings(plan(step(80, duty=40)), evidence) == ["done"]


def test_a_plan_under_way_is_changed_and_goes_on(tmp_path: Path) -> None:
    """Another axis, while it runs: what is done stays, and the rest is the new plan's."""
    other = plan(step(80.0), step(90.0), step(110.0))

    def change(event: object, bench: Bench) -> None:
        if isinstance(event, RunOpened) and event.index == 1:
            bench.change_plan(other)

    watcher, evidence = run(plan(step(80.0), step(90.0), step(100.0)), larkspur_rig(), tmp_path / "b.niente", change)
    assert watcher.end().complete
    assert [run.setting.sustained_power_w for run in evidence.runs] == [80.0, 90.0, 110.0]


def test_a_plan_that_does_not_fit_is_not_changed_to(tmp_path: Path) -> None:
    def change(event: object, bench: Bench) -> None:
        if isinstance(event, RunOpened) and event.index == 0:
            bench.change_plan(plan(step(900.0)))

    watcher, evidence = run(plan(step(80.0), step(90.0)), larkspur_rig(), tmp_path / "b.niente", change)
    assert watcher.end().complete
    assert len(evidence.runs) == 2


@pytest.mark.parametrize("stop_at", [3, 9, 14])
def test_a_plan_stopped_and_resumed_gives_the_same_steps(stop_at: int, tmp_path: Path) -> None:
    """A search in it, whose steps follow from each other; once in one go, once with a stop in the middle."""
    card = CARD
    question = msgspec.structs.replace(first_question(card, "undervolt-ladder"), method=SearchMethod.LADDER)
    asked = short(plan_for(card, question), 60.0)

    def stop(event: object, bench: Bench) -> None:
        if isinstance(event, RunOpened) and event.index == stop_at:
            bench.stop()

    _, once = run(asked, larkspur_rig(), tmp_path / "once.niente")
    book = tmp_path / "twice.niente"
    first, _ = run(asked, larkspur_rig(), book, stop)
    assert not first.end().complete
    second, twice = run(asked, larkspur_rig(), book)
    assert second.end().complete
    kept = [run for run in twice.runs if run.outcome in ("done", "failed")]
    same = [(run.setting.key(), run.load) for run in once.runs if run.outcome in ("done", "failed")]
    depth = [run.setting.voltage_offset_mv for run in kept]
    # The same questions in the same order; an answer that is a matter of chance may differ, and the steps with it.
    common = min(len(same), stop_at)
    assert [(run.setting.key(), run.load) for run in kept][:common] == same[:common]
    deep = [(run.setting.key(), run.load) for run in kept if run.setting.voltage_offset_mv]
    assert len(set(deep)) == len(deep)  # nothing that was answered is run again
    assert 2 <= depth.count(0.0) <= 5  # stock, and what was found where nothing deeper is known to last


def test_resumed_in_the_middle_of_a_list_the_rest_is_run(tmp_path: Path) -> None:
    asked = plan(*(step(watts) for watts in (70.0, 80.0, 90.0, 100.0)))
    book = tmp_path / "b.niente"

    def stop(event: object, bench: Bench) -> None:
        if isinstance(event, RunOpened) and event.index == 2:
            bench.stop()

    run(asked, larkspur_rig(), book, stop)
    watcher, evidence = run(asked, larkspur_rig(), book)
    assert [event.index for event in watcher.of(RunOpened)] == [2, 3]
    done = [run.setting.sustained_power_w for run in evidence.runs if run.outcome == "done"]
    assert done == [70.0, 80.0, 90.0, 100.0]


# -- ladders, failures -------------------------------------------------------------------------------------------------


def faked(evidence: Evidence, **changed: object) -> Evidence:
    """The same evidence with something of its second run changed."""
    runs = list(evidence.runs)
    runs[1] = msgspec.structs.replace(runs[1], **changed)
    return msgspec.structs.replace(evidence, runs=tuple(runs))


def test_a_ladder_ends_where_heat_holds_the_clock(three: Path) -> None:
    held = faked(read(three), limiter_shares={ClockLimiter.TEMPERATURE_CAP.words: 1.0})
    assert held.runs[1].heat_limited
    ladder = [step(watts, until=Until.HEAT) for watts in (80.0, 100.0, 130.0, 140.0)]
    other_fans = step(140.0, 90.0, until=Until.HEAT)
    free = step(150.0)
    assert standings(plan(*ladder, other_fans, free), held) == ["done", "done", "left out", "left out", "ahead", "ahead"]
    assert "heat limited" in plan_rows(plan(*ladder), CARD, held)[2].reason


def test_one_failure_leaves_deeper_settings_out(three: Path) -> None:
    """One pass out of two or three is a failure (common practice, no source); deeper at no lower a clock fails too."""
    evidence = read(three)
    bad = evidence.runs[1].setting.replaced("voltage_offset_mv", -60.0)
    failed = faked(evidence, setting=bad, failures=1, outcome="failed")

    def at(watts: float, mv: float, load: str = "vector") -> Step:
        return step(watts, setting=Setting(sustained_power_w=watts, voltage_offset_mv=mv, fan_duty={"case": 40.0}), load=load)

    asked = plan(at(120.0, -60.0), at(120.0, -80.0), at(90.0, -80.0), at(120.0, -55.0), at(120.0, -80.0, "dome"))
    assert standings(asked, failed) == ["left out", "left out", "ahead", "ahead", "ahead"]
    assert standings(plan(step(100.0, setting=bad)), failed) == ["failed"]


def test_a_failure_after_a_pass_changes_what_a_search_found(evidence: Evidence) -> None:
    """The search says -X; a step at that fails; the search finds another value. What was measured deeper still counts for
    heat; at the highest limit, where the clock has most to bear, every step is run at the value that stands."""

    def capacity(known: Evidence) -> list[Row]:
        rows = plan_rows(plan_for(CARD, grid_question(CARD)), CARD, known)
        return [row for row in rows if row.step.stage == "capacity"]

    before = capacity(evidence)
    highest = max(row.step.setting.sustained_power_w for row in before)  # type: ignore[type-var]
    offset = before[0].step.setting.voltage_offset_mv or 0.0
    assert all(row.run is not None for row in before)
    last = next(row.run for row in before if row.step.setting.sustained_power_w == highest)
    assert last is not None
    late = msgspec.structs.replace(
        last, run_id=999, outcome=RunOutcome.FAILED, failures=1, seconds=120.0, step=last.step + 1, at_s=last.at_s + 9e4
    )
    after = capacity(msgspec.structs.replace(evidence, runs=(*evidence.runs, late)))
    used = {row.step.setting.voltage_offset_mv for row in after if row.step.setting.sustained_power_w == highest}
    assert len(used) == 1
    assert min(used) > offset  # type: ignore[operator,type-var]
    lower = [row for row in after if row.step.setting.sustained_power_w != highest]
    assert all(row.run is not None and row.run.failures == 0 for row in lower), "one failure made all of the heat runs again"
    again = [row for row in after if row.step.setting.sustained_power_w == highest]
    assert {row.status for row in again} == {RunStatus.AHEAD}


# -- rests, variants, budget, quiet hours ------------------------------------------------------------------------------


def test_a_cold_start_rests_and_the_book_has_it(tmp_path: Path) -> None:
    cold = [step(watts, exposure=Exposure(30.0, 30.0, idle_s=90.0)) for watts in (80.0, 100.0)]
    watcher, evidence = run(plan(*cold), larkspur_rig(), tmp_path / "b.niente")
    assert [event.state for event in watcher.of(StateChanged)].count(BenchState.WAITING) == 2
    reader = BookReader(tmp_path / "b.niente")
    rests = [(run.kind, run.load, run.outcome) for run in reader.runs() if run.kind == "rest"]
    seconds = [len(reader.frames(run)[0]) for run in reader.runs() if run.kind == "rest"]
    reader.close()
    assert rests == [("rest", "idle", "done")] * 2
    assert all(80 <= count <= 100 for count in seconds)
    assert len(evidence.runs) == 2  # a rest measures nothing


def test_a_rest_is_held_and_guarded(tmp_path: Path) -> None:
    """A pause in the middle of idle time begins it again; a guard watches it like any run."""
    cold = step(80.0, exposure=Exposure(30.0, 30.0, idle_s=60.0))
    seen: list[int] = []

    def hold(event: object, bench: Bench) -> None:
        if isinstance(event, StateChanged) and event.state == BenchState.WAITING and not seen:
            seen.append(1)
            bench.send_command(Command.PAUSE_NOW)
        if isinstance(event, StateChanged) and event.state == BenchState.PAUSED:
            bench.send_command(Command.RESUME)

    watcher, evidence = run(plan(cold), larkspur_rig(), tmp_path / "b.niente", hold)
    assert watcher.end().complete
    assert [event.state for event in watcher.of(StateChanged)].count(BenchState.WAITING) == 2
    assert len(evidence.runs) == 1
    stall = larkspur_rig(Fault(FaultKind.FAN_STALL, 20.0, "case"))
    windy = step(80.0, 90.0, exposure=Exposure(30.0, 30.0, idle_s=120.0))
    watcher, _ = run(plan(windy), stall, tmp_path / "c.niente")
    assert "stand still" in watcher.end().reason
    assert {opened.kind for opened in watcher.of(RunOpened)} == {RunKind.IDLE}  # it was seen in the rest


def test_what_fans_were_seen_to_do_is_known_in_later_runs(tmp_path: Path) -> None:
    """A fan that turned at 40 % in one run and stands at 40 % in the next has stalled."""
    stall = larkspur_rig(Fault(FaultKind.FAN_STALL, 100.0, "case"))
    watcher, _ = run(plan(step(80.0), step(90.0)), stall, tmp_path / "b.niente")
    assert not watcher.end().complete
    assert "case fans stand still at 40 %" in watcher.end().reason


def test_a_comparison_has_hands_change_the_machine(tmp_path: Path) -> None:
    asked = plan(*(step(100.0, variant=name) for name in ("filter in", "filter out", "filter out", "filter in")))
    watcher, evidence = run(asked, larkspur_rig(), tmp_path / "b.niente")
    assert watcher.end().complete
    said = [event.text for event in watcher.of(StateChanged) if event.state == BenchState.WAITING_FOR_HANDS]
    assert [text.partition(".")[0] for text in said] == ["The machine becomes 'filter out'", "The machine becomes 'filter in'"]
    assert [len(evidence.in_variant(name)) for name in ("filter in", "filter out")] == [2, 2]
    assert {row.status for row in plan_rows(asked, evidence.card, evidence)} == {RunStatus.DONE}


def test_nothing_new_is_begun_once_the_budget_is_used_up(tmp_path: Path) -> None:
    asked = plan(*(step(watts) for watts in (70.0, 80.0, 90.0, 100.0)), budget_s=150.0)
    book = tmp_path / "b.niente"
    watcher, evidence = run(asked, larkspur_rig(), book)
    assert not watcher.end().complete
    assert "time budget" in watcher.end().reason
    assert "2 runs left" in watcher.end().reason
    assert len(evidence.runs) == 2
    more, evidence = run(msgspec.structs.replace(asked, budget_s=None), larkspur_rig(), book)
    assert more.end().complete
    assert len(evidence.runs) == 4


def test_in_quiet_hours_only_quiet_runs_are_made(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """What is louder than allowed waits for their end; what was never heard is run, and heard."""
    idle = Exposure(30.0, 30.0)
    heard = [Step(Setting(fan_duty={"case": duty, "cooler": 20.0}), "idle", idle, "noise", "a test") for duty in (0.0, 90.0)]
    loud, soft = (
        step(60.0, setting=Setting(sustained_power_w=60.0, fan_duty={"case": duty, "cooler": 20.0})) for duty in (95.0, 0.0)
    )
    at_eleven = time.struct_time((2026, 1, 1, 23, 0, 0, 0, 1, 0))
    monkeypatch.setattr("niente.core.acquisition.engine.time.localtime", lambda: at_eleven)
    quiet = QuietHours(22.0, 23.5, 30.0)
    watcher, evidence = run(plan(*heard, loud, soft, quiet=quiet), larkspur_rig(), tmp_path / "b.niente")
    assert watcher.end().complete
    work = [run.setting.fan_duty["case"] for run in evidence.runs if run.load == "vector"]
    assert work == [0.0, 95.0]  # the quiet one first, the loud one once the hours are over
    waits = [event.text for event in watcher.of(StateChanged) if event.state == BenchState.WAITING]
    assert any("Quiet hours" in text for text in waits)


def test_quiet_hours_go_over_midnight() -> None:
    night = QuietHours(22.0, 7.0, 30.0)
    assert [night.covers(hour) for hour in (21.9, 22.0, 2.0, 6.9, 7.0, 12.0, 26.0)] == [
        False,
        True,
        True,
        True,
        False,
        False,
        True,
    ]
    assert night.hours_left(23.0) == 8.0
    assert night.hours_left(12.0) == 0.0
    assert QuietHours(9.0, 17.0, 30.0).covers(12.0)


def test_what_cannot_be_set_is_left_and_said(tmp_path: Path) -> None:
    """A speed that no duty comes to: nothing was heard of it, so the run waits, and the plan ends with the reason."""
    asked = plan(step(80.0), step(80.0, speed_rpm={"case": 90000.0}))
    watcher, evidence = run(asked, larkspur_rig(), tmp_path / "b.niente")
    assert watcher.end().complete
    assert len(evidence.runs) == 1
    assert any("90000 rpm" in event.text for event in watcher.of(WarningRaised))


def test_a_skipped_run_is_not_asked_again_under_its_plan(three: Path, tmp_path: Path) -> None:
    book = copy(three, tmp_path / "b.niente")
    asked = plan(step(80.0), step(95.0))

    def skip(event: object, bench: Bench) -> None:
        if isinstance(event, RunOpened):
            bench.send_command(Command.SKIP)

    watcher, evidence = run(asked, larkspur_rig(), book, skip)
    assert [event.outcome for event in watcher.of(RunClosed)] == ["skipped"]
    assert standings(asked, evidence) == ["done", "skipped"]
    assert standings(plan(step(95.0)), evidence) == ["ahead"]  # another plan asks for it again
    assert not watcher.of(RunLeftOut)


# -- edits of the list by hand -----------------------------------------------------------------------------------------

ENTRIES = tuple(entries_of(CARD, first_question(CARD, "capacity-ladder")))
list_changes = st.lists(
    st.tuples(
        st.sampled_from([ListChange.MOVE, ListChange.SKIP, ListChange.TAKE_UP, ListChange.REPEAT, ListChange.REMOVE]),
        st.integers(0, 20),
        st.integers(-1, 20),
    ),
    max_size=8,
)


@settings(max_examples=60)
@given(list_changes)
def test_edits_do_what_they_say_and_nothing_else(wanted: list[tuple[ListChange, int, int]]) -> None:
    edits: list[ListEdit] = []
    for change, index, after in wanted:
        at = keyed(ENTRIES, edits)
        if not at.keys:
            break
        entry = at.keys[index % len(at.keys)]
        behind = "" if after < 0 else at.keys[after % len(at.keys)]
        edits.append(ListEdit(change, entry, behind if change == ListChange.MOVE else ""))
    before = list(ENTRIES)
    found = list(edited(ENTRIES, edits))
    removed = sum(edit.change == ListChange.REMOVE for edit in edits)
    repeated = sum(edit.change == ListChange.REPEAT for edit in edits)
    assert len(found) == len(before) + repeated - removed
    plain = {msgspec.json.encode(msgspec.structs.replace(entry, skip=False)) for entry in found}
    assert plain <= {msgspec.json.encode(entry) for entry in before}
    assert len(set(keyed(ENTRIES, edits).keys)) == len(found)  # every entry has a key of its own


def test_edits_outlive_a_change_of_the_axes() -> None:
    question = first_question(CARD, "capacity-ladder")
    keys = KeyedEntries(entries_of(CARD, question)).keys
    edits = (
        ListEdit(ListChange.SKIP, keys[2]),
        ListEdit(ListChange.MOVE, keys[4], ""),
        ListEdit(ListChange.INSERT, "", keys[0], step(47.0)),
    )
    axis = Axis("sustained_power_w", tuple(one.setting.sustained_power_w or 0.0 for one in ENTRIES[:6]))  # type: ignore[union-attr]
    other = msgspec.structs.replace(question.with_axis(axis), edits=edits)
    found = plan_for(CARD, other).steps
    assert found[0].setting.sustained_power_w == ENTRIES[4].setting.sustained_power_w  # type: ignore[union-attr]
    assert [one.skip for one in found].count(True) == 1
    assert 47.0 in [one.setting.sustained_power_w for one in found]
    gone = msgspec.structs.replace(question.with_axis(Axis("sustained_power_w", (50.0, 51.0))), edits=edits)
    assert len(plan_for(CARD, gone).steps) == 2  # what the edits name is not there any more


def test_a_moved_run_is_run_where_it_stands(tmp_path: Path) -> None:
    entries = (step(70.0), step(80.0), step(90.0))
    keys = KeyedEntries(entries).keys
    moved = edited(
        entries,
        (ListEdit(ListChange.MOVE, keys[2], keys[0]), ListEdit(ListChange.SKIP, keys[1]), ListEdit(ListChange.REPEAT, keys[0])),
    )
    _, evidence = run(plan(*moved), larkspur_rig(), tmp_path / "b.niente")
    assert [run.setting.sustained_power_w for run in evidence.runs] == [70.0, 70.0, 90.0]
