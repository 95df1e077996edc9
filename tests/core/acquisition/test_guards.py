"""Guards one by one, on made-up samples: when they trip, when they are quiet again, and what they do to a plan.

Levels are common practice, no source; P61: a watch on the temperature must not depend on the person looking.
"""

import itertools
import math
from collections.abc import Callable

import msgspec
import numpy as np
import pytest

from niente.core.acquisition.bench import Bench
from niente.core.acquisition.guards.guard_set import GuardSet
from niente.core.acquisition.guards.levels import LevelWatch
from niente.core.acquisition.guards.sensors import CoreSensors
from niente.core.acquisition.guards.trip import Trip
from niente.core.model.commands import Command
from niente.core.model.errors import PlanError
from niente.core.model.frame import Frame
from niente.core.model.guard_rules import (
    CORE,
    DEW_MARGIN,
    RISE_RATE,
    ROOM_MOVED,
    can_watch,
    default_guards,
    guard_on,
    guardable,
    moved,
    problems_of,
    with_room_watched,
)
from niente.core.model.limits import Limits
from niente.core.model.plan import Guard, GuardAction
from niente.core.model.records import RunClosed, StateChanged, WarningRaised
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting
from niente.core.model.states import BenchState
from niente.core.planning.templates import first_question, plan_for
from niente.core.planning.validation import check_plan
from niente.core.rigs.simulated.faults import Fault, FaultKind
from niente.core.rigs.simulated.machine_files import shipped_file
from niente.core.rigs.simulated.rig import SimulatedRig
from niente.core.science.humidity import dew_point_c
from tests.conftest import Watcher, larkspur_rig, short_plan
from tests.grids import grid_question

WARM = Setting(sustained_power_w=120.0, fan_duty={"case": 60.0, "cooler": 60.0})


def calm(card: RigCard, **readings: float) -> np.ndarray:
    """A sample of a machine at ease, with some readings in their stead; names are quantities."""
    values = np.full(len(card.channels), 40.0)
    for name, value in {"room_temperature_c": 23.0, **readings}.items():
        values[list(card.indices(name))] = value
    return values


def first_trip(watch: LevelWatch, readings: list[np.ndarray]) -> tuple[int, Trip] | None:
    for second, values in enumerate(readings):
        trip = watch.look(Frame(float(second), values))
        if trip is not None:
            return second, trip
    return None


def test_a_guard_trips_with_the_sample_that_completes_its_hold_time(card: RigCard) -> None:
    guard = Guard(CORE, 90.0, 80.0, 3.0, GuardAction.STOP, "Hot.")
    cold, hot = calm(card), calm(card, core_temperature_c=91.0)
    assert first_trip(LevelWatch(guard, card), [cold, hot, hot, hot, hot, hot]) == (4, Trip(GuardAction.STOP, *_said(guard)))
    assert first_trip(LevelWatch(guard, card), [hot, hot, cold, hot, hot, hot]) is None
    at_once = msgspec.structs.replace(guard, dwell_s=0.0)
    found = first_trip(LevelWatch(at_once, card), [cold, hot])
    assert found is not None
    assert found[0] == 1


def _said(guard: Guard) -> tuple[str, Guard]:
    return f"{guard.reason} It read 91.0\u00a0°C; the guard stands at 90.0\u00a0°C.", guard


def test_a_guard_is_quiet_again_only_beyond_its_clear_level(card: RigCard) -> None:
    watch = LevelWatch(Guard(CORE, 90.0, 80.0, 0.0, GuardAction.SKIP, "Hot."), card)
    watch.look(Frame(0.0, calm(card, core_temperature_c=91.0)))
    assert not watch.quiet
    watch.look(Frame(1.0, calm(card, core_temperature_c=85.0)))
    assert not watch.quiet
    watch.look(Frame(2.0, calm(card, core_temperature_c=79.0)))
    assert watch.quiet


