"""The kinds of question, in the order in which they are offered, and how one becomes a plan."""

import datetime
from collections.abc import Callable

import msgspec

from niente.core.model.guard_rules import default_guards, with_room_watched
from niente.core.model.limits import Limits
from niente.core.model.plan import PLAN_FORMAT, Entry, Guard, Plan, Search, Step
from niente.core.model.project import Project
from niente.core.model.question import Approach, Question, TemplateName
from niente.core.model.rig_card import LoadKind, RigCard
from niente.core.planning.list_edits import edited
from niente.core.planning.questions.comparisons import first_variants, first_ways, variant_entries, way_entries
from niente.core.planning.questions.fans import fan_entries, first_fans
from niente.core.planning.questions.ladders import (
    CAP,
    POWER,
    cap_entries,
    capacity_entries,
    first_capacity,
    first_caps,
    first_free,
    free_entries,
)
from niente.core.planning.questions.quiet_point import first_quiet, quiet_entries
from niente.core.planning.questions.real_time import first_real_time, lacks_size, real_time_entries
from niente.core.planning.questions.single_setting import (
    baseline_entries,
    burst_entries,
    first_baseline,
    first_burst,
    first_soak,
    soak_entries,
)
from niente.core.planning.questions.undervolting import (
    CLOCK_CAP,
    OFFSET,
    clock_entries,
    first_clock,
    first_undervolt,
    has_fixed,
    undervolt_entries,
)


class Template(msgspec.Struct, frozen=True):
    """One kind of question: its public name, its title, what it asks, how it starts, and the runs that answer it.

    ``lacks`` says what a rig lacks for it; empty where nothing. ``fresh`` ones are measured anew whenever they are asked.
    """

    name: TemplateName
    title: str
    asks: str
    words: str
    first: Callable[[RigCard], Question]
    entries: Callable[[RigCard, Question], list[Entry]]
    lacks: Callable[[RigCard], str]
    fresh: bool = False


def _nothing(card: RigCard) -> str:
    return ""


def _power(card: RigCard) -> str:
    return "" if card.control(POWER) is not None else "this rig has no power limit to set"


def _fans(card: RigCard) -> str:
    return "" if card.fan_groups() and card.indices("noise_dba") else "this rig has no fans to set, or no sound meter"


TEMPLATES = (
    Template(
        TemplateName.QUIET_POINT,
        "Quiet point",
        "Which setting is quiet, fast enough and sound?",
        "the least noise that keeps speed and headroom",
        first_quiet,
        quiet_entries,
        _nothing,
    ),
    Template(
        TemplateName.BASELINE,
        "Baseline",
        "How does the machine run as it was found?",
        "idle after rest, then stock under each load",
        first_baseline,
        baseline_entries,
        _nothing,
    ),
    Template(
        TemplateName.CAPACITY_LADDER,
        "Capacity ladder",
        "How many watts does the cooler carry before heat limits the clock?",
        "power up in steps to the first throttling",
        first_capacity,
        capacity_entries,
        _power,
    ),
    Template(
        TemplateName.FAN_SWEEP,
        "Fan sweep",
        "How loud is each group of fans, alone and together?",
        "duty per group; seconds a point, and no heat",
        first_fans,
        fan_entries,
        _fans,
    ),
    Template(
        TemplateName.CAP_SWEEP,
        "Cap sweep",
        "What does a lower temperature cap cost?",
        "caps from 85 to 60 °C, the firmware chooses the clock",
        first_caps,
        cap_entries,
        lambda card: "" if card.control(CAP) is not None else "this rig has no temperature cap to set",
    ),
    Template(
        TemplateName.UNDERVOLT_LADDER,
        "Undervolt ladder",
        "How far can the voltage go down?",
        "how deep the offset goes and still lasts",
        first_undervolt,
        undervolt_entries,
        lambda card: "" if card.control(OFFSET) is not None else "this rig has no voltage offset to set",
    ),
    Template(
        TemplateName.CLOCK_VOLTAGE,
        "Clock and voltage",
        "What is the least voltage for a clock?",
        "a fixed clock, the voltage down",
        first_clock,
        clock_entries,
        lambda card: (
            ""
            if has_fixed(card) or (card.control(CLOCK_CAP) is not None and card.control(OFFSET) is not None)
            else "this rig takes no clock and no voltage"
        ),
    ),
    Template(
        TemplateName.HOLD_BACK,
        "Ways to limit power",
        "Offset, power limit, temperature cap or fixed clock: which costs least?",
        "four ways side by side, on one front",
        first_ways,
        way_entries,
        _power,
    ),
    Template(
        TemplateName.VARIANTS,
        "A/B of variants",
        "Did the part that was changed help?",
        "two states of the machine, A B B A",
        first_variants,
        variant_entries,
        lambda card: "" if len(card.variants) > 1 else "this rig is known in one state only; change a part first",
        fresh=True,
    ),
    Template(
        TemplateName.SOAK,
        "Soak",
        "Does it hold for hours?",
        "an hour of each load, twice",
        first_soak,
        soak_entries,
        _nothing,
        fresh=True,
    ),
    Template(
        TemplateName.BURST,
        "Burst",
        "How fast is it for a few seconds, from rest?",
        "15 s and the burst window, each from rest",
        first_burst,
        burst_entries,
        lambda card: (
            _power(card)
            or ("" if card.load_of(LoadKind.BURST) or card.load_of(LoadKind.HEAVY) else "this rig has no load to burst with")
        ),
    ),
    Template(
        TemplateName.REAL_TIME,
        "Real-time load",
        "How many voices or streams fit before one drops out?",
        "the largest size that runs for ten minutes",
        first_real_time,
        real_time_entries,
        lacks_size,
    ),
    Template(
        TemplateName.FREE,
        "Free",
        "Anything else, over axes of your own.",
        "any axes under any loads",
        first_free,
        free_entries,
        _nothing,
    ),
)


