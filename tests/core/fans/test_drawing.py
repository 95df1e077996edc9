"""Curves that are drawn for a point: they keep its headroom, nobody hears them, and they settle."""

import msgspec
import numpy as np
import pytest

from niente.core.fans.day import standard_day
from niente.core.fans.drawing import CurveSearch, quietest_curves
from niente.core.fans.hunting import loop_of
from niente.core.fans.rehearsal import rehearse, settled_on
from niente.core.fans.told import DrawingStands
from niente.core.model.errors import NotEnoughError
from niente.core.model.fan_curve import FanCurve
from tests.core.fans.conftest import ROOM_C, AtPick

DESIGN_C, HEADROOM_K = 28.0, 8.0
USUAL = FanCurve("core_temperature_c", ((40.0, 25.0), (65.0, 50.0), (85.0, 100.0)))


def search_at(at_pick: AtPick, headroom_k: float) -> CurveSearch:
    return CurveSearch(at_pick.machine, ("case", "cooler"), [standard_day("show")], (ROOM_C, DESIGN_C), headroom_k)


@pytest.fixture(scope="module")
def drawn(at_pick: AtPick) -> DrawingStands:
    search = search_at(at_pick, HEADROOM_K)
    quietest_curves(search)
    return search.stands


def test_drawn_curves_keep_the_headroom_at_any_power(at_pick: AtPick, drawn: DrawingStands) -> None:
    machine = at_pick.machine
    for activity in np.linspace(0.0, 1.0, 11).tolist():
        for room in (18.0, 23.0, 28.0):
            core, *_ = settled_on(machine, drawn.curves, activity, room)
            assert core <= machine.ceiling_c - HEADROOM_K + 1.0
    there = rehearse(machine, drawn.curves, standard_day("show"), DESIGN_C).figures
    assert there.hottest_c <= machine.ceiling_c - HEADROOM_K + 1.0


def test_drawn_curves_are_quieter_than_fixed_fans_and_change_seldom(at_pick: AtPick, drawn: DrawingStands) -> None:
    day = standard_day("show")
    fixed = rehearse(at_pick.machine, {}, day, ROOM_C).figures
    usual = rehearse(at_pick.machine, {"case": USUAL, "cooler": USUAL}, day, ROOM_C).figures
    mine = rehearse(at_pick.machine, drawn.curves, day, ROOM_C).figures
    assert mine.mean_dba <= fixed.mean_dba + 0.01  # this book knows no duty much lower than the pick's
    assert mine.ramps <= usual.ramps / 5
    assert mine.hunts == 0
    assert drawn.over
    assert drawn.tried == drawn.of == 36 + 2 * 11
    loops = [loop_of(at_pick.machine, drawn.curves, group, 1.0, DESIGN_C) for group in drawn.curves]
    assert all(loop.margins.calm and "settle calmly" in loop.words for loop in loops)


def test_drawn_curves_can_be_entered(drawn: DrawingStands) -> None:
    for curve in drawn.curves.values():
        assert curve.problems() == []
        assert 2 <= len(curve.points) <= 8
        assert all(float(value).is_integer() for point in curve.points for value in point)
        duties = np.interp(np.arange(20.0, 100.0), *np.array(curve.points).T)
        assert np.all(np.diff(duties) >= 0.0)
        assert duties[-1] == 100.0


def test_a_point_without_the_headroom_has_no_curve(at_pick: AtPick) -> None:
    with pytest.raises(NotEnoughError, match="K of headroom are left"):
        search_at(at_pick, 25.0)


def test_a_curve_like_a_switch_swings_where_its_sensor_is_slow(at_pick: AtPick) -> None:
    """What the loop's margins say is what the rehearsal does: a wall of 100 % within a kelvin, over a slow sensor."""
    core, *_ = settled_on(at_pick.machine, {"case": USUAL, "cooler": USUAL}, 0.7, ROOM_C)
    at = round(core)
    wall = FanCurve("core_temperature_c", ((at - 0.05, 20.0), (at + 0.05, 100.0)), 0.0, 100.0, 100.0, smoothing_s=30.0)
    flat = msgspec.structs.replace(wall, points=((at - 30.0, 20.0), (at + 30.0, 100.0)))
    steep, gentle = (loop_of(at_pick.machine, {"cooler": one}, "cooler", 0.7, ROOM_C) for one in (wall, flat))
    assert gentle.margins.calm
    assert steep.margins.gain < 0.1 * gentle.margins.gain
    assert steep.slope > 50.0 * gentle.slope
    standing = loop_of(
        at_pick.machine, {"cooler": FanCurve("core_temperature_c", ((20.0, 40.0), (99.0, 40.0)))}, "cooler", 0.7, 23.0
    )
    assert "no loop that could swing" in standing.words