def test_a_warning_is_given_once_until_it_is_quiet(card: RigCard) -> None:
    watch = LevelWatch(Guard(CORE, 90.0, 80.0, 0.0, GuardAction.WARN, "Hot."), card)
    levels = [91.0, 91.0, 85.0, 92.0, 79.0, 91.0]
    said = [watch.look(Frame(float(i), calm(card, core_temperature_c=level))) is not None for i, level in enumerate(levels)]
    assert said == [True, False, False, False, False, True]


def test_a_pump_that_stands_shows_as_a_rate_of_rise(card: RigCard) -> None:
    """Half a kelvin a second is 30 K a minute: a block of water without flow. What a load does in its first minute is none."""
    guard = guard_on(card, RISE_RATE)
    jump = [calm(card, core_temperature_c=40.0 + 30.0 * min(second, 2)) for second in range(200)]
    assert first_trip(LevelWatch(guard, card), jump) is None
    standing = [calm(card, core_temperature_c=60.0 + 0.5 * max(second - 150, 0)) for second in range(260)]
    found = first_trip(LevelWatch(guard, card), standing)
    assert found is not None
    assert 150 < found[0] < 150 + 75
    rising = LevelWatch(guard, card)
    for second in range(200):
        rising.look(Frame(float(second), calm(card, core_temperature_c=50.0 + second * 10.0 / 60.0)))
    assert rising.reading == pytest.approx(10.0, abs=0.01)  # ten kelvin a minute, worked out as it slides along


def test_one_slip_of_a_sensor_is_no_rise(card: RigCard) -> None:
    """A single reading of 900 °C, forgiven by the watch over sensors, does not stand in the rate's means for a minute."""
    slip = [calm(card, core_temperature_c=900.0 if second == 150 else 60.0) for second in range(260)]
    assert first_trip(LevelWatch(guard_on(card, RISE_RATE), card), slip) is None


def test_near_the_dew_point_it_stops() -> None:
    """P60: every surface has to stay above the dew point. 25 °C and 60 % have theirs at 16.7 °C (psychrometric tables)."""
    card = msgspec.structs.replace(SimulatedRig(shipped_file("cormorant")).describe(), room={"humidity_percent": 60.0})
    assert dew_point_c(25.0, 60.0) == pytest.approx(16.7, abs=0.05)
    guard = guard_on(card, DEW_MARGIN)
    assert guard.falling
    watch = LevelWatch(msgspec.structs.replace(guard, dwell_s=0.0), card)
    assert watch.look(Frame(0.0, calm(card, room_temperature_c=25.0, coolant_temperature_c=20.0))) is None
    assert watch.reading == pytest.approx(20.0 - 16.7, abs=0.05)
    trip = watch.look(Frame(1.0, calm(card, room_temperature_c=25.0, coolant_temperature_c=18.0)))
    assert trip is not None
    assert "dew point" in trip.reason
    assert watch.look(Frame(2.0, calm(card, room_temperature_c=float("nan"), coolant_temperature_c=18.0))) is None
    dry = msgspec.structs.replace(card, room={})
    assert not can_watch(dry, DEW_MARGIN)
    without = tuple(channel for channel in card.channels if channel.name != "room_temperature_c")
    assert not can_watch(msgspec.structs.replace(card, channels=without), DEW_MARGIN)
    assert DEW_MARGIN not in guardable(dry)


def test_the_room_is_held_against_the_first_minute(card: RigCard) -> None:
    watch = LevelWatch(guard_on(card, ROOM_MOVED), card)
    rooms = [23.0] * 100 + [24.8] * 200
    said = [watch.look(Frame(float(i), calm(card, room_temperature_c=room))) for i, room in enumerate(rooms)]
    trips = [second for second, trip in enumerate(said) if trip is not None]
    assert len(trips) == 1
    assert 150 < trips[0] < 230
    watch.begin()  # another run of the same plan is held against the same minute
    watch.look(Frame(400.0, calm(card, room_temperature_c=24.8)))
    assert watch.reading > 1.5


