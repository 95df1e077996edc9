"""Parts with thresholds of their own: against sums written out, and against what one machine alone would say."""

import math

import numpy as np
import pytest

from niente.core.science.stability.drawn_laws import PartLaws
from niente.core.science.stability.parts import PartExposure, known_parts, part_laws
from niente.core.science.stability.posterior import Known, SeenExposure, known_from, laws_from
from niente.core.science.stability.shapes import Shapes, beforehand


def one_shape(scale_mv: float) -> Shapes:
    """A straight law whose failures hardly cluster, and nothing else."""
    every = beforehand()
    straight = np.flatnonzero((every.easing == 0.0) & (every.swing < 0.1))
    return every.picked(straight[[int(np.argmin(np.abs(every.scale_mv[straight] - scale_mv)))]])


def rates(thresholds_mv: np.ndarray, depth_mv: float, scale_mv: float) -> np.ndarray:
    return np.minimum(2e-3 * np.exp(np.clip((depth_mv - thresholds_mv) / scale_mv, -60.0, 12.0)), 1.0)


def said_at(known: Known, thresholds_mv: np.ndarray) -> np.ndarray:
    """What one shape's thresholds are held for; nothing where they were left out as all but impossible."""
    kept = dict(zip(known.thresholds_mv.tolist(), known.log_likelihood[:, 0].tolist(), strict=True))
    return np.array([kept.get(one, -math.inf) for one in thresholds_mv.tolist()])


def test_a_failure_that_nothing_names_is_shared_as_bayes_rule_shares_it() -> None:
    """Two parts: the marginal of the first, summed over every place that the second may have (written out)."""
    shape = one_shape(4.0)
    depths, seconds = (70.0, 80.0), 90.0
    first, second = known_parts([PartExposure(depths, seconds, True)], 2, shape)
    places, scale = np.arange(-100.0, 402.0, 2.0), float(shape.scale_mv[0])
    before = -0.5 * ((places - 80.0 - 10.0) / 20.0) ** 2  # by the deepest: nothing says which it was
    joint = before[:, None] + before[None, :]
    both = rates(places, depths[0], scale)[:, None] + rates(places, depths[1], scale)[None, :]
    joint = joint + np.log(both) - both * seconds
    joint = np.exp(joint - joint.max())
    for known, axis in ((first, 1), (second, 0)):
        marginal = joint.sum(axis=axis)
        own = np.exp(said_at(known, places) - known.log_likelihood.max())
        assert own / own.sum() == pytest.approx(marginal / marginal.sum(), abs=2e-4)


def test_a_failure_that_names_a_part_is_clean_time_for_the_others() -> None:
    shape = one_shape(4.0)
    seen = [PartExposure((70.0, 70.0), 40.0, False), PartExposure((90.0, 85.0), 30.0, True, 0)]
    first, second = known_parts(seen, 2, shape)
    alone = known_from([SeenExposure(70.0, 40.0, False), SeenExposure(90.0, 30.0, True)], shape)
    clean = known_from([SeenExposure(70.0, 40.0, False), SeenExposure(85.0, 30.0, False)], shape)
    at = 90.0  # where the part stood that failed first
    for known, beside in ((first, alone), (second, clean)):
        places = np.intersect1d(known.thresholds_mv, beside.thresholds_mv)
        before = -0.5 * ((places - at - 10.0) / 20.0) ** 2
        assert places.shape[0] > 20
        assert said_at(known, places) == pytest.approx(said_at(beside, places) + before, abs=1e-9)


def many() -> list[PartExposure]:
    return [
        PartExposure((80.0, 80.0, 80.0), 40.0, False),
        PartExposure((95.0, 95.0, 95.0), 20.0, True, 1),
        PartExposure((90.0, 80.0, 90.0), 300.0, True, 0),
        PartExposure((85.0, 78.0, 95.0), 500.0, True, 2),
        PartExposure((88.0, 82.0, 92.0), 60.0, True, 1),
    ]


def drawn(offsets: tuple[float, ...] = (0.0, 0.0, 0.0)) -> PartLaws:
    shapes = beforehand()
    return part_laws([known_parts(many(), 3, shapes)], np.array(offsets), shapes)[0]


def test_the_machine_fails_as_often_as_its_parts_together() -> None:
    laws = drawn((5.0, 0.0, 10.0))
    for depth in (20.0, 60.0, 80.0):
        each = [np.exp(laws.of_part(part).log_rate(depth + extra)) for part, extra in enumerate((5.0, 0.0, 10.0))]
        assert np.exp(laws.log_rate(depth)) == pytest.approx(np.sum(each, axis=0), rel=1e-9)


@pytest.mark.parametrize("rate_per_s", [1e-7, 1e-4, 1e-2])
def test_a_depth_is_where_the_rate_is_so_high(rate_per_s: float) -> None:
    laws = drawn((5.0, 0.0, 10.0))
    depths = laws.depths_mv(rate_per_s)
    found = [laws.reweighted(laws.weight).log_rate(float(depth))[index] for index, depth in enumerate(depths[:200])]
    assert np.array(found) == pytest.approx(math.log(rate_per_s), abs=0.01)


def test_a_machine_that_stands_deeper_may_go_less_deep() -> None:
    even, deeper = drawn(), drawn((20.0, 20.0, 20.0))
    assert deeper.deepest_mv(0.01, 0.99, 86400.0) == pytest.approx(even.deepest_mv(0.01, 0.99, 86400.0) - 20.0, abs=0.5)


def test_one_part_is_a_machine() -> None:
    """A single part that every failure names: its law is that of the machine, as far as half the say of the shape lets it."""
    rng = np.random.default_rng(3)
    seen = []
    for step in (3, 2, 1, 0, -1) * 4:
        comes = float(rng.exponential(500.0 / math.exp(step)))
        seen.append((90.0 + 4.0 * step, max(min(comes, 900.0), 1.0), comes < 900.0))
    shapes = beforehand()
    known = known_parts([PartExposure((depth,), seconds, failed, 0) for depth, seconds, failed in seen], 1, shapes)
    part = part_laws([known], np.zeros(1), shapes)[0].of_part(0)
    whole = laws_from([[SeenExposure(depth, seconds, failed) for depth, seconds, failed in seen]])[0]
    for share in (0.1, 0.5, 0.9):
        assert part.quantile(part.thresholds_mv, share) == pytest.approx(whole.quantile(whole.thresholds_mv, share), abs=4.0)
