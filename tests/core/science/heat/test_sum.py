"""The sum that the heat path is: held against resistances in series, its own slopes, and what must always be so."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from niente.core.science.heat.sum import (
    BESIDE,
    COMMON,
    COMMON_STILL,
    FREE,
    OF_GROUP,
    OTHER,
    SHARED,
    THETA0,
    first_pair,
    first_source,
    mixing_of,
    of_load,
    of_variant,
    priors,
    rise_alone,
    rise_and_slopes,
    rise_parts,
)

NONE = np.zeros((1, 0))
TINY = -40.0


def only(**values: float) -> np.ndarray:
    """Logarithms of a path with one fan group, in which everything that is not named is nothing."""
    logs = np.full(SHARED + OF_GROUP, TINY)
    points = {"theta0": THETA0, "beside": BESIDE, "free": FREE, "other": OTHER, "common": COMMON, "own": SHARED}
    for name, value in values.items():
        logs[points[name]] = np.log(value)
    for still in (COMMON_STILL, SHARED + 1):
        logs[still] = np.log(1e-6)
    logs[[4, SHARED + 3]] = 0.0
    return logs


def with_the_stream(logs: np.ndarray, groups: int) -> np.ndarray:
    """The same path, with no group that works against the stream."""
    logs = logs.copy()
    logs[first_pair(groups) : first_source(groups)] = TINY
    return logs


def test_resistances_in_series_add() -> None:
    """0.20 + 0.10 + 0.35 K/W in series come to 0.65 K/W: 78.0 K at 120 W (definition, JESD51-1; from memory)."""
    logs = only(theta0=0.20, own=0.10, common=0.35)
    rise = rise_alone(logs, np.array([120.0]), np.array([[1.0]]), NONE)
    assert rise[0] == pytest.approx(78.0, abs=1e-3)
    parts = rise_parts(logs[None, :], np.array([120.0]), np.array([[1.0]]), NONE)[0]
    assert parts.tolist() == pytest.approx([24.0, 42.0, 12.0], abs=1e-3)


def test_a_path_beside_another_carries_its_share() -> None:
    """0.65 beside 5.0 K/W come to 0.575221 K/W (1/theta adds; definition): fans that leave the flow w are such a pair."""
    own, beside = 0.65, 5.0
    still = own / beside  # the conductance that is left with the fan standing, over that at full speed
    logs = only(own=1.0)
    logs[SHARED] = np.log(own / (1.0 + still))
    logs[SHARED + 1] = np.log(still)
    logs[4] = 0.0
    power = np.array([100.0])
    at_full, standing = (rise_alone(logs, power, np.array([[r]]), NONE)[0] / 100.0 for r in (1.0, 0.0))
    assert at_full == pytest.approx(0.575221, abs=1e-6)
    assert standing == pytest.approx(beside, rel=1e-6)


def test_free_convection_eases_with_heat() -> None:
    """h ~ dT^1/4 over plates gives dT ~ Q^4/5 (textbook): twice the watts are 2^0.8 of the kelvins."""
    logs = only(free=0.5)
    one, two = rise_alone(logs, np.array([60.0, 120.0]), np.ones((2, 1)), np.zeros((2, 0)))
    assert two / one == pytest.approx(2.0**0.8, rel=1e-9)


def test_fans_behind_one_another_add_their_pressures() -> None:
    """Two equal fans in one way, one of them standing: the flow is 1/sqrt 2 of both (p ~ n^2, Q ~ sqrt p; AMCA 201)."""
    logs = np.full(first_source(2), TINY)
    logs[COMMON], logs[COMMON_STILL], logs[4] = np.log(0.3), np.log(1e-9), np.log(0.8)
    logs[[SHARED + 3, SHARED + OF_GROUP + 3]] = 0.0
    both, one = rise_alone(logs, np.array([100.0, 100.0]), np.array([[1.0, 1.0], [1.0, 0.0]]), np.zeros((2, 0)))
    assert one / both == pytest.approx(np.sqrt(2.0) ** 0.8, rel=1e-6)


@pytest.mark.parametrize("groups", [0, 1, 2, 3])
def test_the_slopes_are_the_slopes(groups: int) -> None:
    """Against differences of the sum itself."""
    rng = np.random.default_rng(groups)
    means, _ = priors(groups, 1, ())
    logs = np.tile(means, (6, 1)) + 0.3 * rng.standard_normal((6, means.shape[0]))
    at = rng.uniform(40, 200, 6), rng.uniform(0.1, 1.0, (6, groups)), rng.uniform(0, 60, (6, 1))
    value, slopes = rise_and_slopes(logs, *at)
    assert value.tolist() == pytest.approx(rise_alone(logs, *at).tolist())
    for index in range(means.shape[0]):
        step = np.zeros(means.shape[0])
        step[index] = 1e-5
        direct = (rise_alone(logs + step, *at) - rise_alone(logs - step, *at)) / 2e-5
        assert slopes[:, index].tolist() == pytest.approx(direct.tolist(), abs=1e-5)


@settings(deadline=None, max_examples=100)
@given(
    st.integers(0, 2**31),
    st.floats(20.0, 300.0),
    st.floats(0.0, 1.0),
    st.floats(0.0, 1.0),
    st.floats(0.001, 0.5),
)
def test_more_fan_is_never_hotter_and_more_watts_are_never_cooler(
    seed: int, power: float, one: float, two: float, step: float
) -> None:
    """Whatever the parameters, within four standard deviations of their priors; more fan, as long as no group works against
    the stream."""
    rng = np.random.default_rng(seed)
    means, sds = priors(2, 0, ())
    against = means + np.clip(rng.standard_normal(means.shape[0]), -4, 4) * sds
    warm, hot = (
        rise_alone(against, np.array([watts]), np.array([[one, two]]), NONE)[0] for watts in (power, power * (1 + step))
    )
    assert hot >= warm - 1e-9 * abs(warm)
    logs = with_the_stream(against, 2)
    here = rise_alone(logs, np.array([power]), np.array([[one, two]]), NONE)[0]
    faster = rise_alone(logs, np.array([power]), np.array([[one + step, two]]), NONE)[0]
    other = rise_alone(logs, np.array([power]), np.array([[one, two + step]]), NONE)[0]
    hotter = rise_alone(logs, np.array([power * (1 + step)]), np.array([[one, two]]), NONE)[0]
    slack = 1e-9 * abs(here)
    assert faster <= here + slack
    assert other <= here + slack
    assert hotter >= here - slack


def test_a_group_that_works_against_another_makes_it_hotter() -> None:
    """A fan at full speed, and one against it whose pressure is a quarter, a half and the whole of its own: what is left goes
    by the ratio of pressures, 1/(1 + ratio), and the kelvins as one over its root (p ~ n^2, Q ~ sqrt p; AMCA 201), exponent
    1."""
    logs = np.full(first_source(2), TINY)
    logs[SHARED], logs[SHARED + 1], logs[4] = np.log(0.3), np.log(1e-9), 0.0
    logs[first_pair(2) + 1] = 0.0  # the second against the first
    speeds = np.array([[1.0, 0.0], [1.0, 0.5], [1.0, np.sqrt(0.5)], [1.0, 1.0]])
    alone, *others = rise_alone(logs, np.full(4, 100.0), speeds, np.zeros((4, 0)))
    assert [one / alone for one in others] == pytest.approx([np.sqrt(1.25), np.sqrt(1.5), np.sqrt(2.0)], rel=0.01)
    slower = rise_alone(logs, np.array([100.0]), np.array([[0.5, 0.5]]), np.zeros((1, 0)))[0]
    assert slower / others[2] == pytest.approx(2.0, rel=0.02)  # fan laws: both at half speed are half the air


def test_a_metered_source_warms_the_air_that_is_taken_in() -> None:
    """100 W and half of 1.5 times 40 W through 0.1 K/W at full speed: 13 K; and 40 W through 0.05 K/W that no fan changes: 2 K
    (definition)."""
    logs = np.concatenate([only(own=0.1), np.log([0.05, 1.5])])
    logs[SHARED + 2] = np.log(0.5)
    at = np.array([100.0]), np.array([[1.0]]), np.array([[40.0]])
    assert rise_alone(logs, *at)[0] == pytest.approx(15.0, abs=1e-3)
    slow = (
        rise_alone(logs, at[0], np.array([[0.5]]), at[2])[0] - rise_alone(logs, at[0], np.array([[0.5]]), np.zeros((1, 1)))[0]
    )
    assert slow > 3.0 + 2.0  # at a slower fan a watt of it warms the core more


def test_loads_and_variants_have_their_own_factors() -> None:
    effects = ((of_load("b"), THETA0), (of_variant("open"), COMMON))
    logs = np.arange(SHARED + OF_GROUP + 2, dtype=float)
    plain = mixing_of(("a", "closed"), effects, logs.shape[0]) @ logs
    assert plain.tolist() == logs[:-2].tolist()
    both = mixing_of(("b", "open"), effects, logs.shape[0]) @ logs
    assert both[THETA0] == plain[THETA0] + logs[-2]
    assert both[COMMON] == plain[COMMON] + logs[-1]
    assert np.count_nonzero(both != plain) == 2


def test_what_does_not_pass_by_the_cores_is_taken_off() -> None:
    """Of 120 W 20 W are made beside the cores: (120 - 20) 0.2 = 20 K, and not 24 or 28 (definition)."""
    logs = only(theta0=0.20, beside=20.0)
    assert rise_alone(logs, np.array([120.0]), np.array([[1.0]]), NONE)[0] == pytest.approx(20.0, abs=1e-6)
    more = only(theta0=0.20, beside=40.0)
    assert rise_alone(more, np.array([120.0]), np.array([[1.0]]), NONE)[0] == pytest.approx(16.0, abs=1e-6)


def test_other_heat_warms_by_its_share_where_the_air_takes_it_on() -> None:
    """100 W and half of 40 W through 0.1 K/W at full speed: 12 K (definition)."""
    logs = only(own=0.1, other=40.0)
    logs[SHARED + 2] = np.log(0.5)
    assert rise_alone(logs, np.array([100.0]), np.array([[1.0]]), NONE)[0] == pytest.approx(12.0, abs=1e-4)
