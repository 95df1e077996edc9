"""Whether a plan fits a rig: everything that is wrong with it, before anything is touched."""

from niente.core.model.errors import PlanError
from niente.core.model.guard_rules import CORE, problems_of
from niente.core.model.plan import Confirmation, PickRuns, Plan, Search, Step
from niente.core.model.rig_card import LoadKind, RigCard
from niente.core.model.setting import Setting

SHOWN = 4


def check_plan(plan: Plan, card: RigCard) -> None:
    """Validate a plan against a rig before anything is touched. Raises ``PlanError`` with every finding, by entry."""
    found = findings(plan, card)
    if found:
        shown = "; ".join(found[:SHOWN]) + (f"; and {len(found) - SHOWN} more" if len(found) > SHOWN else "")
        raise PlanError(
            f"The plan cannot run on {card.title}: {shown}.",
            safe="The rig was not touched.",
            remedy="Change these fields in the plan, or choose the rig it was made for.",
        )


Checked = dict[int, tuple[Setting, list[str]]]
"""What was found of settings that many runs share, by identity; each is kept so that its identity stays its own."""


def findings(plan: Plan, card: RigCard, checked: Checked | None = None) -> list[str]:
    """Return everything that keeps a plan from running on a rig, in words, by entry.

    ``checked`` may be handed on from one call to the next, for the same card.
    """
    found = []
    if plan.rig != card.name:
        found.append(f"it was made for the rig {plan.rig!r}, and this is {card.name!r}")
    if not plan.entries:
        found.append("it has no steps")
    if plan.budget_s is not None and plan.budget_s <= 0:
        found.append("its time budget is not positive")
    names: set[str] = set()
    seen = checked if checked is not None else {}
    for number, entry in enumerate(plan.entries, 1):
        match entry:
            case Step():
                wrong = _of_step(entry, card, names, seen)
            case Search():
                wrong = _of_search(entry, card)
                names.add(entry.name)
            case Confirmation():
                wrong = _of_confirmation(entry, card)
            case PickRuns():
                wrong = [*entry.exposure.problems(), *_of_heaviest(card)]
        found += [f"step {number}: {text}" for text in wrong]
    return found + _of_guards(plan, card)


def _of_confirmation(entry: Confirmation, card: RigCard) -> list[str]:
    """Return what keeps a confirmation from running."""
    wrong = _of_heaviest(card)
    if entry.exposure_s <= 0 or entry.max_runs < 1:
        wrong.append("a confirmation lasts longer than nothing, and runs at least once")
    return wrong


def _of_heaviest(card: RigCard) -> list[str]:
    """Return what keeps a pick from being run under the heaviest load."""
    if card.load_of(LoadKind.HEAVY) is not None:
        return []
    return ["it asks for a confirmation under the heaviest load, and this rig names none"]


def _of_step(step: Step, card: RigCard, names: set[str], seen: Checked) -> list[str]:
    """Return what is wrong with a single run; ``seen`` keeps what was found of settings and rules that many share."""
    found = [*_of_load(step.load, card), *_refusals(step.setting, card, seen), *step.exposure.problems()]
    if step.variant and step.variant not in {variant.name for variant in card.variants} | {card.variant}:
        known = ", ".join(variant.name for variant in card.variants) or card.variant
        found.append(f"the machine has no variant {step.variant!r}; it has {known}")
    if step.takes and step.takes not in names:
        found.append(f"it takes what {step.takes!r} finds, and no search of that name stands before it")
    if step.passes < 1:
        found.append("it asks for no exposure at all")
    return found + _of_fans(step, card)


def _of_fans(step: Step, card: RigCard) -> list[str]:
    """Return what is wrong with the speeds or the level that a run asks its fans for."""
    groups = card.fan_groups()
    found = [f"this rig has no fan group {group!r}" for group in (*step.speed_rpm, *step.level_groups) if group not in groups]
    if step.level_dba is not None and not step.level_groups:
        found.append("it asks for a level and names no fans to set to it")
    if (step.speed_rpm and not card.indices("fan_speed_rpm")) or (
        step.level_dba is not None and card.index("noise_dba") is None
    ):
        found.append("it asks for a speed or a level, and this rig reads none")
    return found


def _of_search(entry: Search, card: RigCard) -> list[str]:
    found = entry.problems() + card.refusals(entry.setting)
    for load in entry.loads:
        found += _of_load(load, card)
        known = card.load(load)
        if known is not None and not known.checks_results and known.kind not in (LoadKind.REAL_TIME, LoadKind.IDLE):
            found.append(f"the results of {load!r} are not checked, so that only a crash would show in it")
    for name in entry.controls:
        control = card.control(name)
        if control is None:
            found.append(f"this rig has no control {name!r}")
            continue
        found += [
            f"{name} = {value:g} lies outside the rig's range of {control.range_text()}"
            for value in (entry.start, entry.deepest)
            if not control.takes(value)
        ]
        if entry.fine < control.step * 0.999:
            found.append(f"its fine step of {entry.fine:g} is finer than the rig's {control.step:g}")
    return found


def _of_load(name: str, card: RigCard) -> list[str]:
    if card.load(name) is not None:
        return []
    return [f"this rig has no load {name!r}; it has {', '.join(load.name for load in card.loads)}"]


def _refusals(setting: Setting, card: RigCard, seen: Checked) -> list[str]:
    found = seen.get(id(setting))
    if found is None:
        found = seen[id(setting)] = (setting, card.refusals(setting))
    return found[1]


def _of_guards(plan: Plan, card: RigCard) -> list[str]:
    """Return what is wrong with a plan's guards: a hot machine needs one, below the maker's limit, on a channel it has."""
    found = []
    if all(guard.quantity != CORE for guard in plan.guards):
        found.append("it has no guard on the hottest core (quantity 'core_temperature_c')")
    for guard in plan.guards:
        found += [
            f"the guard on {guard.quantity}, {field}: {why}"
            for field, why in problems_of(guard, card, card.limits.core_temperature_c)
        ]
    return found
