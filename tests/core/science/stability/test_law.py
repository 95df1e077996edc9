"""The failure law: an exponential in its middle, bent to either side, and its inverse."""

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from niente.core.science.stability.law import log_rate, scales_at

EASINGS = st.sampled_from([-0.07, 0.0, 0.12, 0.6])
BENDINGS = st.sampled_from([0.0, 0.008, 0.016])


@given(st.floats(-18.0, -3.0), EASINGS, BENDINGS)
def test_the_depth_of_a_rate_is_where_that_rate_is(log: float, easing: float, bending: float) -> None:
    e, b = np.array([easing]), np.array([bending])
    assert log_rate(scales_at(math.exp(log), e, b), e, b)[0] == pytest.approx(log, abs=1e-9)


@given(st.floats(-30.0, 10.0), st.floats(0.01, 3.0), EASINGS, BENDINGS)
def test_deeper_is_never_safer(scales: float, further: float, easing: float, bending: float) -> None:
    e, b = np.array([easing]), np.array([bending])
    assert log_rate(np.array([scales]), e, b)[0] <= log_rate(np.array([scales + further]), e, b)[0]


def test_a_straight_law_falls_by_a_factor_of_e_for_every_scale() -> None:
    """ln h = ln h0 + u (the exponential of models.md), 1/500 s at the threshold."""
    none = np.zeros(3)
    assert np.exp(log_rate(np.array([-1.0, 0.0, 1.0]), none, none)) * 500.0 == pytest.approx([1 / math.e, 1.0, math.e])


def test_it_eases_beyond_the_threshold_and_falls_faster_before_it() -> None:
    bent, straight = (np.array([0.3]), np.array([0.012])), (np.array([0.0]), np.array([0.0]))
    for scales in (4.0, -8.0):
        at = np.array([scales])
        assert log_rate(at, *bent)[0] < log_rate(at, *straight)[0]
    # a day at 1 % (1.16e-7 per second) is nearer to the threshold where the rate falls faster; ln(2e-3 / 1.163e-7) = 9.753
    assert scales_at(1.163e-7, *straight)[0] == pytest.approx(-9.753, abs=0.001)
    assert scales_at(1.163e-7, *bent)[0] == pytest.approx(-8.82, abs=0.01)  # root of u - 0.012 u^2 = -9.753, by hand


def test_a_rate_that_is_none_is_refused() -> None:
    with pytest.raises(ValueError, match="positive"):
        scales_at(0.0, np.zeros(1), np.zeros(1))
