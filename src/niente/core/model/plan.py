"""A plan: what is to be measured, in which order, and what ends it early. Plans are data and travel as JSON."""

import datetime
from enum import StrEnum
from typing import Annotated, Any

import msgspec

from niente.core.model.errors import DocumentError
from niente.core.model.failure_goal import A_DAY, FailureGoal
from niente.core.model.json_files import JsonError, converted, decoded_json, indented_json, json_schema
from niente.core.model.names import kind_of
from niente.core.model.setting import Setting

PLAN_FORMAT = "niente-plan/2"
FIRST_FORMAT = "niente-plan/1"
"""The format before plans could search; it is still read."""


Seconds = Annotated[float, msgspec.Meta(ge=0, le=1e8)]
Times = Annotated[int, msgspec.Meta(ge=1, le=1000)]
Hour = Annotated[float, msgspec.Meta(ge=0, le=24)]


class Exposure(
    msgspec.Struct,
    frozen=True,
    forbid_unknown_fields=True,
    omit_defaults=True,
    rename={"min_s": "least_s", "max_s": "most_s", "idle_s": "rest_s"},
):
    """When a run ends, in seconds of the rig's clock.

    With ``known_to_k`` the run ends once the settled temperature is known to ± that many kelvin (95 %), but not
    before ``min_s``; ``max_s`` ends it in any case. Without it the run lasts ``min_s``. ``idle_s`` are seconds of
    rest at the run's setting before its load starts.
    """

    min_s: Seconds
    max_s: Seconds
    known_to_k: float | None = None
    idle_s: Seconds = 0.0
    from_cold: bool = False

    @property
    def idles_first(self) -> bool:
        """Whether the machine is idle before the load starts."""
        return self.idle_s > 0 or self.from_cold

    def problems(self) -> list[str]:
        """Return what is impossible about this rule, in words."""
        found = []
        if not 0 < self.min_s <= self.max_s:
            found.append(f"least_s = {self.min_s:g} and most_s = {self.max_s:g}: wanted 0 < least_s <= most_s")
        if self.known_to_k is not None and self.known_to_k < 0.5:
            found.append(f"known_to_k = {self.known_to_k:g}: a settled temperature is never known better than ±0.5 K")
        if self.idle_s < 0:
            found.append(f"rest_s = {self.idle_s:g}: a time is not negative")
        return found


class GuardAction(StrEnum):
    """What a guard does when it trips."""

    WARN = "warn"
    """Say so; the run goes on."""
    PAUSE = "hold"
    """End this run with the load off, and wait for a person."""
    SKIP = "skip"
    """End this run; go on with the next once it is quiet again."""
    STOP = "stop"
    """End the load, put the safe setting back, end the plan."""


class Guard(msgspec.Struct, frozen=True, forbid_unknown_fields=True, rename={"dwell_s": "hold_s"}):
    """A level at which Niente itself ends a run.

    ``quantity`` names what is watched (of several channels, the largest); it trips when the reading has stood at or
    above ``trip`` for ``dwell_s`` seconds, and is quiet again below ``clear``. One whose ``clear`` lies above its ``trip``
    watches for readings that fall: it trips at or below. ``reason`` says in words what it is for.
    """

    quantity: str
    trip: float
    clear: float
    dwell_s: float
    action: GuardAction
    reason: str

    @property
    def falling(self) -> bool:
        """Whether it trips on readings that fall."""
        return self.clear > self.trip


class Until(StrEnum):
    """What leaves the rest of a ladder out: the later steps of the same stage, under the same load and fans."""

    HEAT = "heat"
    """An earlier one was limited by heat: more power comes to no more throughput."""
    STANDS = "stands"
    """The fan group that is watched stands still: it has stalled."""
    TURNS = "turns"
    """The fan group that is watched turns: it has started."""


class Step(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True, tag="step", tag_field="kind"):
    """One run to make: a setting under a load, how long, at which stage, and why it is there.

    ``variant`` is the state the machine has to be in (empty: whichever it is in). ``takes`` names a search whose result
    is put over the setting. ``speed_rpm`` are fan groups to be set at a speed, ``level_dba`` a level to which the groups
    in ``level_groups`` are set together; their duties follow from what was measured by then. ``passes`` are the clean
    exposures it takes: it is run as often, each a run of its own, and no more once one has failed. ``watches`` is the fan group
    whose speed says whether the rest of its ladder is left out. ``skip`` leaves it out.
    """

    setting: Setting
    load: str
    exposure: Exposure
    stage: str = ""
    reason: str = ""
    variant: str = ""
    takes: str = ""
    speed_rpm: dict[str, float] = msgspec.field(default_factory=dict)
    level_dba: float | None = None
    level_groups: tuple[str, ...] = ()
    until: Until | None = None
    watches: str = ""
    passes: Times = 1
    skip: bool = False