def template(name: str) -> Template | None:
    """Return a template by its public name, or ``None``."""
    return next((one for one in TEMPLATES if one.name == name), None)


def entries_of(card: RigCard, question: Question) -> tuple[Entry, ...]:
    """Return the runs that answer a question on a rig, before any change by hand. Raises ``KeyError`` for a template that
    is none."""
    kind = template(question.template)
    if kind is None:
        raise KeyError(question.template)
    return _passing(tuple(kind.entries(card, question)), card, question)


def _passing(entries: tuple[Entry, ...], card: RigCard, question: Question) -> tuple[Entry, ...]:
    """Let every working run come through as many clean exposures as are asked for; searches count their own."""
    if question.passes == 1 or any(isinstance(entry, Search) for entry in entries):
        return entries
    idle = card.load_of(LoadKind.IDLE)

    def passing(entry: Entry) -> Entry:
        works = isinstance(entry, Step) and (idle is None or entry.load != idle.name)
        return msgspec.structs.replace(entry, passes=question.passes) if works else entry

    return tuple(passing(entry) for entry in entries)


def plan_for(
    card: RigCard, question: Question, guards: tuple[Guard, ...] | None = None, entries: tuple[Entry, ...] | None = None
) -> Plan:
    """Return the plan for a question, under these guards or the default ones. The same question gives the same plan.

    ``entries`` are the plan's, edits done, where they were worked out before.
    """
    made = entries if entries is not None else edited(entries_of(card, question), question.edits)
    watched = default_guards(card) if guards is None else guards
    if any(isinstance(entry, Step) and entry.variant for entry in made):
        watched = with_room_watched(card, watched)
    return Plan(
        format=PLAN_FORMAT,
        rig=card.name,
        question=question.template,
        entries=made,
        guards=watched,
        budget_s=question.budget_h * 3600.0 if question.budget_h is not None else None,
        quiet=question.quiet,
        since=question.since,
    )


def first_question(card: RigCard, name: str = TemplateName.QUIET_POINT) -> Question:
    """Return a question as it is first asked of a rig. Raises ``KeyError`` for a template that is none."""
    kind = template(name)
    if kind is None:
        raise KeyError(name)
    return kind.first(card)


def anew(question: Question, not_before_s: float = 0.0) -> Question:
    """Return a question whose answers are only the runs from now on. ``not_before_s`` (seconds of the epoch) is when its book
    was last written: by a clock that was ahead, that may be later than now."""
    moment = max(datetime.datetime.now(datetime.UTC).timestamp(), not_before_s)
    return msgspec.structs.replace(question, since=datetime.datetime.fromtimestamp(moment, datetime.UTC).isoformat())


def default_project(card: RigCard) -> Project:
    """Return the project a new book starts with."""
    return Project(rig=card.name, question=first_question(card), limits=Limits())


def grid_project(card: RigCard) -> Project:
    """Return the project a new book starts with whose quiet point runs every point of its axes: for whole maps."""
    project = default_project(card)
    return msgspec.structs.replace(project, question=msgspec.structs.replace(project.question, approach=Approach.GRID))


def project_asking(card: RigCard, project: Project | None, name: str) -> Project:
    """Return a project that asks a kind of question: as it stands where it does so already, or names no kind that is known."""
    now = msgspec.structs.replace(project or default_project(card), question_chosen=True)
    if template(name) is None or now.question.template == name:
        return now
    return msgspec.structs.replace(now, question=first_question(card, name))
