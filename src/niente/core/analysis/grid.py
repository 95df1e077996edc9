"""The settings that a map or a choice looks at: a grid over two controls, the others fixed, chosen or optimised."""

import math
from collections.abc import Callable, Iterable
from enum import StrEnum
from itertools import product

import msgspec
import numpy as np

from niente.core.analysis.judged import JudgedSettings, judge
from niente.core.analysis.models import Models
from niente.core.analysis.prediction import ceilings, heard_w, predict_under_load
from niente.core.analysis.setting_batch import POWER, SettingBatch
from niente.core.model.limits import Limits
from niente.core.model.rig_card import LoadKind
from niente.core.model.setting import Setting
from niente.core.science.arrays import Array, Vector
from niente.core.science.power.operating_point import HOTTEST_C

MAX_STEPS = 45
NICE = (1.0, 2.0, 3.0, 5.0)
COARSE_STEPS, DUTIES, FINER = 26, (9, 5, 3), 4
"""Steps a side where the other fans are looked for at every point; duties a group to begin with, for one, two and more groups;
and how often the step is halved then."""
BY_PHYSICS = frozenset({"temperature_cap_c", "clock_cap_mhz", "fixed_clock_mhz"})
"""Controls that need not have been varied: where they limit the clock, watts and temperatures are among those measured."""


class OtherControls(StrEnum):
    """What becomes of the controls that are not on the axes."""

    FIXED = "fixed"
    """As the runs had them, or at values of one's own."""
    CHOSEN = "chosen"
    """As the pick has them."""
    OPTIMISED = "optimised"
    """The fans as quiet as they keep the headroom, at every point anew; the rest as the runs had it."""


class GridView(msgspec.Struct, frozen=True):
    """What a map is asked for: the controls ``across`` and ``up`` (empty: the leading fan group's duty), the load (empty: the
    heaviest heats and the realistic one counts), and what becomes of the other controls; ``fixed`` are values of one's own."""

    across: str = POWER
    up: str = ""
    load: str = ""
    others: OtherControls = OtherControls.FIXED
    fixed: dict[str, float] = msgspec.field(default_factory=dict)


DEFAULT_GRID_VIEW = GridView()


class SettingGrid(JudgedSettings, frozen=True, kw_only=True):
    """Settings on a grid with what the models say of them.

    ``x`` and ``y`` are the grid's edges ``(p,)`` and ``(d,)`` along the controls ``across`` and ``up``; every other array is
    ``(d * p,)``, x running fastest.
    """

    across: str
    up: str
    x: Vector
    y: Vector
    view: GridView = DEFAULT_GRID_VIEW

    def point(self, index: int) -> tuple[float, float]:
        """Return where a setting stands on the two axes, by its index in the arrays."""
        row, column = divmod(index, self.x.shape[0])
        return float(self.x[column]), float(self.y[row])

    def nearest(self, x: float, y: float) -> int:
        """Return the index in the arrays of the setting nearest to a point."""
        column, row = int(np.argmin(np.abs(self.x - x))), int(np.argmin(np.abs(self.y - y)))
        return int(row * self.x.shape[0] + column)

    def as_grid(self, values: Vector) -> Array:
        """Return an array ``(d * p,)`` as ``(d, p)``."""
        return values.reshape(self.y.shape[0], self.x.shape[0])


def survey_grid(
    models: Models,
    limits: Limits,
    view: GridView = DEFAULT_GRID_VIEW,
    chosen: Setting | None = None,
    grid: tuple[Vector, Vector] | None = None,
) -> SettingGrid:
    """Lay the grid over what was measured and predict every setting of it. ``chosen`` is the pick, where it is asked for;
    ``grid`` the edges, where they are given."""
    across, up = view.across, view.up or models.fans
    base = chosen if view.others == OtherControls.CHOSEN and chosen is not None else models.base
    for control, value in view.fixed.items():
        base = base.replaced(control, value)
    most = COARSE_STEPS if view.others == OtherControls.OPTIMISED else MAX_STEPS
    x, y = grid if grid is not None else (axis_values(models, across, most), axis_values(models, up, most))
    on_x, on_y = (flat.ravel() for flat in np.meshgrid(x, y))
    settings = SettingBatch(base, {across: on_x, up: on_y}, on_x.shape[0])
    if view.others == OtherControls.OPTIMISED:
        settings = _quietest_fans(models, limits, settings, view)
    judged = judge(models, limits, settings, view.load)
    return SettingGrid(**msgspec.structs.asdict(judged), across=across, up=up, x=x, y=y, view=view)