ONE_DEPTH = frozenset({"voltage_offset_mv", "fixed_voltage_v"})
"""Controls whose value is one depth of all cores."""


class SearchMethod(StrEnum):
    """How a search looks for the last value that passes."""

    STRUCTURED = "exposures"
    """By exposures at the depths that tell most, to where a failure in the horizon is as unlikely as wanted; of several cores
    all at once."""
    LADDER = "ladder"
    """In coarse steps down to the first failure, then back up in fine ones."""
    BISECTION = "bisection"
    """Halves what lies between the deepest pass and the first failure."""
    WEAKEST_FIRST = "weakest first"
    """Several controls at once; those that fail are told apart by halves and settled first, the rest goes deeper."""
    IN_TURN = "in turn"
    """Several controls, a ladder each; those before keep what was found."""
    FROM_ABOVE = "from above"
    """In coarse steps back from the deepest to the first pass, then down in fine ones from the failure over it: where a failure
    is brief and harmless, and a pass takes its time."""


class Search(
    msgspec.Struct,
    frozen=True,
    forbid_unknown_fields=True,
    omit_defaults=True,
    tag="search",
    tag_field="kind",
    rename={"max_runs": "most_runs", "method": "how"},
):
    """Runs that depend on each other: how deep a control goes before the machine fails.

    From ``start``, which is gentle, towards ``deepest``, over ``setting``; a value passes when every load in ``loads`` ran
    ``passes`` times through ``exposure`` without a failure. What is found, ``margin`` back from the last pass, is taken by
    the steps that name the search. Values are in the unit of the controls.

    A structured search asks for exposures of its own, for ``budget_s`` seconds at most, until it knows which value keeps the
    ``goal`` at the core temperature ``hottest_c``; exposure, passes, coarse step and margin are not for it.
    """

    name: str
    controls: tuple[str, ...]
    start: float
    deepest: float
    coarse: float
    fine: float
    margin: float
    setting: Setting
    loads: tuple[str, ...]
    exposure: Exposure
    method: SearchMethod = SearchMethod.LADDER
    passes: Times = 1
    max_runs: Times = 60
    stage: str = ""
    skip: bool = False
    goal: FailureGoal = A_DAY
    budget_s: Seconds = 5400.0
    hottest_c: float | None = None

    def problems(self) -> list[str]:
        """Return what is impossible about this search, in words."""
        found = self.exposure.problems()
        if not self.controls:
            found.append("it searches no control")
        if not self.loads:
            found.append("it has no load that could fail")
        if self.start == self.deepest:
            found.append(f"it starts where it ends, at {self.start:g}")
        if not 0 < self.fine <= self.coarse:
            found.append(f"its steps are {self.coarse:g} and {self.fine:g}: wanted 0 < fine <= coarse")
        if self.margin < 0:
            found.append(f"its margin is {self.margin:g}: a margin is not negative")
        if self.passes < 1:
            found.append("it asks for no pass at all")
        if self.method == SearchMethod.STRUCTURED:
            found += self._unfit_for_exposures()
        return found

    def _unfit_for_exposures(self) -> list[str]:
        """Return what keeps a search by exposures from telling whose failure it saw, in words."""
        kinds = {kind_of(control) for control in self.controls}
        if kinds <= {"core_offset_mv"} or (len(self.controls) == 1 and kinds <= ONE_DEPTH):
            return []
        return ["it looks by exposures, and its controls are neither one depth of all cores nor offsets of single ones"]


NEAR_PICK, CONFIRMING = "near pick", "confirmation"
"""The stages of runs that follow from a pick."""


class Confirmation(
    msgspec.Struct,
    frozen=True,
    forbid_unknown_fields=True,
    omit_defaults=True,
    tag="confirmation",
    tag_field="kind",
    rename={"max_runs": "most_runs"},
):
    """The pick under the heaviest load for ``exposure_s`` seconds; if it does not hold, the next pick, up to
    ``max_runs`` times.
    """

    exposure_s: Seconds = 1200.0
    max_runs: Times = 3
    skip: bool = False


class PickRuns(
    msgspec.Struct,
    frozen=True,
    forbid_unknown_fields=True,
    omit_defaults=True,
    tag="pick runs",
    tag_field="kind",
    rename={"max_runs": "most_runs"},
):
    """Runs that follow from what is known of the pick: the next is the one that takes most doubt from it a minute.

    Each ends by ``exposure`` at the latest, and as soon as what it says of the pick is known. They go on until the pick would
    not change by ``matters_db``, and with ``confirm_s`` until it ran the heaviest load for so many seconds; ``max_runs`` times
    at most.
    """

    exposure: Exposure
    matters_db: Annotated[float, msgspec.Meta(gt=0, le=20)] = 0.2
    confirm_s: Seconds = 0.0
    max_runs: Times = 8
    skip: bool = False


