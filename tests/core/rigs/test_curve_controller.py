"""A controller on a curve, second by second: points, floor, bands, several sensors, and when the fans stand."""

import msgspec
import numpy as np
import pytest

from niente.core.model.fan_curve import Combined, FanCurve
from niente.core.rigs.curve_controller import CurveLaws, curve_laws, duty_on_curve, moved_duty, sensed, stands_now

CORE, COOLANT, AIR = "core_temperature_c", "coolant_temperature_c", "case_air_temperature_c"
POINTS = ((40.0, 20.0), (60.0, 40.0), (80.0, 100.0))
NUMBERS = {CORE: -1, COOLANT: 0, AIR: 1}


def laws(*curves: FanCurve | None) -> CurveLaws:
    return curve_laws(curves, NUMBERS.__getitem__)


def test_a_duty_lies_straight_between_points_and_flat_outside() -> None:
    """Held against numpy's own interpolation; the second of three groups is on no curve."""
    both = laws(FanCurve(CORE, POINTS), None, FanCurve(COOLANT, ((30.0, 25.0), (35.0, 60.0), (40.0, 100.0))))
    for celsius in np.linspace(20.0, 100.0, 161).tolist():
        assert duty_on_curve(both, 0, celsius) == pytest.approx(np.interp(celsius, *np.array(POINTS).T))
        assert duty_on_curve(both, 2, celsius) == pytest.approx(np.interp(celsius, [30, 35, 40], [25, 60, 100]))
    assert both.first[1] == both.last[1]


def test_no_duty_under_the_floor() -> None:
    one = laws(FanCurve(CORE, POINTS, floor_percent=33.0))
    assert duty_on_curve(one, 0, 30.0) == 33.0
    assert duty_on_curve(one, 0, 70.0) == 70.0


def test_a_band_is_never_rested_in_and_is_crossed_fast() -> None:
    """Whatever is wanted inside a band comes to its upper edge: more air, and no resonance."""
    bands = ((30.0, 38.0), (50.0, 55.0))
    one = laws(FanCurve(CORE, POINTS, ramp_up_percent_per_s=1.0, ramp_down_percent_per_s=0.5, avoided=bands))
    wanted = [duty_on_curve(one, 0, celsius) for celsius in np.linspace(30.0, 90.0, 601).tolist()]
    assert not any(30.0 < duty < 38.0 or 50.0 < duty < 55.0 for duty in wanted)
    assert np.all(np.diff(wanted) >= 0.0)
    duty, up = 20.0, [20.0]
    while duty < 60.0:
        duty = moved_duty(one, 0, duty, 60.0, 1.0)
        up.append(duty)
    down = [60.0]
    while down[-1] > 20.0:
        down.append(moved_duty(one, 0, down[-1], 20.0, 1.0))
    for path in (up, down):
        assert sum(30.0 < duty < 38.0 for duty in path) <= 1
    assert max(np.diff(up[:8])) == pytest.approx(1.0)
    assert min(np.diff(down[:8])) == pytest.approx(-0.5)


def test_the_largest_or_the_mean_of_several_sensors_counts() -> None:
    largest = laws(FanCurve(CORE, POINTS, more_sources=(COOLANT, AIR)))
    mean = laws(FanCurve(CORE, POINTS, more_sources=(COOLANT, AIR), combined=Combined.MEAN))
    readings = np.array([35.0, 31.0])
    assert sensed(largest, 0, readings, 60.0) == 60.0
    assert sensed(largest, 0, readings, 20.0) == 35.0
    assert sensed(mean, 0, readings, 60.0) == pytest.approx(42.0)


