"""What is truly the quietest setting of a simulated machine that keeps the limits, found by a general optimiser on the truth
itself among what its controls can be set to, and what each limit's doubt cost a pick."""

import itertools
import math
from collections.abc import Callable

import msgspec
import numpy as np
from scipy.optimize import linprog, nnls

from niente.core.model.limits import Limits
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting
from niente.core.science.arrays import Array, Vector

Reads = Callable[[Setting], tuple[float, float, float, float]]
"""A chance of a failure in a day, throughput in per cent, headroom in K, and the level in the room in dBA."""
Alone = Callable[[Setting], float]
"""The level of the machine alone, in dBA."""
ALLOWED = 0.01
STEPS = {"sustained_power_w": 0.02, "voltage_offset_mv": 0.05}
"""The steps of its slopes, as shares of a control's span; 3 % of duty for fans."""
FAN_STEP, ROUNDS = 3.0, 14
TRUST, SHRINKS, GROWS, MOST_TRUST = 0.12, 0.4, 1.7, 0.25
STEPPED = 4
"""How often the best on the steps of the controls is left for one a step beside it."""
SHORT_DB = 8.0
"""What a unit short of a limit counts: per cent, kelvin, a tenfold chance."""
LIMITS = ("throughput", "headroom", "failures")


class Regret(msgspec.Struct, frozen=True):
    """By how much the best setting is quieter than a pick, in dB in the room and alone, and what of the former each
    limit's slack was worth at the best setting's prices; ``other_db`` is what no limit explains."""

    in_room_db: float
    alone_db: float
    paid: dict[str, float]

    @property
    def other_db(self) -> float:
        """What no limit explains."""
        return self.in_room_db - sum(self.paid.values())


def regret_of(pick: Setting, card: RigCard, reads: Reads, alone: Alone, limits: Limits) -> Regret:
    """Return what a pick costs against the best setting near it that can be set: noise lowered along the true slopes, by linear
    programs in a trust region that shrinks where they do not hold, and then on the steps of the controls."""
    names = [control.name for control in card.controls if control.name == "sustained_power_w" or _is_fan(control.name)]
    names += ["voltage_offset_mv"] if card.control("voltage_offset_mv") is not None else []
    low, high = (np.array([_ends(card, name)[end] for name in names]) for end in (0, 1))
    known: dict[bytes, Vector] = {}

    def setting_at(at: Vector) -> Setting:
        setting = pick
        for name, value in zip(names, at.tolist(), strict=True):
            setting = setting.replaced(name, value)
        return setting

    def figures(at: Vector) -> Vector:
        key = np.round(at, 6).tobytes()
        if key not in known:
            chance, work, headroom, level = reads(setting_at(at))
            log = math.log10(max(chance, 1e-9))
            known[key] = np.array([level, work, headroom, min(-2.0 - log, 3.0)])
        return known[key]

    least = np.array([limits.min_throughput_percent, limits.min_headroom_k, 0.0])
    start = np.array([pick.value(name) or 0.0 for name in names])
    at, share = start.copy(), TRUST
    for _ in range(ROUNDS):
        slopes = _slopes(figures, at, names, low, high)
        now = figures(at)
        step = _best_step(slopes, now, least, share * (high - low), low - at, high - at)
        tried = figures(at + step)
        if _merit(tried, least) < _merit(now, least) - 0.005:
            at, share = at + step, min(GROWS * share, MOST_TRUST)
        else:
            share *= SHRINKS
    slopes = _slopes(figures, at, names, low, high)
    prices, _ = nnls(slopes[1:].T, slopes[0])
    at = _on_steps(figures, at, start, least, [_grid(card, name) for name in names])
    best, own = figures(at), figures(start)
    slack = own[1:] - best[1:]
    paid = dict(zip(LIMITS, (prices * slack).tolist(), strict=True))
    return Regret(float(own[0] - best[0]), alone(pick) - alone(setting_at(at)), paid)


def _grid(card: RigCard, name: str) -> Vector:
    """Return the values that a control can be set to, up to stock."""
    control = card.control(name)
    assert control is not None
    low, high = _ends(card, name)
    values: Vector = np.append(np.arange(control.low, high + 1e-9, control.step), high)
    return np.unique(values[values >= low])


def _on_steps(figures: Callable[[Vector], Vector], at: Vector, start: Vector, least: Vector, grids: list[Vector]) -> Vector:
    """Return the best setting on the steps of the controls: of those round ``at`` and the ``start``, and then a step beside."""
    sides = [
        grid[max(above - 1, 0) : above + 1]
        for grid, above in zip(grids, map(np.searchsorted, grids, at), strict=True)  # with the one above, where there is one
    ]
    best = min([start, *map(np.array, itertools.product(*sides))], key=lambda one: _merit(figures(one), least))
    for _ in range(STEPPED):
        beside = [best]
        for index, grid in enumerate(grids):
            near = int(np.argmin(np.abs(grid - best[index])))
            for other in {max(near - 1, 0), min(near + 1, grid.shape[0] - 1)}:
                moved = best.copy()
                moved[index] = grid[other]
                beside.append(moved)
        found = min(beside, key=lambda one: _merit(figures(one), least))
        if found is best:
            break
        best = found
    return best


def _merit(figures: Vector, least: Vector) -> float:
    """Return the level and what a setting falls short of the limits by, in dB: far more than that can win."""
    return float(figures[0] + SHORT_DB * np.sum(np.maximum(least - figures[1:], 0.0)))


def _is_fan(name: str) -> bool:
    return name.startswith("fan_duty.")


def _ends(card: RigCard, name: str) -> tuple[float, float]:
    control = card.control(name)
    assert control is not None
    return control.low, min(control.high, card.stock.value(name) or control.high) if not _is_fan(name) else control.high


def _slopes(figures: Callable[[Vector], Vector], at: Vector, names: list[str], low: Vector, high: Vector) -> Array:
    """Return the slopes of every figure by every control ``(4, d)``."""
    found = []
    for index, name in enumerate(names):
        width = FAN_STEP if _is_fan(name) else STEPS[name] * (high[index] - low[index])
        up, down = at.copy(), at.copy()
        up[index], down[index] = min(at[index] + width, high[index]), max(at[index] - width, low[index])
        found.append((figures(up) - figures(down)) / max(up[index] - down[index], 1e-9))
    return np.array(found).T


def _best_step(slopes: Array, now: Vector, least: Vector, most: Vector, down: Vector, up: Vector) -> Vector:
    """Return the step that lowers the level most along the slopes within the trust region, as a linear program."""
    within = [(max(-m, d), min(m, u)) for m, d, u in zip(most, down, up, strict=True)]
    short = np.maximum(least - now[1:], 0.0)  # where it falls short already it may stay there
    found = linprog(slopes[0], A_ub=-slopes[1:], b_ub=now[1:] - least + short, bounds=within)
    step: Vector = found.x if found.x is not None else np.zeros(most.shape[0])
    return step
