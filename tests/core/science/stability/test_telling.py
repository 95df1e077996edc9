"""Which exposure tells most: against the expected variance worked out by simulated outcomes."""

from dataclasses import replace

import numpy as np
import pytest

from niente.core.science.stability.posterior import Posterior, SeenExposure, known_from
from niente.core.science.stability.shapes import beforehand
from niente.core.science.stability.telling import ExposureCost, ExposureOffer, most_telling

SEEN = [SeenExposure(60.0, 40.0, False), SeenExposure(80.0, 20.0, True), SeenExposure(70.0, 300.0, False)]
WANTED_PER_S = 1.163e-7


def left_over(offer: ExposureOffer) -> float:
    """Return the variance of the wanted depth that is left after an exposure, by its two outcomes drawn from the laws."""
    laws = Posterior(known_from(SEEN, beforehand())).laws
    wanted, rate = laws.depths_mv(WANTED_PER_S), np.exp(laws.log_rate(offer.depth_mv))
    lasts = np.exp(-rate * offer.seconds)
    total = 0.0
    for weight in (laws.weight * lasts, laws.weight * (1.0 - lasts)):
        chance = weight.sum()
        mean = np.sum(weight * wanted) / chance
        total += chance * np.sum(weight * (wanted - mean) ** 2) / chance
    return float(total)


def test_it_takes_what_leaves_least_where_all_cost_alike() -> None:
    laws = Posterior(known_from(SEEN, beforehand())).laws
    offers = [ExposureOffer(depth, 200.0) for depth in (40.0, 60.0, 68.0, 74.0, 80.0, 95.0)]
    found = most_telling(laws, WANTED_PER_S, offers, ExposureCost(1e9, {}))
    assert left_over(found) == pytest.approx(min(left_over(offer) for offer in offers), rel=0.02)


def test_what_takes_the_machine_down_is_dear() -> None:
    laws = Posterior(known_from(SEEN, beforehand())).laws
    offers = [ExposureOffer(85.0, 60.0), ExposureOffer(74.0, 400.0)]
    assert most_telling(laws, WANTED_PER_S, offers, ExposureCost(20.0, {85.0: 1e7})) == offers[1]


def test_nothing_offered_is_refused() -> None:
    laws = Posterior(known_from(SEEN, beforehand())).laws
    with pytest.raises(ValueError, match="offered"):
        most_telling(laws, WANTED_PER_S, [], ExposureCost(20.0, {}))


def test_within_a_restless_spell_it_looks_elsewhere() -> None:
    """Five failures in a row at one depth: another brief look there tells of the spell, not of the law, and the slow depth
    comes first. Once the spell is forgotten the brief look at a fast depth is the better bargain again."""
    burst = [SeenExposure(85.0, 4.0, True, gap_s=5.0) for _ in range(5)]
    before = [SeenExposure(60.0, 300.0, False), SeenExposure(90.0, 12.0, True), SeenExposure(80.0, 200.0, True)]
    laws = Posterior(known_from([*before, *burst], beforehand())).laws
    slow, fast = ExposureOffer(70.0, 600.0), ExposureOffer(92.0, 15.0)
    offers = [ExposureOffer(85.0, 30.0), ExposureOffer(78.0, 150.0), slow, fast]
    assert float(np.sum(laws.weight * laws.calm)) < 0.2
    assert most_telling(laws, WANTED_PER_S, offers, ExposureCost(10.0, {})) == slow
    rested = replace(laws, calm=np.full(laws.weight.shape, 0.75))
    assert most_telling(rested, WANTED_PER_S, offers, ExposureCost(10.0, {})) == fast
