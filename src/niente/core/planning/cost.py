"""What a plan costs in time, before it is run, and what the naive way would cost."""

import math
from collections.abc import Sequence
from statistics import median

import msgspec

from niente.core.analysis.evidence import Evidence
from niente.core.model.plan import Exposure, Step
from niente.core.model.question import Order, Question
from niente.core.model.rig_card import LoadKind, RigCard
from niente.core.model.runs import RunOutcome
from niente.core.planning.builders import control_parts, is_liquid
from niente.core.planning.progress import Row
from niente.core.science.settling import slow_tau_s

NAIVE_S = 1800.0
"""The careful half hour a setting."""


class Pace(msgspec.Struct, frozen=True):
    """How long a run takes to be known to ±``at_k`` K, and the time constant by which a closer target takes longer."""

    seconds: float = 840.0
    at_k: float = 1.0
    tau_s: float = 400.0


AIR = Pace()
"""Practice on air coolers, where nothing was measured yet."""
LIQUID = Pace(seconds=1500.0, tau_s=900.0)


def pace_of(card: RigCard, evidence: Evidence | None) -> Pace:
    """Return how long runs take on this machine, from those that were made, or as is usual for its kind."""
    usual = LIQUID if is_liquid(card) else AIR
    if evidence is None:
        return usual
    seen = [
        (run.seconds, step.exposure.known_to_k)
        for run in evidence.runs
        if run.outcome == RunOutcome.DONE and run.load_kind != LoadKind.IDLE and run.settled.known
        if isinstance(step := evidence.entry_of(run), Step) and step.exposure.known_to_k is not None
    ]
    if len(seen) < 3:
        return usual
    tau = slow_tau_s(evidence.slow_prior) if evidence.slow_prior else usual.tau_s
    at_k = median(k for _, k in seen)
    return Pace(median(seconds + tau * math.log(k / at_k) for seconds, k in seen), at_k, tau)


def typical_seconds(exposure: Exposure, pace: Pace = AIR) -> float:
    """Return how long a run with this rule typically takes, its rest with it, in s.

    The slow part of a settling closes with its time constant: a target half as wide takes ``tau_s`` ln 2 longer.
    """
    if exposure.known_to_k is None:
        return exposure.idle_s + exposure.min_s
    wanted = pace.seconds + pace.tau_s * math.log(pace.at_k / exposure.known_to_k)
    return exposure.idle_s + min(max(wanted, exposure.min_s), exposure.max_s)


class PlanCost(msgspec.Struct, frozen=True):
    """Runs and seconds of a plan (typical), what is left of them, the most they may take, and the full factorial by half
    hours."""

    runs: int
    typical_s: float
    left_s: float
    max_s: float
    naive_runs: int
    naive_s: float


def row_seconds(row: Row, pace: Pace) -> float:
    """Return how long a run took, or typically takes; nothing where it is left out."""
    if row.run is not None:
        return row.run.seconds + row.step.exposure.idle_s
    return 0.0 if row.status.closed else typical_seconds(row.step.exposure, pace)


def cost_of(rows: Sequence[Row], card: RigCard, question: Question | None = None, pace: Pace = AIR) -> PlanCost:
    """Return what a plan costs; the full factorial is every point of the question's axes under every load."""
    idle = card.load_of(LoadKind.IDLE)
    rest = idle.name if idle is not None else ""
    runs = working = 0
    typical = left = most = 0.0
    for row in rows:
        if row.run is None and row.status.closed:
            continue
        runs += 1
        working += row.step.load != rest
        seconds = row_seconds(row, pace)
        typical += seconds
        if row.run is None:
            left += seconds
            most += row.step.exposure.max_s + row.step.exposure.idle_s
        else:
            most += row.run.seconds
    naive = (naive_runs(card, question) if question is not None else 0) or working
    return PlanCost(runs, typical, left, most, naive, naive * NAIVE_S)


def naive_runs(card: RigCard, question: Question) -> int:
    """Return how many runs the full factorial takes: every point of every axis, under every load, as often as asked; 0
    where nothing is varied."""
    if not question.axes and len(question.variants) < 2:
        return 0
    settings = math.prod(max(len(axis.points()), 1) * (len(control_parts(card, axis.control)) or 1) for axis in question.axes)
    turns = 2 if question.order == Order.MIRRORED else 1
    return settings * max(len(question.loads), 1) * question.repeats * max(len(question.variants), 1) * turns
