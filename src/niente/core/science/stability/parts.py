"""What exposures say of a machine whose parts (its cores) fail each at a depth of its own, and share the shape of the law.

A failure that names its part counts for that part, and as clean time for the others. One that nothing names counts for every
part as far as it was that part's: it came from it, or from the others at the rate that is expected of them together.
"""

import math
from collections.abc import Sequence
from dataclasses import replace

import msgspec
import numpy as np

from niente.core.science.arrays import Array, Indices, Vector
from niente.core.science.remembered import Remembered
from niente.core.science.stability.drawn_laws import PartLaws, drawn_evenly
from niente.core.science.stability.posterior import Known, SeenExposure, said_of_shapes
from niente.core.science.stability.shapes import BENDINGS, PER_MHZ, Shapes

STANDING = 2000
"""Laws that stand for a whole posterior of parts."""
INDEPENDENT = 0.5
"""The share of what several parts say of the shape that counts: they went through the same restless spells."""
ABOVE_FIRST_MV, PART_SPREAD_MV = 10.0, 20.0
"""Where thresholds of parts lie beforehand, by the first failure; practice knows cores some tens of millivolts apart."""
KEEPS = 6
SEED = 19


class PartExposure(msgspec.Struct, frozen=True):
    """One exposure: how deep each part stood, for how long, whether it ended in a failure and of which part, by its index
    (``None``: nothing said which); the core temperature, and the seconds since the one before under the same load."""

    depths_mv: tuple[float, ...]
    seconds: float
    failed: bool
    part: int | None = None
    core_c: float = math.nan
    gap_s: float = 1e9


def known_parts(exposures: Sequence[PartExposure], parts: int, shapes: Shapes) -> tuple[Known, ...]:
    """Return what the exposures of one load say of each part, oldest first; what the ones before came to is kept."""
    told = tuple(exposures)
    first = next((_deepest_suspect(seen) for seen in told if seen.failed), math.nan)
    for count in range(len(told), 0, -1):
        known = _KEPT.get((shapes.name, first, told[:count]))
        if known is not None:
            break
    else:
        count, known = 0, (_beside(first, shapes),) * parts
    for seen in told[count:]:
        known = _after(known, seen)
    return _KEPT.put((shapes.name, first, told), known) if told else known


_KEPT: Remembered[tuple[tuple[float, float], float, tuple[PartExposure, ...]], tuple[Known, ...]] = Remembered(KEEPS)


def _deepest_suspect(seen: PartExposure) -> float:
    """Return how deep the part stood that failed; the deepest of all where nothing says which it was."""
    return max(seen.depths_mv) if seen.part is None else seen.depths_mv[seen.part]


def _beside(first_mv: float, shapes: Shapes) -> Known:
    """Return what is known of a part before it was run, where the first failure of any came at a depth: parts of one machine
    are not very unlike, and the first to fail is one of the weaker ones."""
    known = Known.nothing(shapes)
    if not math.isfinite(first_mv):
        return known
    away = (known.thresholds_mv - first_mv - ABOVE_FIRST_MV) / PART_SPREAD_MV
    return replace(known, log_likelihood=known.log_likelihood - 0.5 * (away * away)[:, None])


def _after(known: tuple[Known, ...], seen: PartExposure) -> tuple[Known, ...]:
    """Return what is known of each part after one more exposure; parts that are alike are worked out once."""
    unnamed = seen.failed and seen.part is None
    rates = (
        [_expected_rate(one, depth, seen.core_c, seen.seconds) for one, depth in zip(known, seen.depths_mv, strict=True)]
        if unnamed
        else []
    )
    alike: dict[tuple[int, SeenExposure], Known] = {}
    found: list[Known] = []
    for part, (one, depth) in enumerate(zip(known, seen.depths_mv, strict=True)):
        own = SeenExposure(
            depth_mv=depth,
            seconds=seen.seconds,
            failed=seen.failed and seen.part in (part, None),
            core_c=seen.core_c,
            gap_s=seen.gap_s,
            others_per_s=sum(rates) - rates[part] if unnamed else 0.0,
        )
        key = (id(one), own)
        if key not in alike:
            alike[key] = one.after(own)
        found.append(alike[key])
    return tuple(found)


def _expected_rate(known: Known, depth_mv: float, core_c: float, seconds: float) -> float:
    """Return the rate in 1/s that is expected of a part which lasted so many seconds."""
    rate = np.exp(known.log_rate(depth_mv, core_c=core_c))
    log = known.log_likelihood + known.shapes.log_prior - rate * seconds
    weight = np.exp(log - np.max(log))
    return float(np.sum(weight * rate) / np.sum(weight))


def part_laws(
    loads: Sequence[tuple[Known, ...]], offsets_mv: Vector, shapes: Shapes, clocks_mhz: Sequence[float] = ()
) -> tuple[PartLaws, ...]:
    """Return laws that stand for the posterior of each load. All parts under all loads share the shapes; given those their
    thresholds are independent. ``offsets_mv`` is how much deeper each part stands than the depth that laws are asked for,
    ``clocks_mhz`` the clock that each load was run at: how far another moves the thresholds is as unknown as beforehand."""
    said = np.sum([said_of_shapes(one, shapes) for known in loads for one in known], axis=0)
    log = shapes.log_prior + INDEPENDENT * said
    weight = np.exp(log - np.max(log))
    columns, shares = drawn_evenly(weight / weight.sum(), STANDING)
    drawn = np.repeat(columns, np.round(shares * STANDING).astype(np.int64))
    even = np.full(drawn.shape, 1.0 / drawn.shape[0])
    rng = np.random.default_rng(SEED)
    bending, per_mhz = (_drawn_from(table, drawn.shape[0], rng) for table in (BENDINGS, PER_MHZ))
    none = np.zeros(drawn.shape)
    return tuple(
        PartLaws(
            shapes.picked(drawn).moving(bending, per_mhz if math.isfinite(clock) else none, none, clock, math.nan),
            even,
            np.stack([_thresholds(one, drawn, rng) for one in known]),
            offsets_mv,
        )
        for known, clock in zip(loads, clocks_mhz or (math.nan,) * len(loads), strict=True)
    )


def _drawn_from(table: Sequence[tuple[float, float]], count: int, rng: np.random.Generator) -> Vector:
    """Return values of a table of values and their probabilities."""
    values, shares = np.array(table).T
    found: Vector = rng.choice(values, count, p=shares)
    return found


def _thresholds(known: Known, drawn: Indices, rng: np.random.Generator) -> Array:
    """Return a threshold of one part for each of the drawn shapes ``(n,)``, from what is known of it given that shape."""
    column = np.full(int(max(drawn.max(), known.shapes.number.max())) + 1, -1)
    column[known.shapes.number] = np.arange(known.shapes.number.shape[0])
    at = column[drawn]
    log = np.where(at >= 0, known.log_likelihood[:, at], known.log_likelihood.max(axis=1)[:, None])
    below = np.cumsum(np.exp(log - log.max(axis=0)), axis=0)
    rows = np.sum(below < below[-1] * rng.random(drawn.shape[0]), axis=0)
    found: Array = known.thresholds_mv[np.minimum(rows, below.shape[0] - 1)]
    return found
