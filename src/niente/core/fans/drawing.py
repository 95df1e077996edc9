"""Draw it for me: the curve a group that is quietest over the days it is for, and still keeps the headroom of its point.

At the point all fans stand where the headroom just holds in the design room, at the core's temperature there. A curve that
reaches those duties at that temperature keeps the headroom in every room up to it, at every power up to the point's: a core
that is cooler needs no more air. Below, it may sink to a floor; how deep, over how many kelvin, and how calmly is what is
looked for, by rehearsal.
"""

import itertools
import math
from collections.abc import Callable, Sequence

import msgspec
import numpy as np

from niente.core.fans.day import DayOfLoad
from niente.core.fans.hunting import sensed_at
from niente.core.fans.machine import OF_CORE, MachineAtPoint
from niente.core.fans.rehearsal import fixed_at, rehearse, settled_on
from niente.core.fans.told import FULL_OVER_K, DayFigures, DrawingStands
from niente.core.model.errors import NotEnoughError
from niente.core.model.fan_curve import FanCurve
from niente.core.model.guard_rules import calm_level

FLOORS = (0.0, 0.5, 1.0)
"""Floors that are tried, from where a group just turns (0) to its duty at the point (1)."""
WIDTHS_K = (8.0, 14.0, 22.0, 32.0)
CALMS = ((2.0, 1.0, 0.5), (15.0, 0.5, 0.2), (40.0, 0.25, 0.1))
"""Averaging in s and ramps up and down in %/s that are tried, from quick to calm."""
HYSTERESIS_K = 3.0
RAMP_COSTS_DB, HUNT_COSTS_DB = 0.02, 5.0
"""What a ramp a day counts, and a swing, beside the mean level. A judgement, no source."""
KEEPS_K = 0.5
"""A rehearsal may come so near over the point's temperature: bursts are not yet averaged there."""
ROUND_C, ROUND_PERCENT = 1.0, 1.0
AT_ONCE, TOLD_EVERY, COARSE_S = 2, 6, 4
"""Sets that are tried from one word of how far it is to the next, and the steps in which they are."""
SOURCE = "core_temperature_c"


Shape = tuple[float, float]
"""The share of a floor between where a group just turns and its duty at the point, and over how many K it comes up."""


