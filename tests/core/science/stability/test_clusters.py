"""Failures in clusters, against the matrix exponential of the same chain (scipy) and a Poisson process."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.linalg import expm

from niente.core.science.stability.clusters import relaxed, told_of

LEAVES, RETURNS = 1.0 / 450.0, 1.0 / 150.0
"""A calm spell lasts 450 s and a restless one 150 s, so three quarters of the time are calm."""


@settings(max_examples=60, deadline=None)
@given(st.floats(-14.0, -1.0), st.floats(0.02, 2.0), st.floats(0.0, 1.0), st.floats(1.0, 3000.0), st.booleans())
def test_it_says_what_the_matrix_exponential_says(log: float, swing: float, calm: float, seconds: float, failed: bool) -> None:
    """p(t) = p(0) exp((Q - R) t); of a failure at t the density is p(t) R 1 (Fischer and Meier-Hellstern 1993)."""
    rates = np.exp(log) * np.array([1.0, np.exp(2.0 * swing)]) / (0.75 + 0.25 * np.exp(2.0 * swing))
    chain = np.array([[-LEAVES, LEAVES], [RETURNS, -RETURNS]]) - np.diag(rates)
    state = np.array([calm, 1.0 - calm]) @ expm(chain * seconds)
    state = state * rates if failed else state
    if state.sum() < 1e-250:
        return
    told = told_of(np.array([np.exp(log)]), np.array([swing]), np.array([calm]), seconds, failed)
    assert told.log_likelihood[0] == pytest.approx(np.log(state.sum()), rel=1e-6, abs=1e-8)
    assert told.calm[0] == pytest.approx(state[0] / state.sum(), abs=1e-6)


def test_without_a_swing_it_is_a_poisson_process() -> None:
    """No failure in t: exp(-h t); one at t: h exp(-h t) (textbook)."""
    rate, half, none = np.array([2e-3]), np.array([0.5]), np.array([0.0])
    assert told_of(rate, none, half, 700.0, False).log_likelihood[0] == pytest.approx(-1.4)
    assert told_of(rate, none, half, 700.0, True).log_likelihood[0] == pytest.approx(np.log(2e-3) - 1.4)


def test_clean_hours_weigh_as_in_walds_sequential_test() -> None:
    """Rates of 0.01 and 0.1 an hour, errors of 5 and 10 %: the good one is accepted after 25.0144 clean hours, where the ratio
    of likelihoods is b / (1 - a) (Wald, Sequential Analysis, 1947; the figure computed from his bounds)."""
    rates, even, none = np.array([0.01, 0.1]) / 3600.0, np.full(2, 0.75), np.zeros(2)
    good, bad = told_of(rates, none, even, 25.0144 * 3600.0, False).log_likelihood
    assert np.exp(bad - good) == pytest.approx(0.10 / 0.95, rel=1e-4)


def test_a_failure_makes_the_restless_spell_likelier_and_time_makes_it_forgotten() -> None:
    told = told_of(np.array([2e-3]), np.array([1.5]), np.array([0.75]), 30.0, True)
    assert told.calm[0] < 0.2
    assert told.calm[0] < relaxed(told.calm, 60.0)[0] < relaxed(told.calm, 1e9)[0] == pytest.approx(0.75)
