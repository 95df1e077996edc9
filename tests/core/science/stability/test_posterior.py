"""The posterior: against a sum over the grid written out, against up-and-down and logistic estimates, and calibrated."""

import math

import msgspec
import numpy as np
import pytest
from scipy.optimize import minimize

from niente.core.science.stability.drawn_laws import Laws, rate_for
from niente.core.science.stability.posterior import Posterior, SeenExposure, joint_posteriors, known_from, laws_from
from niente.core.science.stability.shapes import beforehand

DAY_PER_S = -math.log(0.99) / 86400.0


def straight_rate(depth_mv: float, threshold_mv: float, scale_mv: float) -> float:
    return 2e-3 * math.exp((depth_mv - threshold_mv) / scale_mv)


def run(rng: np.random.Generator, depth_mv: float, threshold_mv: float, scale_mv: float, seconds: float) -> SeenExposure:
    comes = float(rng.exponential(1.0 / straight_rate(depth_mv, threshold_mv, scale_mv)))
    return SeenExposure(depth_mv, max(min(comes, seconds), 1.0), comes < seconds)


def test_it_is_bayes_rule_over_the_grid() -> None:
    """Every cell by itself: prior times e^(-h t), times h where it failed (swing of next to nothing left in)."""
    seen = [SeenExposure(60.0, 300.0, False), SeenExposure(80.0, 12.0, True), SeenExposure(70.0, 200.0, True)]
    known = known_from(seen, beforehand())
    columns = np.flatnonzero((known.shapes.swing < 0.1) & (known.shapes.easing == 0.0) & (known.shapes.bending == 0.0))
    for column in columns[::4]:
        scale = known.shapes.scale_mv[column]
        for row in range(0, known.thresholds_mv.shape[0], 9):
            rates = [straight_rate(one.depth_mv, known.thresholds_mv[row], scale) for one in seen]
            rates = [min(rate, 1.0) for rate in rates]
            by_hand = sum(-rate * one.seconds + math.log(rate) * one.failed for rate, one in zip(rates, seen, strict=True))
            if by_hand < -25.0:
                continue
            found = known.log_likelihood[row, column]
            assert found == pytest.approx(by_hand, abs=0.02 + 0.01 * abs(by_hand))


@pytest.mark.parametrize("scale_mv", [3.0, 7.0])
def test_it_holds_what_it_claims(scale_mv: float) -> None:
    """Of drawn machines, the share whose true depth lies under the recommended one is about what was allowed: with 90 % asked,
    at most 10 %, by a binomial with three sigma of room (30 machines)."""
    rng = np.random.default_rng(19)
    missed = 0
    for _ in range(30):
        threshold = rng.uniform(60.0, 140.0)
        depths = threshold + scale_mv * np.array([2.5, 2.5, 2.0, 1.0, 1.0, 0.0, 0.0, -1.0] * 2)
        known = known_from([run(rng, float(d), threshold, scale_mv, 600.0) for d in depths], beforehand())
        deepest = Posterior(known).laws.deepest_mv(0.01, 0.9, 86400.0)
        missed += deepest > threshold + scale_mv * math.log(DAY_PER_S / 2e-3)
    assert missed <= 3 + 3 * math.sqrt(30 * 0.1 * 0.9)


def test_clean_hours_make_it_deeper_and_a_failure_shallower() -> None:
    seen = [SeenExposure(70.0, 300.0, True), SeenExposure(90.0, 5.0, True), SeenExposure(80.0, 60.0, True)]

    def deepest(*more: SeenExposure) -> float:
        return Posterior(known_from([*seen, *more], beforehand())).laws.deepest_mv(0.01, 0.99, 86400.0)

    assert deepest(SeenExposure(60.0, 7200.0, False)) > deepest() > deepest(SeenExposure(50.0, 300.0, True))


def test_it_agrees_with_an_up_and_down_estimate() -> None:
    """Dixon and Mood 1948 (checks T-09; constants from memory): a staircase of 300 s exposures in steps of 5 mV; the depth that
    fails in half of them is the posterior's at the rate ln 2 / 300 s."""
    rng = np.random.default_rng(3)
    depth, seen = 60.0, []
    for _ in range(80):
        one = run(rng, depth, 90.0, 5.0, 300.0)
        seen.append(one)
        depth += -5.0 if one.failed else 5.0
    stairs = seen[6:]
    failed, passed = ([one.depth_mv for one in stairs if one.failed is it] for it in (True, False))
    rarer, sign = (failed, -0.5) if len(failed) <= len(passed) else (passed, 0.5)
    base = min(rarer)
    steps = [(value - base) / 5.0 for value in rarer]
    middle = base + 5.0 * (sum(steps) / len(steps) + sign)
    laws = Posterior(known_from(seen, beforehand())).laws
    assert laws.quantile(laws.depths_mv(math.log(2.0) / 300.0), 0.5) == pytest.approx(middle, abs=3.0)