def test_the_room_is_watched_over_a_change_of_the_machine(card: RigCard) -> None:
    """A and B of a comparison are held against the same minute, though every other watch begins anew."""
    guards = with_room_watched(card, default_guards(card))
    first, second = GuardSet(guards, card), GuardSet(guards, card)
    for at in range(100):
        first.look(Frame(float(at), calm(card, room_temperature_c=23.0, fan_speed_rpm=800.0)), card.stock)
    second.go_on_from(first)
    trips = [
        second.look(Frame(200.0 + at, calm(card, room_temperature_c=25.0, fan_speed_rpm=800.0)), card.stock)
        for at in range(200)
    ]
    said = [trip.reason for trip in trips if trip is not None]
    assert len(said) == 1
    assert "room has moved" in said[0]


def test_a_comparison_watches_the_room() -> None:
    card = SimulatedRig(shipped_file("larkspur")).describe()
    assert ROOM_MOVED in [guard.quantity for guard in plan_for(card, first_question(card, "variants")).guards]
    assert ROOM_MOVED not in [guard.quantity for guard in plan_for(card, grid_question(card)).guards]
    once = with_room_watched(card, default_guards(card))
    assert with_room_watched(card, once) == once


def test_every_default_guard_fits_its_rig() -> None:
    for name in ("larkspur", "cormorant", "heron", "plover", "sandpiper", "wren"):
        card = SimulatedRig(shipped_file(name)).describe()
        for quantity in guardable(card):
            assert problems_of(guard_on(card, quantity), card, card.limits.core_temperature_c) == []
    assert DEW_MARGIN in [guard.quantity for guard in default_guards(SimulatedRig(shipped_file("heron")).describe())]


def test_the_guard_stands_below_the_shut_down() -> None:
    """P27: shut-down comes at about 95 to 105 °C; P61: stop at the guard, not at the smell (common practice, no source)."""
    for name in ("larkspur", "cormorant", "heron", "plover", "sandpiper", "wren"):
        card = SimulatedRig(shipped_file(name)).describe()
        core = default_guards(card)[0]
        assert 95.0 <= card.limits.shut_down_c <= 105.0
        assert core.quantity == CORE
        assert core.trip <= card.limits.core_temperature_c < card.limits.shut_down_c
        assert core.action == GuardAction.STOP


def test_what_cannot_be_about_a_guard_is_said(card: RigCard) -> None:
    core = default_guards(card)[0]
    wrong = {
        "trip": msgspec.structs.replace(core, trip=120.0, clear=100.0),
        "clear": msgspec.structs.replace(core, clear=99.0),
        "hold_s": msgspec.structs.replace(core, dwell_s=-1.0),
        "action": msgspec.structs.replace(core, action=GuardAction.WARN),
        "quantity": Guard("coolant_temperature_c", 60.0, 50.0, 3.0, GuardAction.STOP, "?"),
    }
    for field, guard in wrong.items():
        assert field in [found for found, _ in problems_of(guard, card, card.limits.core_temperature_c)]
    plan = short_plan(card, WARM)
    with pytest.raises(PlanError, match=r"above the maker's limit of 95 °C"):
        check_plan(msgspec.structs.replace(plan, guards=(wrong["trip"],)), card)
    dew = Guard(DEW_MARGIN, 4.0, 2.0, 0.0, GuardAction.STOP, "upside down")
    assert "above its trip" in dict(problems_of(dew, card, 95.0))["clear"]
    level = msgspec.structs.replace(core, clear=core.trip)
    assert "does not lie below" in dict(problems_of(level, card, card.limits.core_temperature_c))["clear"]
    assert problems_of(core, card, card.limits.core_temperature_c) == []


def test_a_moved_guard_keeps_its_clear_level_on_its_side() -> None:
    core = Guard(CORE, 95.0, 80.0, 3.0, GuardAction.STOP, "")
    assert (moved(core, 85.0).trip, moved(core, 85.0).clear) == (85.0, 80.0)
    assert moved(core, 70.0).clear == 55.0
    dew = Guard(DEW_MARGIN, 2.0, 4.0, 3.0, GuardAction.STOP, "")
    assert moved(dew, 6.0).clear == 8.0


# -- sensors -----------------------------------------------------------------------------------------------------------


