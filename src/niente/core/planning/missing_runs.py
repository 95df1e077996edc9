"""What the models still want: the few runs without which there is no map."""

import math
from collections.abc import Sequence

from niente.core.analysis.evidence import Evidence, RunSummary
from niente.core.model.plan import Step
from niente.core.model.rig_card import LoadKind, RigCard
from niente.core.model.setting import Setting
from niente.core.planning.builders import baseline_steps, fixed_fans, limits_below, load_named, noise_steps, until_known

SHARES, COOLER_SHARES = (0.55, 0.75, 0.9), (0.4, 0.5, 0.65)
"""Power limits that show the heat path, as shares of stock; and those for a machine whose cap limits it there."""
HEAT_RUNS, NOISE_RUNS = 3, 2
NOISE_DUTIES = (30.0, 50.0, 75.0, 100.0)


def missing_runs(card: RigCard, evidence: Evidence | None) -> tuple[Step, ...]:
    """Return the runs that the models of a machine want and that its book does not have, each with its reason; nothing where
    there are enough.

    Heat first at full fans and rising power, so that the temperature cap does not limit; one of them with slow fans, so that
    there is something to tell fans by.
    """
    runs = evidence.usable() if evidence is not None else []
    found: list[Step] = []
    heard = sum(1 for run in runs if math.isfinite(run.noise_dba) and math.isfinite(run.noise_se_db))
    base = fixed_fans(card).over(card.stock)
    if heard < NOISE_RUNS:
        found += noise_steps(card, base, NOISE_DUTIES)
    known = until_known(card)
    stock = {run.load for run in runs if run.setting == card.stock}
    loads = load_named(card, LoadKind.HEAVY, LoadKind.REALISTIC)
    found += baseline_steps(card, [load for load in loads if load not in stock], known)
    return (*found, *_heat_runs(card, base, runs))


def _heat_runs(card: RigCard, base: Setting, runs: list[RunSummary]) -> list[Step]:
    heavy = card.load_of(LoadKind.HEAVY)
    lead = card.lead_group()
    if heavy is None or lead is None:
        return []
    own = [run for run in runs if run.load == heavy.name and run.failures == 0]
    if sum(run.settled.known and not run.heat_limited for run in own) >= HEAT_RUNS:
        return []
    shares = COOLER_SHARES if any(run.heat_limited for run in own) else SHARES
    reason = "The heat path wants three settled runs that heat does not limit"
    return [
        Step(
            base.replaced("sustained_power_w", limit).replaced(f"fan_duty.{lead}", duty),
            heavy.name,
            until_known(card),
            "capacity",
            reason,
        )
        for limit, duty in _heat_points(card, lead, shares)
    ]


def _heat_points(card: RigCard, lead: str, shares: Sequence[float]) -> list[tuple[float, float]]:
    """Return power limits with the fans at full duty, and the first of them once more with the fans slow."""
    full = card.control(f"fan_duty.{lead}")
    fast, slow = (full.high, max(full.low, 0.4 * full.high)) if full is not None else (100.0, 40.0)
    limits = limits_below(card, shares)
    return [*((limit, fast) for limit in limits), (limits[0], slow)]