Entry = Step | Search | Confirmation | PickRuns


class QuietHours(msgspec.Struct, frozen=True, forbid_unknown_fields=True, rename={"max_dba": "most_dba"}):
    """Hours of the day, from and to, over midnight where ``to_h`` is the earlier, in which nothing louder than
    ``max_dba`` in the room is run."""

    from_h: Hour
    to_h: Hour
    max_dba: float

    def covers(self, hour: float) -> bool:
        """Return whether an hour of the day (0 to 24) is quiet."""
        hour %= 24.0
        if self.from_h <= self.to_h:
            return self.from_h <= hour < self.to_h
        return hour >= self.from_h or hour < self.to_h

    def hours_left(self, hour: float) -> float:
        """Return the hours until it is over; 0 where it is not quiet now."""
        return (self.to_h - hour) % 24.0 if self.covers(hour) else 0.0


class Plan(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What to run on one rig in which order, the guards over it, and what it may take.

    ``question`` names the template it was made from. ``budget_s`` are the rig's seconds after which nothing new is begun.
    ``since`` (UTC, ISO 8601) is the moment from which runs count as answers; empty, and whatever the book holds counts.
    """

    format: str
    rig: str
    question: str
    entries: tuple[Entry, ...]
    guards: tuple[Guard, ...]
    budget_s: Seconds | None = None
    quiet: QuietHours | None = None
    since: str = ""

    @property
    def steps(self) -> tuple[Step, ...]:
        """The single runs that are listed; searches and confirmations are none."""
        return tuple(entry for entry in self.entries if isinstance(entry, Step))

    @property
    def since_s(self) -> float:
        """``since`` in seconds of the epoch; 0 where everything counts."""
        return datetime.datetime.fromisoformat(self.since).timestamp() if self.since else 0.0

    def to_json(self) -> bytes:
        """Return the plan as indented JSON, UTF-8."""
        return indented_json(self)


def read_plan(text: bytes | str, source: str = "the plan") -> Plan:
    """Return the plan in a JSON text. Raises ``DocumentError`` that names the path of the first field that is wrong."""
    named: Any = None
    try:
        document = decoded_json(text)
        named = document.get("format") if isinstance(document, dict) else None
        if isinstance(named, str) and named not in (PLAN_FORMAT, FIRST_FORMAT):
            raise DocumentError(
                f"{source} has the format {named!r}; this Niente reads {PLAN_FORMAT!r}.",
                safe="The file is untouched and nothing was run.",
                remedy="Use the Niente that wrote it, or make a new plan with 'niente-cli plan'.",
            )
        plan = plan_of(document)
        _ = plan.since_s
    except ValueError as error:
        words = f"at {error}" if isinstance(error, JsonError) else str(error)
        words = words.replace("entries", "steps") if named == FIRST_FORMAT else words
        raise DocumentError(
            f"{source} is not a plan that Niente can read: {words}.",
            safe="The file is untouched and nothing was run.",
            remedy="Correct that field, or make a new plan with 'niente-cli plan'.",
        ) from None
    return plan


def of_first_format(document: dict[str, Any]) -> dict[str, Any]:
    """Return a plan of the first format as one of today's: its steps are entries, its confirmation the last of them."""
    known = {"format", "rig", "question", "guards"}
    steps = document.get("steps", [])
    entries = (
        [{"kind": "step", **step} if isinstance(step, dict) else step for step in steps] if isinstance(steps, list) else steps
    )
    confirm = document.get("confirm")
    if isinstance(confirm, dict) and isinstance(entries, list):
        entries = [*entries, {"kind": "confirmation", **confirm}]
    rest = {key: value for key, value in document.items() if key not in known and key not in ("steps", "confirm")}
    return rest | {key: document[key] for key in known & document.keys()} | {"format": PLAN_FORMAT, "entries": entries}


def plan_of(document: Any) -> Plan:
    """Return the plan in a decoded JSON document, of whichever format it was. Raises ``JsonError``."""
    if isinstance(document, dict) and document.get("format") == FIRST_FORMAT and "entries" not in document:
        document = of_first_format(document)
    plan = converted(document, Plan)
    if plan.format != PLAN_FORMAT:
        raise JsonError("entries", f"{plan.format!r} has none")
    insist_on_moment(plan.since)
    return plan


def insist_on_moment(since: str) -> None:
    """Raise ``JsonError`` for a ``since`` that is no moment."""
    try:
        if since:
            datetime.datetime.fromisoformat(since).timestamp()
    except (ValueError, OverflowError):
        raise JsonError("since", f"{since!r} is no moment as ISO 8601 writes it") from None


def plan_schema() -> bytes:
    """Return the JSON Schema of plans, indented, UTF-8; it stands in docs/reference."""
    return json_schema(Plan)
