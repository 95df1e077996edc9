"""A rig that lies is found out in its first runs: the plan stops and names the channel or the control. Made-up lies, one at a
time, told by an otherwise good machine."""

from collections.abc import Callable

import msgspec
import numpy as np
import pytest

from niente.core.acquisition.believable import Believable
from niente.core.acquisition.bench import Bench
from niente.core.acquisition.samples import Samples
from niente.core.model.frame import Frame
from niente.core.model.limits import Limits
from niente.core.model.plan import Exposure, Plan, Search, Step
from niente.core.model.rig_card import RigCard, SetBy
from niente.core.model.setting import Setting
from niente.core.planning.templates import grid_project, plan_for
from niente.core.rigs.simulated.machine_files import shipped_file, shipped_machines
from niente.core.rigs.simulated.rig import SimulatedRig
from tests.conftest import SEED, Watcher
from tests.grids import grid_question

Lie = Callable[["Liar"], None]


class Liar(SimulatedRig):
    """Larkspur, which reads some channels times a factor and ignores some controls."""

    def __init__(self, factors: dict[str, float], ignores: tuple[str, ...] = (), without: str = "") -> None:
        super().__init__(shipped_file("larkspur"), seed=SEED)
        self._factors, self._ignores, self._without = factors, ignores, without

    def describe(self) -> RigCard:
        card = super().describe()
        return msgspec.structs.replace(card, channels=tuple(one for one in card.channels if one.name != self._without))

    def apply(self, setting: Setting) -> str | None:
        for name in self._ignores:
            before = self.setting.value(name)
            if before is not None and setting.value(name) is not None:
                setting = setting.replaced(name, before)
        return super().apply(setting)

    def frame(self, timeout_s: float) -> Frame | None:
        found = super().frame(timeout_s)
        if found is None:
            return None
        whole = super().describe()
        values = found.values.copy()
        for name, factor in self._factors.items():
            for index in whole.indices(name):
                values[index] *= factor
        kept = [index for index, one in enumerate(whole.channels) if one.name != self._without]
        return Frame(found.time_s, values[kept], found.events)


@pytest.mark.parametrize(
    ("factors", "ignores", "without", "named", "minutes", "stuck_w"),
    [
        ({"effective_clock_mhz": 0.001}, (), "", "effective_clock_mhz", 15, 180.0),
        ({"package_power_w": 1000.0}, (), "", "package_power_w", 15, 180.0),
        ({"core_temperature_c": 0.001}, (), "", "core_temperature_c.1", 3, 180.0),
        ({"room_temperature_c": np.nan}, (), "", "room_temperature_c", 3, 180.0),
        ({}, (), "room_temperature_c", "room_temperature_c", 3, 180.0),
        ({"noise_dba": np.nan}, (), "", "noise_dba", 3, 180.0),
        ({}, ("sustained_power_w",), "", "sustained_power_w", 20, 180.0),
        ({}, ("sustained_power_w",), "", "sustained_power_w", 45, 65.0),
        ({}, ("fan_duty.case",), "", "fan_duty.case", 12, 180.0),
        ({}, ("voltage_offset_mv",), "", "voltage_offset_mv", 120, 180.0),
    ],
)
def test_a_rig_that_lies_stops_the_plan_and_the_channel_is_named(
    make_bench: Callable[..., Bench],
    watcher: Watcher,
    factors: dict[str, float],
    ignores: tuple[str, ...],
    without: str,
    named: str,
    minutes: float,
    stuck_w: float,
) -> None:
    rig = Liar(factors, ignores, without)
    rig._ignores = ()
    rig.apply(Setting(fan_duty={"case": 60.0}, sustained_power_w=stuck_w))  # what it then stays at
    rig._ignores = ignores
    bench = make_bench(rig)
    project = grid_project(bench.card)
    began = bench._sampler.time_s
    bench.start(plan_for(bench.card, project.question), project.limits)
    ended = watcher.end()
    assert not ended.complete
    assert "cannot be believed" in ended.reason
    assert named in ended.reason
    assert bench._sampler.time_s - began < 60.0 * minutes


@pytest.mark.parametrize("name", [name for name in shipped_machines() if name != "plover"])
def test_an_honest_machine_is_believed(make_bench: Callable[..., Bench], watcher: Watcher, name: str) -> None:
    """The first dozen runs of every shipped machine's default plan that needs no hands."""
    bench = make_bench(SimulatedRig(shipped_file(name), seed=4))
    plan = plan_for(bench.card, grid_question(bench.card))
    entries = tuple(
        msgspec.structs.replace(entry, budget_s=900.0) if isinstance(entry, Search) else entry for entry in plan.entries[:19]
    )
    bench.start(msgspec.structs.replace(plan, entries=entries), Limits())
    assert watcher.end().complete


def samples(card: RigCard, seconds: int, **readings: float) -> Samples:
    values = np.full(len(card.channels), 55.0)
    usual = {"room_temperature_c": 23.0, "package_power_w": 90.0, "effective_clock_mhz": 4000.0, "core_voltage_v": 1.1}
    for name, value in {**usual, **readings}.items():
        index = card.index(name)
        values[list(card.indices(name)) if index is None else [index]] = value
    found = Samples(len(card.channels))
    for second in range(seconds):
        found.add(Frame(float(second), values))
    return found