def test_it_agrees_with_a_fit_that_knows_of_no_prior() -> None:
    """Maximum likelihood of ln h = (d - x) / s with scipy on the same exposures, many of them."""
    rng = np.random.default_rng(11)
    depths = rng.uniform(82.0, 104.0, 120)
    seen = [run(rng, float(depth), 95.0, 5.0, 500.0) for depth in depths]

    def against(at: np.ndarray) -> float:
        rates = [straight_rate(one.depth_mv, at[0], math.exp(at[1])) for one in seen]
        return sum(rate * one.seconds - math.log(rate) * one.failed for rate, one in zip(rates, seen, strict=True))

    best = minimize(against, np.array([90.0, 1.0]), method="Nelder-Mead").x
    laws = Posterior(known_from(seen, beforehand())).laws
    assert laws.quantile(laws.thresholds_mv, 0.5) == pytest.approx(best[0], abs=3.0)
    assert laws.quantile(laws.shapes.scale_mv, 0.5) == pytest.approx(math.exp(best[1]), rel=0.3)


def test_loads_share_what_they_say_of_the_shape_and_keep_thresholds_of_their_own() -> None:
    rng = np.random.default_rng(5)
    much = [run(rng, 100.0 + 4.0 * step, 100.0, 4.0, 900.0) for step in (4, 3, 2, 1, 0, -1) * 5]
    little = [SeenExposure(140.0, 40.0, False), SeenExposure(160.0, 3.0, True)]
    both, alone = joint_posteriors([much, little], beforehand()), joint_posteriors([little], beforehand())[0]

    def spread(one: Posterior) -> float:
        laws = one.laws
        return laws.quantile(laws.shapes.scale_mv, 0.9) / laws.quantile(laws.shapes.scale_mv, 0.1)

    assert spread(both[1]) < spread(alone)
    assert both[1].laws.quantile(both[1].laws.thresholds_mv, 0.5) > both[0].laws.quantile(both[0].laws.thresholds_mv, 0.5) + 20


def test_more_clock_and_more_heat_leave_less_depth() -> None:
    seen = [SeenExposure(80.0, 60.0, True, 4000.0, 70.0), SeenExposure(70.0, 900.0, False, 4000.0, 70.0)]
    laws = Posterior(known_from(seen, beforehand(4000.0, 70.0))).laws
    here = laws.deepest_mv(0.01, 0.9, 86400.0, 4000.0, 70.0)
    assert laws.deepest_mv(0.01, 0.9, 86400.0, 4300.0, 70.0) < here
    assert laws.deepest_mv(0.01, 0.9, 86400.0, 4000.0, 90.0) < here


def at_clocks(*clocks_mhz: float) -> Laws:
    """A machine whose threshold stands at 100 mV at 4 000 MHz, and 0.06 mV lower for every megahertz more."""
    rng = np.random.default_rng(2)
    seen = []
    for clock in clocks_mhz:
        threshold = 100.0 - 0.06 * (clock - 4000.0)
        for step in (3, 2, 1, 0, -1) * 3:
            one = run(rng, threshold + 4.0 * step, threshold, 4.0, 600.0)
            seen.append(msgspec.structs.replace(one, clock_mhz=clock, core_c=70.0))
    return laws_from([seen])[0]


def test_what_a_clock_takes_is_learnt_where_exposures_differ_in_it_and_stays_unknown_where_not() -> None:
    """Before anything was run 0, 0.02 and 0.06 mV a megahertz are 30, 40 and 30 % likely."""

    def held(laws: Laws, per_mhz: float) -> float:
        return float(laws.weight[np.isclose(laws.shapes.per_mhz, per_mhz)].sum())

    same, other = at_clocks(4000.0, 4003.0), at_clocks(4000.0, 4500.0)
    assert [held(same, value) for value in (0.0, 0.02, 0.06)] == pytest.approx([0.3, 0.4, 0.3], abs=0.01)
    assert held(other, 0.06) > 0.95
    for laws in (same, other):
        assert laws.quantile(laws.depths_mv(1e-3, 4000.0, 70.0), 0.5) == pytest.approx(100.0, abs=6.0)
    there = [laws.depths_mv(1e-3, 4500.0, 70.0) for laws in (same, other)]
    spread = [laws.quantile(one, 0.9) - laws.quantile(one, 0.1) for laws, one in zip((same, other), there, strict=True)]
    assert spread[1] < 0.5 * spread[0]


def test_hours_at_a_gentle_clock_are_no_hours_at_a_hard_one() -> None:
    """Far before the threshold at 3 500 MHz: brief runs change nothing; a hundred hours tell of their own clock, and hardly of
    4 500 MHz, where they would otherwise have to be taken for time at it."""
    failing = [SeenExposure(100.0 + 5.0 * step, 60.0 * 3.0**-step, True, 4500.0, 80.0) for step in (0, 0, 1, 1, 2, 2)]

    def deepest(clock: float, *more: SeenExposure) -> float:
        return laws_from([[*more, *failing]])[0].deepest_mv(0.01, 0.99, 86400.0, clock, 80.0)

    brief = SeenExposure(5.0, 600.0, False, 3500.0, 60.0)
    assert deepest(4500.0, *[brief] * 10) == deepest(4500.0)
    soak = SeenExposure(20.0, 3.6e5, False, 3500.0, 80.0)
    same = SeenExposure(20.0, 3.6e5, False, 4500.0, 80.0)
    assert deepest(4500.0) - 2.0 <= deepest(4500.0, soak) < deepest(4500.0, same) - 3.0


def test_what_cannot_be_wanted_is_refused() -> None:
    for chance, seconds in ((0.0, 10.0), (1.0, 10.0), (0.5, 0.0)):
        with pytest.raises(ValueError, match="chance"):
            rate_for(chance, seconds)
    assert rate_for(0.01, 86400.0) == pytest.approx(1.1632e-7, rel=1e-3)  # 1 % in a day, models.md
