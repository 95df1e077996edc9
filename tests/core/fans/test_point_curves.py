"""The curves of a point as a person works on them: facts, rehearsed days, mishaps, and a drawing step by step."""

from pathlib import Path

import numpy as np
import pytest

from niente.core.fans.point_curves import PointCurves
from niente.core.fans.told import PointFacts, first_curve
from niente.core.model.errors import NotEnoughError, PlanError
from niente.core.model.fan_curve import FanCurve
from niente.core.model.limits import Limits
from niente.core.model.project import Project
from niente.core.selection.pick import choose
from tests.core.fans.conftest import ROOM_C, AtPick

CORE = "core_temperature_c"
USUAL = FanCurve(CORE, ((40.0, 25.0), (65.0, 50.0), (85.0, 100.0)))


@pytest.fixture(scope="module")
def point(at_pick: AtPick, sweep: tuple[Path, Project]) -> tuple[PointCurves, PointFacts]:
    works = PointCurves()
    pick = choose(at_pick.models, Limits()).pick.setting
    return works, works.point(sweep[0], at_pick.models, Limits(), pick)


def test_the_facts_are_those_of_the_machine(point: tuple[PointCurves, PointFacts], at_pick: AtPick) -> None:
    _, facts = point
    assert [one.name for one in facts.groups] == ["case", "cooler"]
    assert [name for name, _ in facts.sources] == [CORE, "case_air_temperature_c"]
    for group in facts.groups:
        assert group.moved
        turns = group.rpm[round(group.start) :]
        assert np.all(np.diff(turns) >= 0.0)  # the fan law: more duty is more speed
        assert np.all(group.in_room_dba >= np.maximum(group.level_dba, facts.background_dba) - 1e-9)
        # levels add as energies (ISO 1996-1, from memory): two equal ones are 3.01 dB louder than one, others less
        over = group.level_dba[40:] - facts.background_dba
        assert np.all(np.diff(over) >= 0.0)
        assert np.all(group.in_room_dba <= np.maximum(group.level_dba, facts.background_dba) + 3.02)
        assert np.interp(0.0, over, group.in_room_dba[40:] - facts.background_dba) == pytest.approx(3.0, abs=0.3)


def test_a_day_comes_with_its_picture(point: tuple[PointCurves, PointFacts]) -> None:
    works, facts = point
    day = works.day({"case": USUAL, "cooler": USUAL}, "office", ROOM_C)
    trace = day.trace
    assert trace.hour.shape == trace.core_low_c.shape == (720,)
    assert trace.hour[-1] == pytest.approx(24.0 - 120.0 / 3600.0)
    assert np.all(trace.core_low_c <= trace.core_high_c)
    assert trace.core_high_c.max() == pytest.approx(day.figures.hottest_c)
    assert trace.level_high_dba.max() == pytest.approx(day.figures.loudest_dba)
    assert set(day.loops) == {"case", "cooler"}
    low, high = day.settles_c["case"]
    assert low < high <= low + facts.design_c - ROOM_C + 1.0  # a hotter room warms the core, and its fans turn faster
    quick = works.day({"case": USUAL, "cooler": USUAL}, "office", ROOM_C, quick=True)
    assert quick.figures.mean_dba == pytest.approx(day.figures.mean_dba, abs=0.1)
    assert quick.figures.hottest_c == pytest.approx(day.figures.hottest_c, abs=1.0)


def test_another_sensor_can_be_followed(point: tuple[PointCurves, PointFacts]) -> None:
    works, _ = point
    air = FanCurve("case_air_temperature_c", ((26.0, 25.0), (40.0, 100.0)))
    mild = works.day({"case": air}, "render", ROOM_C)
    assert mild.settles_c["case"][0] < mild.trace.core_high_c.max() - 10.0
    assert "°C" in mild.loops["case"]
    steep = works.day({"case": FanCurve("case_air_temperature_c", ((20.0, 60.0), (30.0, 100.0)))}, "render", ROOM_C)
    assert steep.figures.mean_dba > mild.figures.mean_dba
    assert steep.figures.hottest_c < mild.figures.hottest_c


def test_what_goes_wrong_comes_case_by_case(point: tuple[PointCurves, PointFacts]) -> None:
    works, _ = point
    curves = {"case": USUAL}
    found = works.worst(curves, "bursts", ROOM_C)
    while not found.over:
        before = found
        found = works.worst(curves, "bursts", ROOM_C, found.cases)
        assert found.cases[:-1] == before.cases
    assert [one.name for one in found.cases] == ["room of 28 °C", "case fans dead", "cooler fans dead", "sensor lost"]
    plain = works.day(curves, "bursts", ROOM_C).figures.hottest_c
    by_name = {one.name: one.hottest_c for one in found.cases}
    assert by_name["cooler fans dead"] > plain
    assert by_name["sensor lost"] < plain + 0.5  # full speed


def test_a_drawing_goes_on_step_by_step_and_only_gets_better(point: tuple[PointCurves, PointFacts]) -> None:
    works, facts = point
    stands = works.begin_drawing(("bursts",))
    assert (stands.tried, stands.curves, stands.over) == (0, {}, False)
    levels = []
    while stands.tried < 12:
        stands = works.draw_on()
        if stands.curves:
            levels.append(works.day(stands.curves, "bursts", facts.room_c).figures.mean_dba)
    assert stands.tried <= stands.of
    assert len(levels) > 1
    for curve in stands.curves.values():
        assert curve.problems() == curve.dangers() == []
        assert curve.points[-1][1] == 100.0


def test_a_first_curve_comes_to_the_point_where_the_headroom_holds(point: tuple[PointCurves, PointFacts]) -> None:
    _, facts = point
    for group in facts.groups:
        curve = first_curve(facts, group)
        assert curve.problems() == curve.dangers() == []
        top_c, duty = curve.points[1]
        assert top_c <= facts.ceiling_c - facts.headroom_k
        assert duty >= group.fixed
        assert curve.floor_percent >= group.start
    fitted = facts.groups[0].fitted(FanCurve(CORE, ((40.0, 0.0), (80.0, 100.0))))
    assert fitted.points[0][1] == facts.groups[0].floor > 0.0


def test_what_cannot_be_rehearsed_is_refused_in_words(point: tuple[PointCurves, PointFacts]) -> None:
    works, _ = point
    with pytest.raises(PlanError, match="no run of this machine tells what coolant_temperature_c reads"):
        works.day({"case": FanCurve("coolant_temperature_c", USUAL.points)}, "show", ROOM_C)
    with pytest.raises(PlanError, match="do not rise"):
        works.day({"case": FanCurve(CORE, ((60.0, 20.0), (40.0, 50.0)))}, "show", ROOM_C)
    with pytest.raises(NotEnoughError, match="No point"):
        PointCurves().day({}, "show", ROOM_C)
