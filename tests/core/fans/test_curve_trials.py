"""What could go wrong under a curve, and what is said of it."""

import math

import msgspec

from niente.core.fans.curve_trials import mishaps, worst_case
from niente.core.fans.day import DayOfLoad, standard_day
from niente.core.model.fan_curve import FanCurve
from tests.core.fans.conftest import ROOM_C, AtPick

CURVE = FanCurve("core_temperature_c", ((60.0, 25.0), (85.0, 100.0)))


def cases(at_pick: AtPick, curves: dict[str, FanCurve], cap_c: float, day: DayOfLoad) -> dict[str, tuple[float, str]]:
    machine = msgspec.structs.replace(at_pick.machine, cap_c=cap_c)
    every = mishaps(machine, curves, (ROOM_C, 28.0))
    found = [worst_case(at_pick.models.card, machine, one, day) for one in every]
    return {case.name: (case.hottest_c, case.warning) for case in found}


def test_a_dead_fan_that_nothing_holds_is_warned_of(at_pick: AtPick) -> None:
    """Larkspur's card has 95 °C as its maker's limit; here no firmware holds it."""
    day = standard_day("render")
    found = cases(at_pick, {}, math.inf, day)
    assert set(found) == {"room of 28 °C", "case fans dead", "cooler fans dead"}
    for name, (hottest_c, warning) in found.items():
        assert bool(warning) == (hottest_c >= 95.0)
        assert not warning or (f"With {name} the core comes to" in warning and "limit is 95 °C" in warning)
    assert found["cooler fans dead"][1]
    held = cases(at_pick, {}, 90.0, day)
    assert held["cooler fans dead"][0] < found["cooler fans dead"][0]


def test_a_lost_sensor_is_loud_and_cool(at_pick: AtPick) -> None:
    day = standard_day("render")
    off_below = msgspec.structs.replace(CURVE, off_below_c=88.0)  # without its sensor nothing says that it may stand
    found = cases(at_pick, {"case": CURVE, "cooler": off_below}, 90.0, day)
    assert found["sensor lost"][0] < found["room of 28 °C"][0] - 3.0
    assert not found["sensor lost"][1]