def tripping(card: RigCard, samples: list[np.ndarray]) -> tuple[int, str] | None:
    guards = GuardSet(default_guards(card), card)
    for second, values in enumerate(samples):
        trip = guards.look(Frame(float(second), values), card.stock)
        if trip is not None:
            assert trip.action == GuardAction.STOP
            return second, trip.reason
    return None


def spun(card: RigCard, many: int, index: int, reading: float) -> list[np.ndarray]:
    """Samples of a lively machine, one reading of which is stuck from the tenth on."""
    rng = np.random.default_rng(1)
    made = []
    for second in range(many):
        values = calm(card, fan_speed_rpm=800.0) + rng.normal(0.0, 0.4, len(card.channels))
        if second >= 10:
            values[index] = reading
        made.append(values)
    return made


@pytest.mark.parametrize("name", ["core_temperature_c.3", "board_temperature_c"])
def test_a_sensor_that_a_guard_needs_is_missed(card: RigCard, name: str) -> None:
    index = card.index(name)
    assert index is not None
    title = card.channels[index].title.lower()
    lost = tripping(card, spun(card, 40, index, float("nan")))
    assert lost is not None
    assert lost[0] == 12  # the third sample without a reading
    assert title in lost[1]
    wild = tripping(card, spun(card, 40, index, 255.0))
    assert wild is not None
    assert wild[0] == 11  # the second that cannot be
    assert "cannot be" in wild[1]


@pytest.mark.parametrize("reading", [-60.0, 255.0])
@pytest.mark.parametrize("name", ["core_temperature_c.3", "board_temperature_c"])
def test_a_reading_too_low_to_be_is_as_impossible_as_one_too_high(card: RigCard, name: str, reading: float) -> None:
    index = card.index(name)
    assert index is not None
    found = tripping(card, spun(card, 40, index, reading))
    assert found is not None
    assert found[0] == 11
    assert "cannot be" in found[1]


@pytest.mark.parametrize(
    ("quantity", "trip", "clear"),
    [
        ("board_temperature_c", 100.0, 85.0),
        ("graphics_temperature_c", 95.0, 85.0),
        ("coolant_temperature_c", 60.0, 50.0),
        (RISE_RATE, 25.0, 10.0),
        (DEW_MARGIN, 2.0, 4.0),
    ],
)
def test_default_guards_stand_where_practice_has_them(quantity: str, trip: float, clear: float) -> None:
    """Levels of board, coolant (pumps are made for 60 °C) and the rest: common practice, no source."""
    for name in ("larkspur", "cormorant", "plover"):
        card = SimulatedRig(shipped_file(name), seed=1).describe()
        guards = {guard.quantity: guard for guard in default_guards(card)}
        if can_watch(card, quantity) and (quantity != DEW_MARGIN or card.indices("coolant_temperature_c")):
            guard = guards[quantity]
            assert (guard.trip, guard.clear, guard.action) == (trip, clear, GuardAction.STOP)


def test_what_a_run_stood_beyond_its_level_does_not_count_in_the_next(card: RigCard) -> None:
    watch = LevelWatch(Guard(CORE, 90.0, 80.0, 3.0, GuardAction.STOP, "Hot."), card)
    hot = calm(card, core_temperature_c=91.0)
    assert all(watch.look(Frame(float(second), hot)) is None for second in range(3))
    watch.begin()
    assert watch.look(Frame(3.0, hot)) is None  # without the new run it would trip now
    assert watch.look(Frame(5.0, hot)) is None
    assert watch.look(Frame(6.0, hot)) is not None


@pytest.mark.parametrize("now_c", [20.0, 26.0])
def test_a_room_that_cools_has_moved_as_much_as_one_that_warms(card: RigCard, now_c: float) -> None:
    watch = LevelWatch(guard_on(card, ROOM_MOVED), card)
    rooms = [23.0] * 80 + [now_c] * 200
    found = first_trip(watch, [calm(card, room_temperature_c=room) for room in rooms])
    assert found is not None
    assert 80 < found[0] < 80 + 125  # half a minute of the new room, then its minute of dwell


