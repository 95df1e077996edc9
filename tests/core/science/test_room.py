"""Dew point, levels at a distance, and the dynamic scale."""

import itertools
import math

import pytest
from hypothesis import given
from hypothesis import strategies as st

from niente.core.science.acoustics import level_at
from niente.core.science.dynamics import Scale, dynamic_mark
from niente.core.science.humidity import dew_point_c


@pytest.mark.parametrize(
    ("celsius", "humidity", "expected"),
    [(15, 60, 7.307), (20, 40, 6.004), (20, 60, 12.007), (22, 45, 9.534), (25, 50, 13.864), (28, 65, 20.808), (35, 60, 26.068)],
)
def test_the_dew_point_agrees_with_the_handbook(celsius: float, humidity: float, expected: float) -> None:
    """ASHRAE Handbook Fundamentals 2017, ch. 1, as psychrolib 2.5.0 solves it; Magnus' form is within 0.05 K of it."""
    assert dew_point_c(celsius, humidity) == pytest.approx(expected, abs=0.05)


def test_only_air_without_any_water_has_no_dew_point() -> None:
    assert dew_point_c(20.0, 0.4) < -40.0
    with pytest.raises(ValueError, match="dry air"):
        dew_point_c(20.0, 0.0)


@pytest.mark.parametrize(
    ("celsius", "humidity", "expected"),
    [(15, 60, 7.292), (20, 40, 5.980), (20, 50, 9.255), (20, 80, 16.442), (25, 70, 19.145), (30, 50, 18.441), (35, 60, 26.072)],
)
def test_the_dew_point_is_magnus_with_sonntags_coefficients(celsius: float, humidity: float, expected: float) -> None:
    """WMO/Sonntag 1990: 243.12 °C and 17.62 (derived from the equation; coefficients from memory)."""
    assert dew_point_c(celsius, humidity) == pytest.approx(expected, abs=0.001)


def test_the_dew_point_agrees_with_a_reference_library() -> None:
    """psychrolib 2.5 (ASHRAE Handbook Fundamentals 2017), over everything a room can be; Magnus' form is within 0.1 K. Dew
    points below 0 °C are left out: the handbook has them over ice, Magnus over water, and no surface here is that cold."""
    import psychrolib

    psychrolib.SetUnitSystem(psychrolib.SI)
    for celsius in range(5, 41, 5):
        for humidity in range(10, 100, 15):
            theirs = psychrolib.GetTDewPointFromRelHum(float(celsius), humidity / 100.0)
            if theirs > 0.0:
                assert dew_point_c(float(celsius), float(humidity)) == pytest.approx(theirs, abs=0.1), (celsius, humidity)


def test_saturated_air_is_at_its_dew_point_and_dry_air_has_none() -> None:
    assert dew_point_c(25.0, 100.0) == pytest.approx(25.0)
    with pytest.raises(ValueError, match="no dew point"):
        dew_point_c(25.0, 0.0)


@given(st.floats(0, 40), st.floats(5, 95))
def test_wetter_air_has_a_higher_dew_point(celsius: float, humidity: float) -> None:
    assert dew_point_c(celsius, humidity) < dew_point_c(celsius, humidity + 5.0) <= celsius + 1e-9


def test_a_level_is_carried_by_the_inverse_square() -> None:
    """20 lg 2 = 6.02 dB a doubling; two equal levels are 3.01 dB above one (textbook)."""
    assert level_at(30.0, 1.0, 2.0, None) == pytest.approx(30.0 - 20.0 * math.log10(2.0))
    assert level_at(30.0, 1.0, 1.0, 30.0) == pytest.approx(30.0 + 10.0 * math.log10(2.0))


def test_marks_begin_where_the_scale_says() -> None:
    scale = Scale(22.0, (2.0, 4.0, 6.0, 8.0, 10.0, 12.0, 14.0))
    assert [scale.mark(22.0 + over) for over in (0.0, 1.9, 2.0, 5.0, 13.9, 40.0)] == [
        "niente",
        "niente",
        "ppp",
        "pp",
        "f",
        "ff",
    ]
    assert scale.limits_dba == (24.0, 26.0, 28.0, 30.0, 32.0, 34.0, 36.0)


def test_marks_where_nobody_says_otherwise() -> None:
    """4 dB a mark, the first from 1.5 dB over the room on: what is less is hardly told from it (common practice, no source)."""
    marks = ["niente", "ppp", "pp", "p", "mp", "mf", "f", "ff"]
    for mark, (first, last) in zip(marks, itertools.pairwise((-9.0, 1.5, 5.5, 9.5, 13.5, 17.5, 21.5, 25.5, 60.0)), strict=True):
        assert dynamic_mark(22.0 + first, 22.0) == dynamic_mark(22.0 + last - 0.01, 22.0) == mark


def test_without_a_background_there_is_no_mark() -> None:
    assert Scale().mark(30.0) == ""
    assert Scale().limits_dba == ()
