"""A plan: what is to be measured, in which order, and what ends it early. Plans are data and travel as JSON."""

from enum import StrEnum

import msgspec

from niente.core.errors import DocumentError, PlanError
from niente.core.rigcard import LoadKind, RigCard
from niente.core.setting import Setting

PLAN_FORMAT = "niente-plan/1"


class Exposure(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """When a run ends, in seconds of the rig's clock.

    With ``known_to_k`` the run ends once the settled temperature is known to ± that many kelvin (95 %), but not
    before ``least_s``; ``most_s`` ends it in any case. Without it the run lasts ``least_s``.
    """

    least_s: float
    most_s: float
    known_to_k: float | None = None

    def problems(self) -> list[str]:
        """Return what is impossible about this rule, in words."""
        found = []
        if not 0 < self.least_s <= self.most_s:
            found.append(f"least_s = {self.least_s:g} and most_s = {self.most_s:g}: wanted 0 < least_s <= most_s")
        if self.known_to_k is not None and self.known_to_k < 0.5:
            found.append(f"known_to_k = {self.known_to_k:g}: a settled temperature is never known better than ±0.5 K")
        return found


class GuardAction(StrEnum):
    """What a guard does when it trips."""

    SKIP = "skip"
    """End this run; go on with the next."""
    STOP = "stop"
    """End the load, put the safe setting back, end the plan."""


class Guard(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A level at which Niente itself ends a run.

    ``quantity`` names what is watched (the largest of its channels counts); it trips when the reading has stood at or
    above ``trip`` for ``hold_s`` seconds, and is quiet again below ``clear``. ``reason`` says in words what it is for.
    """

    quantity: str
    trip: float
    clear: float
    hold_s: float
    action: GuardAction
    reason: str


class Step(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One run to make: a setting under a load, how long, at which stage, and why it is there."""

    setting: Setting
    load: str
    exposure: Exposure
    stage: str = ""
    reason: str = ""


class Confirmation(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Runs that are added once the listed steps are done: the pick under the heaviest load for ``exposure_s``
    seconds; if it does not hold, the next pick, up to ``most_runs`` times.
    """

    exposure_s: float = 1200.0
    most_runs: int = 3


class Plan(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A list of steps for one rig, the guards over them, and what may follow from their result."""

    format: str
    rig: str
    question: str
    steps: tuple[Step, ...]
    guards: tuple[Guard, ...]
    confirm: Confirmation | None = None

    def to_json(self) -> bytes:
        """Return the plan as indented JSON, UTF-8."""
        return msgspec.json.format(msgspec.json.encode(self), indent=1) + b"\n"


def read_plan(text: bytes | str, source: str = "the plan") -> Plan:
    """Return the plan in a JSON text. Raises ``DocumentError`` that names the place of the first thing wrong."""
    try:
        plan = msgspec.json.decode(text, type=Plan)
    except (msgspec.DecodeError, UnicodeDecodeError) as error:
        raise DocumentError(
            f"{source} is not a plan that Niente can read: {_in_words(str(error))}.",
            safe="The file is untouched and nothing was run.",
            remedy="Mend that place, or make a new plan with 'niente-cli plan'.",
        ) from None
    if plan.format != PLAN_FORMAT:
        raise DocumentError(
            f"{source} has the format {plan.format!r}; this Niente reads {PLAN_FORMAT!r}.",
            safe="The file is untouched and nothing was run.",
            remedy="Use the Niente that wrote it, or make a new plan with 'niente-cli plan'.",
        )
    return plan


def _in_words(message: str) -> str:
    """Turn msgspec's "... - at `$.steps[0].load`" into "at steps[0].load: ..."."""
    what, found, where = message.partition(" - at ")
    if not found:
        return what
    place = where.strip("`").removeprefix("$").removeprefix(".")
    return f"at {place or 'the top'}: {what}"


def check_plan(plan: Plan, card: RigCard) -> None:
    """Hold a plan against a rig before anything is touched. Raises ``PlanError`` with every finding, by step."""
    findings = []
    if plan.rig != card.name:
        findings.append(f"it was made for the rig {plan.rig!r}, and this is {card.name!r}")
    if not plan.steps:
        findings.append("it has no steps")
    loads = ", ".join(load.name for load in card.loads)
    for number, step in enumerate(plan.steps, 1):
        if card.load(step.load) is None:
            findings.append(f"step {number}: this rig has no load {step.load!r}; it has {loads}")
        findings += [f"step {number}: {text}" for text in card.refusals(step.setting) + step.exposure.problems()]
    findings += _guard_findings(plan, card)
    if plan.confirm is not None and card.load_of(LoadKind.HEAVY) is None:
        findings.append("it asks for a confirmation under the heaviest load, and this rig names none")
    if findings:
        shown = "; ".join(findings[:4]) + (f"; and {len(findings) - 4} more" if len(findings) > 4 else "")
        raise PlanError(
            f"The plan cannot run on {card.title}: {shown}.",
            safe="The rig was not touched.",
            remedy="Change these places in the plan, or choose the rig it was made for.",
        )


def _guard_findings(plan: Plan, card: RigCard) -> list[str]:
    """Return what is wrong with a plan's guards: a hot machine needs one, below the maker's limit, on a channel it has."""
    findings = []
    core_guards = [guard for guard in plan.guards if guard.quantity == "core_temperature_c"]
    if not core_guards:
        findings.append("it has no guard on the hottest core (quantity 'core_temperature_c')")
    for guard in plan.guards:
        if not card.indices(guard.quantity):
            findings.append(f"a guard watches {guard.quantity!r}, which this rig does not read")
        if not guard.clear < guard.trip:
            findings.append(f"the guard on {guard.quantity} clears at {guard.clear:g}, not below its trip at {guard.trip:g}")
    for guard in core_guards:
        if guard.trip > card.limits.core_temperature_c:
            findings.append(
                f"the guard on the hottest core trips at {guard.trip:g} °C, "
                f"above the maker's limit of {card.limits.core_temperature_c:g} °C"
            )
    return findings