def axes_of(models: Models) -> tuple[str, ...]:
    """Return the controls that a map can be drawn over, in the card's order."""
    plain = {POWER, "temperature_cap_c", "clock_cap_mhz", "voltage_offset_mv", "fixed_clock_mhz"}
    return tuple(one.name for one in models.card.controls if one.name in plain or one.name.startswith("fan_duty."))


def axis_values(models: Models, control: str, most: int = MAX_STEPS) -> Vector:
    """Return the values of a control that are looked at: even steps over what was measured, and the measured ones."""
    known = models.card.control(control)
    seen = {run.setting.value(control) for run in models.evidence.usable() if run.load_kind != LoadKind.IDLE}
    measured = {float(value) for value in seen if value is not None}
    low, high = min(measured, default=0.0), max(measured, default=0.0)
    if known is not None and (len(measured) < 2 or control in BY_PHYSICS):
        low, high = known.low, known.high
    step = _nice((high - low) / most, known.step if known is not None else 0.0)
    inner = {value for value in measured if low <= value <= high}
    return np.array(sorted({*np.arange(low, high + 1e-9, step).tolist(), *inner}))


def _nice(least: float, step: float) -> float:
    """Return a round step that is at least so wide, and no finer than the control's own."""
    least = max(least, step, 1e-6)
    power = 10.0 ** math.floor(math.log10(least))
    return next((one * power for one in NICE if one * power >= least * 0.999), 10.0 * power)


def _quietest_fans(models: Models, limits: Limits, settings: SettingBatch, view: GridView) -> SettingBatch:
    """Return settings with the fans that are on no axis set as quiet as they keep the headroom, or as cool as they can: over
    a coarse grid first, then group by group in ever smaller steps."""
    free = _free_groups(models, settings)
    if not free:
        return settings

    def cost(duties: Array) -> Vector:
        """Return how loud settings are with duties ``(n, groups)``, far dearer where the headroom is not kept."""
        tried = _at_duties(settings, free, duties)
        steady = predict_under_load(models, tried, view.load or models.heavy_load, limits.design_room_c)
        headroom = ceilings(models, tried) - np.minimum(steady.core_c, HOTTEST_C) - steady.core_hw
        short = np.maximum(limits.min_headroom_k - headroom, 0.0)
        in_room, alone = models.noise.levels(steady.rpm, heard_w(steady))
        level = in_room + 0.01 * alone
        return level + np.where(short > 0.0, 1000.0 + 100.0 * short, 0.0)

    count = DUTIES[min(len(free), len(DUTIES)) - 1]
    ladders = [np.linspace(*span, count) for span in free.values()]
    rungs = np.stack([flat.ravel() for flat in np.meshgrid(*ladders)], axis=1)
    found = np.array([cost(np.tile(rung, (settings.count, 1))) for rung in rungs])
    best = rungs[np.argmin(found, axis=0)]
    low, high = np.array(list(free.values())).T
    best = _refined(cost, best, np.min(found, axis=0), (low, high), (high - low) / max(count - 1, 1))
    return _at_duties(settings, free, best)


def _free_groups(models: Models, settings: SettingBatch) -> dict[str, tuple[float, float]]:
    """Return the fan groups that are on no axis, with the span of their duties."""
    spans = {group: _swept(models, group) for group in models.noise.groups if f"fan_duty.{group}" not in settings.values}
    return {group: span for group, span in spans.items() if span is not None}


def _at_duties(settings: SettingBatch, groups: Iterable[str], duties: Array) -> SettingBatch:
    """Return settings with fan groups at duties ``(n, groups)``."""
    values = {f"fan_duty.{group}": duties[:, index] for index, group in enumerate(groups)}
    return SettingBatch(settings.base, {**settings.values, **values}, settings.count)


def _refined(
    cost: Callable[[Array], Vector],
    best: Array,
    least: Vector,
    bounds: tuple[Vector, Vector],
    step: Vector,
) -> Array:
    """Return duties ``(n, groups)`` of less cost, looked for group by group in steps that are halved each time."""
    low, high = bounds
    for _ in range(FINER):
        step = step / 2.0
        for index, sign in product(range(best.shape[1]), (-1.0, 1.0)):
            tried = best.copy()
            tried[:, index] = np.clip(tried[:, index] + sign * step[index], low[index], high[index])
            now = cost(tried)
            better = now < least
            best[better], least[better] = tried[better], now[better]
    return best


def _swept(models: Models, group: str) -> tuple[float, float] | None:
    """Return the least and highest duty that a group was run at; ``None`` where it was run at one alone."""
    duties = [duty for duty, _ in models.speeds[group].pairs]
    return (min(duties), max(duties)) if len(duties) > 1 else None