def test_a_sensor_that_no_guard_needs_may_be_lost(card: RigCard) -> None:
    index = card.index("noise_dba")
    assert index is not None
    assert tripping(card, spun(card, 40, index, float("nan"))) is None


@pytest.mark.parametrize("step_k", [1.0, 0.5])
def test_cores_read_in_whole_steps_stand_still_where_all_is_steady(card: RigCard, step_k: float) -> None:
    """Half of the cores lie near the edge of a step and flicker, one in the middle of its own: that is no fault. It is one as
    soon as the others have moved and it has not."""
    cores = list(card.indices(CORE))
    rng = np.random.default_rng(2)
    samples = []
    for second in range(900):
        values = calm(card, fan_speed_rpm=800.0)
        values += rng.normal(0.0, 0.4, values.shape[0])
        at = 60.0 + (0.45 if step_k == 1.0 else 0.2) * (np.arange(len(cores)) > 1) + rng.normal(0.0, 0.08, len(cores))
        if second >= 600:
            at += min((second - 600) / 20.0, 6.0)
        values[cores] = step_k * np.round(at / step_k)
        values[cores[0]] = 60.0
        if second == 50:
            values[cores[3]] = 900.3  # one slip is forgiven, and says nothing of the steps
        samples.append(values)
    assert tripping(card, samples[:600]) is None
    found = tripping(card, samples)
    assert found is not None
    assert 600 + 15 < found[0] < 600 + 100
    assert "has not moved" in found[1]


def test_a_core_that_follows_a_few_seconds_late_is_not_frozen(card: RigCard) -> None:
    """After a long idle time in whole kelvin a load begins, and one core's sensor is four seconds behind the others."""
    cores = list(card.indices(CORE))
    rng = np.random.default_rng(4)
    samples = []
    for second in range(400):
        values = calm(card, fan_speed_rpm=800.0) + rng.normal(0.0, 0.4, len(card.channels))
        warmer = np.full(len(cores), 30.0 * (1.0 - math.exp(-max(second - 200, 0) / 20.0)))
        warmer[0] = 30.0 * (1.0 - math.exp(-max(second - 204, 0) / 20.0))
        values[cores] = np.round(40.2 + 0.3 * (np.arange(len(cores)) > 1) + warmer + rng.normal(0.0, 0.05, len(cores)))
        samples.append(values)
    watch = CoreSensors(card)
    assert [watch.look(Frame(float(second), values)) for second, values in enumerate(samples)] == [None] * 400


def test_a_slow_sensor_is_frozen_only_if_the_cores_move(card: RigCard) -> None:
    index = card.index("board_temperature_c")
    assert index is not None
    still = spun(card, 700, index, 41.0)
    assert tripping(card, still) is None
    for second, values in enumerate(still[200:]):
        values[list(card.indices(CORE))] += min(second / 5.0, 30.0)
    moved = 200 + 75  # the cores have moved by 15 K then
    assert tripping(card, still) is None  # in whole kelvin it may stand for four times as long
    for values in still:
        values[index] = 41.3
    found = tripping(card, still)
    assert found is not None
    assert moved + 295 <= found[0] <= moved + 310
    assert "has not moved for minutes" in found[1]


def test_a_coarse_sensor_is_not_frozen_at_the_first_sample_of_a_load(card: RigCard) -> None:
    """A board sensor in whole kelvin stands still through a long idle time; as the load begins, the cores jump at once."""
    index = card.index("board_temperature_c")
    assert index is not None
    for reading in (41.0, 41.3):
        still = spun(card, 900, index, reading)
        for values in still[600:]:
            values[list(card.indices(CORE))] += 17.0
        found = tripping(card, still)
        assert found is None or found[0] >= 600 + 295, found


def test_a_room_that_stands_still_is_no_fault(card: RigCard) -> None:
    """A steady room under a coarse sensor does not follow the cores, and a guard that only warns ends nothing when blind."""
    index = card.index("room_temperature_c")
    assert index is not None
    guards = with_room_watched(card, default_guards(card))
    for reading in (23.0, float("nan")):
        watch = GuardSet(guards, card)
        for second, values in enumerate(spun(card, 700, index, reading)):
            values[list(card.indices(CORE))] += min(max(second - 300, 0) / 5.0, 30.0)
            assert watch.look(Frame(float(second), values), card.stock) is None