def test_fans_stand_only_while_temperature_and_power_are_both_low() -> None:
    one = laws(FanCurve(CORE, POINTS, off_below_c=36.0, off_below_w=20.0, on_again_c=44.0))
    assert stands_now(one, 0, 35.0, 35.0, 10.0, 0.0) == 1.0
    assert stands_now(one, 0, 35.0, 35.0, 30.0, 0.0) == 0.0  # it draws too much
    assert stands_now(one, 0, 40.0, 40.0, 10.0, 0.0) == 0.0  # and who turns goes on turning
    assert stands_now(one, 0, 40.0, 40.0, 10.0, 1.0) == 1.0  # who stands, stands until it is warm
    assert stands_now(one, 0, 44.0, 44.0, 10.0, 1.0) == 0.0
    assert stands_now(one, 0, 40.0, 40.0, 21.0, 1.0) == 0.0  # or draws more


@pytest.mark.parametrize(
    ("curve", "words"),
    [
        (FanCurve(CORE, ((60.0, 30.0), (40.0, 50.0))), "do not rise from point to point"),
        (FanCurve(CORE, ((40.0, 30.0), (40.0, 50.0))), "do not rise from point to point"),
        (FanCurve(CORE, ()), "no points"),
        (FanCurve(CORE, POINTS, ramp_up_percent_per_s=0.0), "ramps have to be positive"),
        (FanCurve(CORE, POINTS, off_below_c=50.0), "over its first point"),
        (FanCurve(CORE, POINTS, off_below_c=36.0, on_again_c=30.0), "turn again below where they stand"),
        (FanCurve(CORE, POINTS, off_below_w=20.0), "not below which temperature"),
        (FanCurve(CORE, POINTS, off_below_c=36.0, off_below_w=0.0), "under no power"),
        (FanCurve(CORE, POINTS, floor_percent=120.0), "floor lies outside"),
        (FanCurve(CORE, POINTS, avoided=((40.0, 30.0),)), "ends before it begins"),
        (FanCurve(CORE, POINTS, avoided=((20.0, 40.0), (30.0, 50.0))), "overlap"),
        (FanCurve(CORE, POINTS, more_sources=(CORE,)), "one sensor twice"),
        (FanCurve(CORE, tuple((float(c), 50.0) for c in range(30, 60))), "more than 16 points"),
    ],
)  # fmt: skip
def test_what_cannot_be_a_curve_is_said_in_words(curve: FanCurve, words: str) -> None:
    assert any(words in problem for problem in curve.problems())


def test_a_curve_says_itself_as_it_is_entered() -> None:
    curve = FanCurve(
        COOLANT, ((30.0, 25.0), (40.0, 100.0)), off_below_c=28.0, off_below_w=20.0, on_again_c=30.0, floor_percent=22.0,
        avoided=((41.0, 46.0),), more_sources=(AIR,), combined=Combined.MEAN,
    )  # fmt: skip
    words = curve.text.replace("\N{NO-BREAK SPACE}", " ")
    assert words == (
        "over the mean of coolant and case air: "
        "30 °C 25 %, 40 °C 100 %; up 2, down 1 %/s, hysteresis 2 K, never under 22 %, off below 28 °C and 20 W, on again at "
        "30 °C, not between 41 and 46 %"
    )
    assert curve.source_words == "mean of coolant and case air"
    assert curve.problems() == []


def test_curves_of_older_books_mean_what_they_meant() -> None:
    """As they were written before curves had floors, bands and several sensors."""
    old = b'{"source":"core_temperature_c","points":[[88,30],[95,80]],"hysteresis_k":14,"off_below_c":88}'
    curve = msgspec.json.decode(old, type=FanCurve)
    assert curve.problems() == []
    assert curve.dangers() != []  # what a machine was found with is not drawn here
    one = laws(curve)
    assert stands_now(one, 0, 80.0, 80.0, 500.0, 0.0) == 1.0  # whatever it draws
    assert stands_now(one, 0, 88.0, 88.0, 0.0, 1.0) == 0.0
    assert duty_on_curve(one, 0, 20.0) == 30.0


def test_a_table_and_the_controller_read_a_curve_alike() -> None:
    curve = FanCurve(CORE, POINTS, floor_percent=33.0)
    celsius = np.linspace(20.0, 100.0, 161)
    assert curve.duty(celsius) == pytest.approx([duty_on_curve(laws(curve), 0, one) for one in celsius.tolist()])
