"""What a rehearsal tells, as documents: figures of a day and its picture, what is known of a point, how a drawing stands.

Nothing here is compiled, so that a window may hold them without the compiler.
"""

import math

import msgspec

from niente.core.model.fan_curve import FanCurve
from niente.core.model.setting import Setting
from niente.core.science.arrays import Vector

FULL_PERCENT = 100.0
FIRST_WIDTH_K, FULL_OVER_K = 22.0, 6.0
"""A first curve comes up over so many kelvin, and is at full speed so far over the point's temperature."""


class DayFigures(msgspec.Struct, frozen=True):
    """What a day came to: the mean level (of energies) and the loudest second in dBA, the hottest core in °C, ramps that are
    heard, the moments (s) in which they were, seconds over the room, seconds throttled, how often duties hunted, and the
    hottest reading of each other sensor in °C, by channel."""

    mean_dba: float
    loudest_dba: float
    hottest_c: float
    ramps: int
    ramp_s: tuple[int, ...]
    over_room_s: int
    throttled_s: int
    hunts: int
    hottest_at: dict[str, float] = msgspec.field(default_factory=dict)


class WorstCase(msgspec.Struct, frozen=True):
    """A day with something gone wrong: what (in words), the hottest core in °C, seconds throttled, the loudest second in dBA,
    and in words what is dangerous about it (empty: nothing)."""

    name: str
    hottest_c: float
    throttled_s: int
    loudest_dba: float
    warning: str = ""


class WorstCases(msgspec.Struct, frozen=True):
    """What a day under curves comes to with something gone wrong, as far as that is known; ``over`` says that it is all."""

    curves: dict[str, FanCurve]
    cases: tuple[WorstCase, ...]
    over: bool


class DrawingStands(msgspec.Struct, frozen=True):
    """How a drawing stands: how many sets of curves were tried, of how many, the best curves so far by group (empty: none yet),
    and whether it is over."""

    tried: int
    of: int
    curves: dict[str, FanCurve]
    over: bool


class GroupFacts(msgspec.Struct, frozen=True):
    """One fan group: its name; the least of its control in %; whether curves are drawn for it (not for a pump); the
    least duty at which it was seen to turn and the most at which it stood (NaN: nobody knows), its duty at the point; and at
    whole per cents ``(101,)`` its speed in rpm, its own level in dBA, and that with the room's background."""

    name: str
    low: float
    moved: bool
    start: float
    stall: float
    fixed: float
    rpm: Vector
    level_dba: Vector
    in_room_dba: Vector

    @property
    def floor(self) -> float:
        """The least duty in whole per cents at which it is sure to turn; the control's least where nobody knows."""
        return float(math.ceil(self.start)) if self.start <= FULL_PERCENT else self.low

    def fitted(self, curve: FanCurve) -> FanCurve:
        """Return another group's curve for this one: nowhere under the duty at which it turns."""
        floor = max(self.floor, curve.floor_percent)
        points = tuple((celsius, max(duty, floor)) for celsius, duty in curve.points)
        return msgspec.structs.replace(curve, floor_percent=floor, points=points)


class PointFacts(msgspec.Struct, frozen=True):
    """What a curve of a point is drawn over: its setting; the groups; the sensors that a rehearsal knows, with how closely in
    K; the room as it was measured and the design room in °C; the headroom that is kept in K, under which temperature, and
    the maker's limit in °C; the room's background in dBA; the package's power at full work in W; the curves
    that the machine was found with; and in words what is not known."""

    setting: Setting
    groups: tuple[GroupFacts, ...]
    sources: tuple[tuple[str, float], ...]
    room_c: float
    design_c: float
    headroom_k: float
    ceiling_c: float
    limit_c: float
    background_dba: float
    full_w: float
    found: dict[str, FanCurve]
    doubts: tuple[str, ...]


class DayTrace(msgspec.Struct, frozen=True):
    """A day in pieces ``(m,)``: the hour that each begins at, the lowest and highest core in °C and level in dBA in it, the
    mean share of work, and how much of it was the heaviest load."""

    hour: Vector
    core_low_c: Vector
    core_high_c: Vector
    level_low_dba: Vector
    level_high_dba: Vector
    activity: Vector
    heavy: Vector


class MeasuredTrace(msgspec.Struct, frozen=True):
    """What a run read, in the pieces of its picture ``(m,)``: core in °C and level in dBA; and how far off the rehearsal of it
    is: 95 % of the seconds within ``off_k``, the mean level by ``off_db`` (NaN: no meter), with how many seconds of gaps
    bridged."""

    core_c: Vector
    level_dba: Vector
    off_k: float
    off_db: float
    gaps_s: float


class RehearsedDay(msgspec.Struct, frozen=True):
    """A day under curves as it is shown: which curves and which day, its figures and its picture, what each loop does in words,
    and where each group's sensors settle at full work, in the room and in the design room, in °C; of a run that was made,
    what it read."""

    curves: dict[str, FanCurve]
    day: str
    room_c: float
    figures: DayFigures
    trace: DayTrace
    loops: dict[str, str]
    settles_c: dict[str, tuple[float, float]]
    quick: bool
    measured: MeasuredTrace | None = None


def first_curve(facts: PointFacts, group: GroupFacts) -> FanCurve:
    """Return a curve to begin with: at the point's duty where the headroom just holds, from the least at which the group turns,
    and up to full speed."""
    top_c = float(math.floor(facts.ceiling_c - facts.headroom_k))
    duty = float(math.ceil(max(group.fixed, group.floor)))
    points = [(top_c - FIRST_WIDTH_K, group.floor), (top_c, duty), (top_c + FULL_OVER_K, FULL_PERCENT)]
    source, _ = facts.sources[0]
    return FanCurve(source, tuple(points), floor_percent=group.floor)
