"""An answer: what a book says to the question that was asked, as a document of its own.

It is the same for the window, for the terminal and for a script: sentences, the figures behind them with their intervals and
the runs they come from, a table, what a picture of it shows, what it rests on, and what would make it surer.
"""

import math
from enum import StrEnum

import msgspec

from niente.core.model.json_files import indented_json, json_schema
from niente.core.model.plan import Step
from niente.core.model.question import Question

ANSWER_FORMAT = "niente-answer/1"


class AnswerState(StrEnum):
    """How far an answer is."""

    NOTHING = "nothing yet"
    GROWING = "growing"
    COMPLETE = "complete"
    """All runs that the question asks for were made, or are not needed any more."""


class Value(msgspec.Struct, frozen=True):
    """A figure as it is known: ``low`` and ``high`` are its 95 % interval; ``None`` where that, or the figure, is not known.
    ``words`` stand in place of a figure. ``forecast`` says that it was not measured there."""

    value: float | None = None
    low: float | None = None
    high: float | None = None
    words: str = ""
    forecast: bool = False

    @property
    def known(self) -> bool:
        """Whether there is a figure."""
        return self.value is not None

    @property
    def half_width(self) -> float | None:
        """Half of the interval; ``None`` where there is none."""
        return 0.5 * (self.high - self.low) if self.low is not None and self.high is not None else None


def value_of(value: float, half_width: float | None = None, *, forecast: bool = False) -> Value:
    """Return a figure with the half width of its 95 % interval; NaN and infinity are not known."""
    if not math.isfinite(value):
        return Value()
    if half_width is None or not math.isfinite(half_width):
        return Value(value, forecast=forecast)
    return Value(value, value - half_width, value + half_width, forecast=forecast)


class AnswerFigure(msgspec.Struct, frozen=True):
    """One figure of an answer: its public name, what it is called, its unit, how many decimals are shown, what it is, and the
    runs that it comes from."""

    name: str
    title: str
    unit: str
    digits: int
    value: Value
    runs: tuple[int, ...] = ()


class Column(msgspec.Struct, frozen=True):
    """One column of an answer's table, or an axis of its picture. In a ``brief`` one intervals are shown only where there is
    room for them."""

    name: str
    title: str
    unit: str = ""
    digits: int = 1
    brief: bool = False


class TableRow(msgspec.Struct, frozen=True):
    """One row of an answer's table: what it is of, a second line, a value for each column, and the runs behind it.

    ``leads`` marks the row that the sentence speaks of, ``open`` one whose runs have not said all they can. Where columns have
    no unit, a row has its own.
    """

    title: str
    values: tuple[Value, ...]
    detail: str = ""
    runs: tuple[int, ...] = ()
    leads: bool = False
    open: bool = False
    unit: str = ""
    digits: int = 1


class Table(msgspec.Struct, frozen=True):
    """The table behind an answer."""

    title: str
    columns: tuple[Column, ...]
    rows: tuple[TableRow, ...]


class Bar(msgspec.Struct, frozen=True):
    """One load of a picture of temperatures (°C): from the room over the mean of the cores to the hottest, with what limits the
    clock there (public name of the limiter), and the highest reading."""

    title: str
    detail: str
    room: float | None
    mean: float | None
    hottest: Value
    peak: float | None
    limiter: str
    open: bool = False


class Track(msgspec.Struct, frozen=True):
    """How near something came to its limit: what it is, under which load it came nearest, which share of the way was used, and
    what was left in words. ``holds`` says that firmware holds it there, and not Niente's guard."""

    title: str
    detail: str
    share: float
    left: str
    holds: bool


class Bars(msgspec.Struct, frozen=True, tag="bars", tag_field="kind"):
    """A picture of temperatures, a bar a load; ``cap`` is where the firmware caps them, ``guard`` where Niente ends a run.
    ``tracks`` are what protects the machine, the nearest first."""

    bars: tuple[Bar, ...]
    cap: float | None = None
    guard: float | None = None
    tracks: tuple[Track, ...] = ()


class Spread(msgspec.Struct, frozen=True):
    """One row of a picture of differences: what was compared and how, the difference, that of each pair, the verdict in words
    and what goes with it."""

    title: str
    detail: str
    value: Value
    pairs: tuple[float, ...]
    verdict: str
    words: str


