"""Edits of a fan curve by hand: a curve stays one that a board can follow, whatever is done to it."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from niente.core.model.curve_edits import added_point, moved_point, rounded_curve, without_point
from niente.core.model.fan_curve import FanCurve

CURVE = FanCurve("core_temperature_c", ((42.0, 26.0), (56.0, 31.0), (70.0, 44.0), (88.0, 100.0)))


def test_a_point_stays_between_its_neighbours() -> None:
    assert moved_point(CURVE, 1, 60.0, 40.0).points[1] == (60.0, 40.0)
    assert moved_point(CURVE, 1, 75.0, 60.0).points[1] == (69.0, 44.0)
    assert moved_point(CURVE, 1, 10.0, 0.0).points[1] == (43.0, 26.0)
    assert moved_point(CURVE, 3, 300.0, 300.0).points[3] == (120.0, 100.0)


def test_a_point_is_added_on_the_line_and_taken_away_again() -> None:
    made, index = added_point(CURVE, 63.0)
    assert index == 2
    assert made.points[2] == (63.0, round(np.interp(63.0, *np.array(CURVE.points).T)))
    assert without_point(made, 2) == CURVE
    assert added_point(CURVE, 56.2) == (CURVE, -1)  # there is one already
    assert added_point(CURVE, 300.0)[0].points[-1] == (120.0, 100.0)  # no hotter than a board takes
    two = FanCurve("core_temperature_c", ((40.0, 20.0), (80.0, 100.0)))
    assert without_point(two, 0) == two


def test_there_are_no_more_points_than_boards_take() -> None:
    curve = CURVE
    for celsius in range(20, 120, 3):
        curve, _ = added_point(curve, float(celsius))
    assert len(curve.points) == 8


def test_where_the_fans_stand_stays_below_the_first_point() -> None:
    curve = FanCurve("core_temperature_c", CURVE.points, off_below_c=40.0, off_below_w=20.0)
    moved = moved_point(curve, 0, 30.0, 26.0)
    assert moved.off_below_c == 30.0
    assert moved.problems() == []


moves = st.tuples(st.integers(0, 7), st.floats(-50.0, 200.0), st.floats(-50.0, 200.0))


@given(st.lists(moves, max_size=12))
def test_no_edit_makes_a_curve_that_cannot_be_or_gives_less_air_when_hotter(edits: list[tuple[int, float, float]]) -> None:
    curve = CURVE
    for index, celsius, duty in edits:
        curve = moved_point(curve, index % len(curve.points), celsius, duty)
        if index > 5:
            curve, _ = added_point(curve, celsius)
    assert curve.problems() == []
    assert np.all(np.diff(curve.duty(np.linspace(0.0, 130.0, 261))) >= -1e-9)


@pytest.mark.parametrize(("step_c", "step_percent"), [(1.0, 1.0), (5.0, 5.0), (2.0, 2.5)])
def test_rounding_errs_to_the_cool_side(step_c: float, step_percent: float) -> None:
    curve = FanCurve("core_temperature_c", ((42.4, 26.1), (56.9, 31.2), (70.3, 44.4), (88.8, 100.0)))
    rounded = rounded_curve(curve, step_c, step_percent)
    for celsius, duty in rounded.points:
        assert celsius / step_c == pytest.approx(round(celsius / step_c))
        assert duty / step_percent == pytest.approx(round(duty / step_percent))
    every = np.linspace(20.0, 100.0, 161)
    assert np.all(rounded.duty(every) >= curve.duty(every) - 1e-9)
    floored = rounded_curve(FanCurve("core_temperature_c", curve.points, floor_percent=23.3), step_c, step_percent)
    assert 23.3 <= floored.floor_percent < 23.3 + step_percent
    close = FanCurve("core_temperature_c", ((61.0, 30.0), (62.0, 45.0), (64.0, 50.0)))
    assert rounded_curve(close, 5.0, 5.0).points == ((60.0, 50.0),)
