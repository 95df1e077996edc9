"""A question: what a person wants to know of a machine. A template of its kind turns it into a plan."""

import math
from enum import StrEnum
from typing import Annotated, Any

import msgspec

from niente.core.model.failure_goal import A_DAY, FailureGoal
from niente.core.model.json_files import json_schema
from niente.core.model.names import kind_of
from niente.core.model.plan import Exposure, QuietHours, SearchMethod, Step, Times
from niente.core.model.setting import Setting

MAX_POINTS = 100_000
"""An axis with more points than this is a slip of the keyboard."""


class Span(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """Places from ``first`` to ``last``: ``step`` apart, or each ``step`` times the one before."""

    first: float
    last: float
    step: float
    by_ratio: bool = False

    def problem(self) -> str:
        """Return what is impossible about it, in words; empty where nothing is."""
        if not all(map(math.isfinite, (self.first, self.last, self.step))):
            return "a figure is missing"
        if self.last < self.first:
            return f"it runs backwards, from {self.first:g} to {self.last:g}"
        if self.by_ratio and (self.first <= 0 or self.step <= 1.0):
            return "points by ratio start above 0, and the ratio lies above 1"
        if not self.by_ratio and self.step <= 0:
            return "its step is not positive"
        if self._count() > MAX_POINTS:
            return f"it has more than {MAX_POINTS} points"
        return ""

    def points(self) -> tuple[float, ...]:
        """Return the points, both ends among them, rising; none where it has a problem."""
        if self.problem():
            return ()
        count = int(self._count())
        inner = [self.first * self.step**n if self.by_ratio else self.first + self.step * n for n in range(count + 1)]
        short = (inner[-1] < self.last / self.step**0.5) if self.by_ratio else (inner[-1] < self.last - self.step / 2)
        if not short and len(inner) > 1:
            inner.pop()  # the last step is a little longer or shorter, so that the end is a point
        return (*(float(f"{point:.6g}") for point in inner if point < self.last), self.last)

    def _count(self) -> float:
        if self.by_ratio:
            return math.log(self.last / self.first) / math.log(self.step) + 1e-9
        return (self.last - self.first) / self.step + 1e-9


class Axis(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """One thing that is varied, and the values it takes: those listed, or those of a span.

    ``control`` is a control's name; ``fan_speed_rpm.`` with a fan group's name asks for speeds, and ``noise_dba`` for
    levels that all fans are set to together.
    """

    control: str
    values: tuple[float, ...] = ()
    span: Span | None = None

    def points(self) -> tuple[float, ...]:
        """Return the values in the order given, or those of the span."""
        return self.span.points() if self.span is not None else self.values


class Order(StrEnum):
    """In which order the runs of a stage come."""

    WARM = "keep warm, ascending"
    """From cool to hot, without idle time: each run starts near where it ends."""
    COLD = "cold start each"
    """From cool to hot, with idle time before every run."""
    MIRRORED = "A B B A"
    """There and back again, so that what drifts falls on both alike."""
    RANDOM = "random"
    """Shuffled, always alike for the same question."""
    RISK_LAST = "risk last"
    """What could fail comes last: the shallowest offsets first, whatever the heat."""


class FanSchool(StrEnum):
    """How fans are set while measuring."""

    DUTY = "fixed duty"
    SPEED = "equal speed"
    NOISE = "equal noise"
    AS_USED = "as used"
    """On their own curve: temperature then no longer shifts one for one with the room."""


class TemplateName(StrEnum):
    """The kinds of question there are. A question that was kept may name another, which is then refused in words."""

    QUIET_POINT = "quiet-point"
    BASELINE = "baseline"
    CAPACITY_LADDER = "capacity-ladder"
    FAN_SWEEP = "fan-sweep"
    CAP_SWEEP = "cap-sweep"
    UNDERVOLT_LADDER = "undervolt-ladder"
    CLOCK_VOLTAGE = "clock-voltage"
    HOLD_BACK = "hold-back"
    VARIANTS = "variants"
    SOAK = "soak"
    BURST = "burst"
    REAL_TIME = "real-time"
    FREE = "free"


class Approach(StrEnum):
    """How the settings of a quiet point are chosen."""

    GRID = "every point"
    """Every point of the axes, each until it is known."""
    ADAPTIVE = "as runs tell"
    """A few to begin with; each next one is what tells most of the pick."""


class Question(
    msgspec.Struct,
    frozen=True,
    forbid_unknown_fields=True,
    omit_defaults=True,
    rename={"idle_minutes": "rest_minutes", "method": "how"},
):
    """What is to be found out: the kind of question, what is varied over which setting, under which loads.

    ``survive`` are loads that a setting has to survive, ``quiet_under`` those it has to be quiet under; both are run.
    ``exposure`` ends a run; ``idle_minutes`` are those of a cold start, which ``from_cold`` lets go on until nothing moves.
    ``passes`` are the clean exposures that a setting has to come through. ``method``, ``fine`` and ``margin`` belong to a
    search for the last value that passes, and so does ``goal``: what it has to last. ``variants`` are compared by an A/B;
    ``stall`` asks a fan sweep for the duties at which fans start and stall; ``approach`` says how a quiet point is looked for;
    ``edits`` are changes of the list by hand.
    """

    template: str
    axes: tuple[Axis, ...]
    base: Setting
    survive: tuple[str, ...]
    quiet_under: tuple[str, ...]
    exposure: Exposure
    order: Order = Order.WARM
    idle_minutes: Annotated[float, msgspec.Meta(ge=0, le=1e5)] = 20.0
    from_cold: bool = False
    fans: FanSchool = FanSchool.DUTY
    repeats: Times = 1
    variants: tuple[str, ...] = ()
    method: SearchMethod = SearchMethod.LADDER
    fine: Annotated[float, msgspec.Meta(gt=0)] | None = None
    margin: Annotated[float, msgspec.Meta(ge=0)] | None = None
    passes: Times = 1
    confirm_minutes: Annotated[float, msgspec.Meta(gt=0, le=1e5)] = 20.0
    budget_h: Annotated[float, msgspec.Meta(gt=0, le=1e4)] | None = None
    quiet: QuietHours | None = None
    since: str = ""
    goal: FailureGoal = A_DAY
    stall: bool = False
    approach: Approach = Approach.GRID
    edits: "tuple[ListEdit, ...]" = ()

    @property
    def loads(self) -> tuple[str, ...]:
        """All loads that are run, those to survive first."""
        return (*self.survive, *(load for load in self.quiet_under if load not in self.survive))

    def axis(self, control: str) -> Axis | None:
        """Return the axis over a control, or over any control of a quantity; ``None`` where it is not varied."""
        found = (axis for axis in self.axes if control in (axis.control, kind_of(axis.control)))
        return next(found, None)

    def with_axis(self, axis: Axis) -> "Question":
        """Return the question with an axis in place of the one over the same control, or added."""
        if any(one.control == axis.control for one in self.axes):
            axes = tuple(axis if one.control == axis.control else one for one in self.axes)
        else:
            axes = (*self.axes, axis)
        return msgspec.structs.replace(self, axes=axes)


class ListChange(StrEnum):
    """What can be done to an entry of the run list."""

    MOVE = "move"
    SKIP = "skip"
    TAKE_UP = "take up"
    REPEAT = "repeat"
    INSERT = "insert"
    REMOVE = "remove"


class ListEdit(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True, rename={"change": "deed"}):
    """One change of the run list by hand. ``entry`` is the entry meant, by its key; ``after`` the one it then stands after
    (empty: first of all). ``step`` is what is inserted."""

    change: ListChange
    entry: str = ""
    after: str = ""
    step: Step | None = None


OWN_FORMAT = "niente-question/1"


class OwnTemplate(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A question kept to be asked again, of this machine or another: a template of a person's own."""

    format: str
    name: str
    question: Question


def question_schema() -> bytes:
    """Return the JSON Schema of kept questions, indented, UTF-8; it stands in docs/reference."""
    return json_schema(OwnTemplate)


def of_first_question(old: dict[str, Any]) -> dict[str, Any]:
    """Return a question as books of the first kind hold it (two axes, one kind of question) as one of today's."""
    loads = list(old.get("loads", ()))
    exposure = {"least_s": 480.0, "most_s": max(old.get("most_minutes", 40.0) * 60.0, 480.0)}
    return {
        "template": "quiet-point",
        "axes": [old["power"], old["fans"]],
        "base": old.get("base", {}),
        "survive": loads[:1],
        "quiet_under": loads[1:],
        "exposure": exposure | {"known_to_k": old.get("known_to_k", 1.0)},
        "confirm_minutes": old.get("confirm_minutes", 20.0),
    }