class Spreads(msgspec.Struct, frozen=True, tag="spreads", tag_field="kind"):
    """A picture of differences about zero in one unit; what lies within ``too_small`` does not matter. ``better`` and ``worse``
    are what stands over its sides; the better side is the left one, whatever the sign."""

    title: str
    unit: str
    digits: int
    rows: tuple[Spread, ...]
    too_small: float
    better: str
    worse: str
    rises: bool = False
    """Whether more is better."""


class Differences(msgspec.Struct, frozen=True, tag="differences", tag_field="kind"):
    """Pictures of differences between two states, one under the other, and the turns in which they were measured:
    ``turns`` are state (0 or 1), temperature and room of each run in the order of time."""

    first: str
    second: str
    blocks: tuple[Spreads, ...]
    turns: tuple[tuple[int, float, float], ...] = ()
    turns_of: str = ""


class Mark(msgspec.Struct, frozen=True):
    """One exposure in a picture of depths: how deep (mV), for how long, whether it failed; how many there were alike."""

    mv: float
    seconds: float
    failed: bool
    times: int = 1


class Rail(msgspec.Struct, frozen=True):
    """One load, core or point of the curve in a picture of depths: its exposures, and where it fails once an hour."""

    title: str
    detail: str
    marks: tuple[Mark, ...]
    hourly: Value = Value()
    leads: bool = False


class Depths(msgspec.Struct, frozen=True, tag="depths", tag_field="kind"):
    """A picture of how deep was gone: rails side by side, what is recommended, and the interval of where the goal's chance
    lies. ``parts`` are rails of single cores or points."""

    rails: tuple[Rail, ...]
    recommended: float | None
    goal: Value = Value()
    parts: tuple[Rail, ...] = ()


class CurvePoint(msgspec.Struct, frozen=True):
    """One point of a curve; ``words`` tell what is special there."""

    x: float
    y: Value
    words: str = ""
    failed: bool = False


class AnswerCurve(msgspec.Struct, frozen=True):
    """One curve of a picture: what it is of, its points in the order of x, and whether they are joined."""

    title: str
    points: tuple[CurvePoint, ...]
    joined: bool = True
    leads: bool = False


class Ruled(msgspec.Struct, frozen=True):
    """A line ruled across a picture at one x or one y, with its words; ``holds`` says that firmware holds it, ``ends`` that
    Niente ends a run there."""

    words: str
    x: float | None = None
    y: float | None = None
    holds: bool = False
    ends: bool = False


class Curves(msgspec.Struct, frozen=True, tag="curves", tag_field="kind"):
    """A picture of curves over one axis; ``by_ratio`` says that x is told by ratios."""

    x: Column
    y: Column
    curves: tuple[AnswerCurve, ...]
    ruled: tuple[Ruled, ...] = ()
    by_ratio: bool = False


class RestsOn(msgspec.Struct, frozen=True):
    """One thing that an answer rests on."""

    title: str
    value: str
    unit: str = ""


class Remark(msgspec.Struct, frozen=True):
    """A heading of a few words, and what there is to say."""

    head: str
    words: str


class MakesSurer(msgspec.Struct, frozen=True):
    """What would make an answer surer, and how long it takes: runs that come next, or another way of asking."""

    words: str
    hours: float
    steps: tuple[Step, ...] = ()
    question: Question | None = None


class AnswerDocument(msgspec.Struct, frozen=True):
    """What is known of one question.

    ``lead`` says what was asked, of which machine and under which conditions; ``sentence`` is the answer, ``consequence`` what
    it means. ``done`` of ``of`` runs were made. ``short`` is the answer in a few words.
    """

    question: str
    title: str
    rig: str
    variant: str
    state: AnswerState
    lead: str
    sentence: str
    consequence: str = ""
    short: str = ""
    tag: str = ""
    done: int = 0
    of: int = 0
    figures: tuple[AnswerFigure, ...] = ()
    table: Table | None = None
    picture: Bars | Differences | Depths | Curves | None = None
    rests_on: str = ""
    basis: tuple[RestsOn, ...] = ()
    remarks: tuple[Remark, ...] = ()
    surer: MakesSurer | None = None
    cautions: tuple[str, ...] = ()
    format: str = ANSWER_FORMAT

    def figure(self, name: str) -> AnswerFigure:
        """Return a figure by its public name. Raises ``KeyError``."""
        for one in self.figures:
            if one.name == name:
                return one
        raise KeyError(name)

    def to_json(self) -> bytes:
        """Return the answer as JSON."""
        return indented_json(self)


def answer_schema() -> bytes:
    """Return the JSON schema of an answer, as it stands in docs/reference."""
    return json_schema(AnswerDocument)