def step(setting: Setting) -> Step:
    return Step(setting, "vector", Exposure(480.0, 2400.0, 1.0), "capacity", "a test")


@pytest.mark.parametrize(
    ("setting", "readings", "seconds", "words"),
    [
        ({"sustained_power_w": 80.0}, {"package_power_w": 84.0}, 200, ""),
        ({"sustained_power_w": 80.0}, {"package_power_w": 120.0}, 200, "limit is ignored"),
        ({"sustained_power_w": 80.0}, {"package_power_w": 120.0}, 100, ""),  # a burst goes before it
        ({"clock_cap_mhz": 3800.0}, {"effective_clock_mhz": 4300.0}, 200, "is ignored"),
        ({"temperature_cap_c": 75.0}, {"core_temperature_c": 86.0}, 200, "cap is ignored"),
        ({"temperature_cap_c": 75.0}, {"core_temperature_c": 78.0}, 200, ""),
        ({}, {"noise_dba": 0.5}, 200, "noise_dba"),
    ],
)
def test_what_was_set_has_to_show(
    card: RigCard, setting: dict[str, float], readings: dict[str, float], seconds: int, words: str
) -> None:
    whole = Setting(**setting).over(card.stock)  # type: ignore[arg-type]
    found = Believable(card).doubt(step(whole), whole, samples(card, seconds, **readings))
    assert (words in found) if words else not found


def test_two_duties_far_apart_cannot_give_one_speed(card: RigCard) -> None:
    """A fan that keeps a least speed of its own up to 40 % is not doubted for it."""
    held = {"fan_speed_rpm.case": 700.0}
    for second, doubted in ((84.0, True), (65.0, False), (50.0, False)):
        looks = Believable(card)
        for duty in (20.0, second):
            whole = Setting(fan_duty={"case": duty}).over(card.stock)
            found = looks.compare(step(whole), whole, samples(card, 60, **held))
        assert bool(found) is doubted


def test_two_limits_far_apart_do_not_give_the_same_watts(card: RigCard) -> None:
    """But for watts near the lower one, which it may hold: then something else holds them under the higher."""
    for watts, second_w, second_mhz, doubted in (
        *((140.0, 140.0, 3800.0, True), (55.0, 55.0, 3800.0, True), (140.0, 148.0, 3900.0, False)),
        *((92.0, 92.5, 3800.0, False), (84.0, 84.0, 3800.0, False), (140.0, 140.0, 4790.0, False)),
    ):
        looks = Believable(card)
        for limit, power, clock in ((90.0, watts, 3790.0), (160.0, second_w, second_mhz)):
            whole = Setting(sustained_power_w=limit).over(card.stock)
            read = samples(card, 300, package_power_w=power, effective_clock_mhz=clock)
            found = looks.compare(step(whole), whole, read)
        assert bool(found) is doubted, (watts, second_w, second_mhz)


def test_an_offset_shows_in_the_voltage(card: RigCard) -> None:
    """Or in the power, where the voltage that is read is the one requested."""
    for volts, watts, doubted in ((1.06, 90.0, False), (1.1, 90.0, True), (1.1, 85.0, False), (1.1, 95.0, True)):
        looks = Believable(card)
        for depth, volt, power in ((0.0, 1.1, 90.0), (-40.0, volts, watts)):
            whole = Setting(voltage_offset_mv=depth).over(card.stock)
            found = looks.compare(step(whole), whole, samples(card, 300, core_voltage_v=volt, package_power_w=power))
        assert bool(found) is doubted


def test_cores_that_rest_may_be_off_and_cores_that_work_may_not(card: RigCard) -> None:
    for load, doubted in (("idle", False), ("vector", True)):
        at = msgspec.structs.replace(step(card.stock), load=load)
        found = Believable(card).doubt(at, card.stock, samples(card, 200, core_voltage_v=0.0))
        assert ("core_voltage_v" in found) is doubted


def test_a_plan_without_settled_temperatures_needs_no_room(card: RigCard) -> None:
    short = Step(card.stock, "vector", Exposure(60.0, 60.0), "test", "a test")
    plan = Plan("niente-plan/2", card.name, "free", (short,), ())
    assert not Believable(card, plan).doubt(short, card.stock, samples(card, 90, room_temperature_c=np.nan))
    settles = msgspec.structs.replace(plan, entries=(step(card.stock),))
    assert "room_temperature_c" in Believable(card, settles).doubt(
        short, card.stock, samples(card, 90, room_temperature_c=np.nan)
    )


@pytest.mark.parametrize("name", ["noise_dba", "room_temperature_c"])
def test_what_hands_read_need_not_be_alive(card: RigCard, name: str) -> None:
    by_hand = tuple(msgspec.structs.replace(one, by=SetBy.HANDS) if one.name == name else one for one in card.channels)
    read = msgspec.structs.replace(card, channels=by_hand)
    noise = msgspec.structs.replace(step(card.stock), stage="noise")
    plan = Plan("niente-plan/2", card.name, "free", (noise,), ())
    silent = samples(card, 90, **{name: np.nan})
    assert not Believable(read, plan).doubt(noise, card.stock, silent)
    assert name in Believable(card, plan).doubt(noise, card.stock, silent)