class CurveSearch:
    """Looks for the quietest curves of the groups ``moved``, one set of curves after the other; ``rooms_c`` are the room as it
    is and the design room.

    First all groups have one shape and are as calm; then each group's shape is changed by itself, as long as that wins: which
    group may idle while another works. Sets are tried in coarse steps, and the best of them at a second before it counts.
    """

    def __init__(
        self,
        machine: MachineAtPoint,
        moved: Sequence[str],
        days: Sequence[DayOfLoad],
        rooms_c: tuple[float, float],
        headroom_k: float,
        source: str = SOURCE,
    ) -> None:
        """Raises ``NotEnoughError`` where the point itself does not keep ``headroom_k`` in the design room."""
        self._machine, self._moved, self._days, self._source = machine, tuple(moved), tuple(days), source
        self._room_c, self._design_c = rooms_c
        self._duty = fixed_at(machine)
        self._top_c = machine.steady_core_c(1.0, self._duty, self._design_c)
        if self._top_c > machine.ceiling_c - headroom_k + KEEPS_K:
            raise NotEnoughError(
                f"At this point {machine.ceiling_c - self._top_c:.1f} K of headroom are left in a room of "
                f"{self._design_c:g} °C, where {headroom_k:g} K are wanted.",
                remedy="Choose a point that keeps it, or lower the power limit.",
            )
        core_c, _, parts = settled_on(machine, {}, 1.0, self._design_c)
        self._reads_c, _ = sensed_at(machine, FanCurve(source, ()), core_c, parts, 1.0)
        self._hard = (*days, _from_cold_to_full())
        self._limits_c = [_limits_c(machine, day, self._design_c, headroom_k) for day in self._hard]
        self._whole = [
            (dict.fromkeys(self._moved, (floor, width)), calm)
            for floor, width, calm in itertools.product(FLOORS, WIDTHS_K, CALMS)
        ]
        self._own: list[tuple[dict[str, Shape], tuple[float, float, float]]] = []
        self._best: tuple[float, dict[str, Shape], tuple[float, float, float]] | None = None
        self._refined = 0
        self.stands = DrawingStands(0, len(self._whole) + self._more(), {}, over=False)

    def go_on(self) -> DrawingStands:
        """Try the next few sets of curves. Raises ``NotEnoughError`` at the end where none keeps the headroom."""
        if self.stands.over:
            return self.stands
        for _ in range(AT_ONCE):
            following = self._next()
            if following is None:
                return self._finish()
            self._try(*following)
        return self._told(over=False)

    def _next(self) -> tuple[dict[str, Shape], tuple[float, float, float]] | None:
        """Return the next set to try; ``None`` at the end."""
        if self._whole:
            return self._whole.pop(0)
        if not self._own and self._best is not None and len(self._moved) > 1 and self._refined < len(self._moved):
            _, shapes, calm = self._best
            group = self._moved[self._refined]
            self._refined += 1
            self._own = [
                ({**shapes, group: shape}, calm) for shape in itertools.product(FLOORS, WIDTHS_K) if shape != shapes[group]
            ]
        return self._own.pop(0) if self._own else None

    def _try(self, shapes: dict[str, Shape], calm: tuple[float, float, float]) -> None:
        """Let a set be the best where it keeps its limits and counts less."""
        self.stands = msgspec.structs.replace(self.stands, tried=self.stands.tried + 1)
        curves = self._curves(shapes, calm)
        if not self._keeps(curves, COARSE_S):
            return
        cost = float(
            np.mean([_cost(rehearse(self._machine, curves, day, self._room_c, every_s=COARSE_S).figures) for day in self._days])
        )
        if (self._best is None or cost < self._best[0] - 1e-9) and self._keeps(curves, 1):
            self._best = cost, shapes, calm

    def _keeps(self, curves: dict[str, FanCurve], every_s: int) -> bool:
        """Return whether curves keep the headroom, and the board its air, on every day in the design room."""
        for day, limits in zip(self._hard, self._limits_c, strict=True):
            figures = rehearse(self._machine, curves, day, self._design_c, every_s=every_s).figures
            if figures.hottest_c > limits[""] or any(figures.hottest_at[name] > limits[name] for name in figures.hottest_at):
                return False
        return True

    def _more(self) -> int:
        """Return how many sets the second part will try."""
        return len(self._moved) * (len(FLOORS) * len(WIDTHS_K) - 1) if len(self._moved) > 1 else 0

    def _told(self, *, over: bool) -> DrawingStands:
        curves = self._curves(self._best[1], self._best[2]) if self._best is not None else {}
        self.stands = msgspec.structs.replace(self.stands, curves=curves, over=over)
        return self.stands

    def _finish(self) -> DrawingStands:
        if self._best is None:
            raise NotEnoughError(
                "Every curve that was tried lets a burst of these days over the headroom.",
                safe="The fixed duties of the point keep it.",
                remedy="Leave the fans at those, or choose a point with a kelvin or two more.",
            )
        return self._told(over=True)

    def _curves(self, shapes: dict[str, Shape], calm: tuple[float, float, float]) -> dict[str, FanCurve]:
        return {group: self._curve(group, shape, calm) for group, shape in shapes.items()}

    def _curve(self, group: str, shape: Shape, calm: tuple[float, float, float]) -> FanCurve:
        """Return one group's curve: from its floor up to its duty at the point, and on to full speed."""
        machine, (share, width), (smoothing_s, up, down) = self._machine, shape, calm
        index = machine.groups.index(group)
        duty = float(self._duty[index])
        turns = min(float(machine.fans.start[index]), duty)
        floor = _rounded_up(turns + share * (duty - turns), ROUND_PERCENT)
        of_core = self._source.startswith(OF_CORE)
        swing = 1.0 if of_core else max((self._reads_c - self._design_c) / max(self._top_c - self._design_c, 1.0), 0.1)
        at_c = math.floor(self._reads_c / ROUND_C) * ROUND_C  # reached no later than at the point
        full_c = at_c + max(math.floor(FULL_OVER_K * swing), 1.0)
        if of_core:
            full_c = max(min(full_c, math.floor(machine.ceiling_c)), at_c + 1.0)
        points = [(at_c - max(round(width * swing), 1.0), floor), (at_c, _rounded_up(duty, ROUND_PERCENT)), (full_c, 100.0)]
        if floor >= duty:
            points = points[1:]
        hysteresis_k = HYSTERESIS_K if of_core else max(round(HYSTERESIS_K * swing, 1), 0.5)
        return FanCurve(self._source, tuple(points), hysteresis_k, up, down, smoothing_s=smoothing_s, floor_percent=floor)


def quietest_curves(search: CurveSearch, progress: Callable[[str], None] = lambda text: None) -> dict[str, FanCurve]:
    """Return the quietest curves by group, with a search gone on to its end. ``progress`` is told in words how far it is; what
    it raises ends it."""
    while not search.stands.over:
        if search.stands.tried % TOLD_EVERY == 0:
            progress(f"Trying curves: {search.stands.tried} of {search.stands.of} …")
        search.go_on()
    return search.stands.curves


def _limits_c(machine: MachineAtPoint, day: DayOfLoad, design_c: float, headroom_k: float) -> dict[str, float]:
    """Return how hot a day may become in the design room: the core ("") as the headroom leaves it, other sensors as guards are
    calm; or as it is with the point's own duties, where those let them go nearer."""
    fixed = rehearse(machine, {}, day, design_c).figures
    core_c = max(machine.ceiling_c - headroom_k, fixed.hottest_c) + KEEPS_K
    return {"": core_c, **{name: max(calm_level(name), fixed.hottest_at[name] + KEEPS_K) for name in fixed.hottest_at}}


def _from_cold_to_full() -> DayOfLoad:
    """Return two hours of the heaviest load after a quarter of an hour of nothing: the hardest that the point allows."""
    activity = np.repeat([0.0, 1.0], [900, 7200])
    return DayOfLoad("from cold to full", np.ones(activity.shape, dtype=np.int64), activity)


def _cost(figures: DayFigures) -> float:
    """Return what a day counts in dB."""
    return figures.mean_dba + RAMP_COSTS_DB * figures.ramps + HUNT_COSTS_DB * math.log1p(figures.hunts)


def _rounded_up(value: float, step: float) -> float:
    return math.ceil(value / step - 1e-9) * step