# -- in a plan ---------------------------------------------------------------------------------------------------------


def closings(watcher: Watcher) -> list[tuple[int, str]]:
    return [(event.index, event.outcome) for event in watcher.of(RunClosed)]


def guarded_plan(card: RigCard, action: GuardAction, trip_c: float = 55.0):  # type: ignore[no-untyped-def]
    plan = short_plan(card, WARM, WARM, seconds=240.0)
    extra = Guard("board_temperature_c", trip_c, trip_c - 2.0, 0.0, action, "The board's supply is too hot.")
    return msgspec.structs.replace(plan, guards=(*plan.guards[:1], extra))


def test_a_skipping_guard_lets_the_next_run_wait_until_it_is_quiet(
    make_bench: Callable[..., Bench], watcher: Watcher, card: RigCard
) -> None:
    bench = make_bench()
    bench.start(guarded_plan(card, GuardAction.SKIP, 40.0), Limits())
    assert watcher.end().complete
    assert closings(watcher) == [(0, "guard"), (1, "guard")]
    rests = [event for event in watcher.of(StateChanged) if event.state == BenchState.WAITING]
    assert ["quiet again" in event.text for event in rests] == [True, True]


def test_a_holding_guard_waits_for_a_person(make_bench: Callable[..., Bench], watcher: Watcher, card: RigCard) -> None:
    bench = make_bench()

    def on(event: object) -> None:
        if isinstance(event, StateChanged) and event.state == BenchState.PAUSED:
            assert bench.rig.load == "idle"  # type: ignore[attr-defined]
            bench.send_command(Command.RESUME)

    watcher.on = on
    bench.start(guarded_plan(card, GuardAction.PAUSE, 40.0), Limits())
    assert watcher.end().complete
    assert [event.state for event in watcher.of(StateChanged)].count(BenchState.PAUSED) == 2


def test_a_warning_guard_ends_nothing(make_bench: Callable[..., Bench], watcher: Watcher, card: RigCard) -> None:
    bench = make_bench()
    bench.start(guarded_plan(card, GuardAction.WARN, 40.0), Limits())
    assert watcher.end().complete
    assert closings(watcher) == [(0, "done"), (1, "done")]
    assert any("board's supply" in event.text for event in watcher.of(WarningRaised))


@pytest.mark.parametrize("reading", ["sensor_lost", "sensor_frozen", "sensor_impossible"])
def test_a_board_sensor_that_goes_ends_the_plan_in_time(
    make_bench: Callable[..., Bench], watcher: Watcher, card: RigCard, reading: str
) -> None:
    """No guard later than one sample after its dwell; a frozen slow sensor within minutes of a change."""
    fault = Fault(FaultKind(reading), 400.0, "core_temperature_c.2")
    bench = make_bench(larkspur_rig(fault))
    bench.start(short_plan(card, WARM, seconds=1500.0), Limits())
    ended = watcher.end()
    assert not ended.complete
    assert "core 2" in ended.reason
    late = bench._sampler.time_s - 400.0
    assert late <= {"sensor_lost": 3, "sensor_impossible": 2, "sensor_frozen": 61}[reading] + 1


def test_runs_of_a_healthy_machine_trip_nothing() -> None:
    """Every shipped machine at stock under every load: the guards on rates and sensors stay quiet."""
    for name in ("larkspur", "cormorant", "plover", "wren"):
        rig = SimulatedRig(shipped_file(name), seed=5)
        card = rig.describe()
        watch = GuardSet(tuple(guard for guard in default_guards(card) if guard.quantity == RISE_RATE), card)
        whole = card.stock
        rig.apply(whole)
        for load in card.loads:
            rig.start(load.name)
            watch.begin()
            time_s, values, _ = rig.record(420)
            for at, row in zip(itertools.islice(time_s, 420), values, strict=False):
                assert watch.look(Frame(float(at), row), whole) is None, (name, load.name, at)
