"""Fan sweep: how loud each group is, alone and together; and under a load, what it is worth."""

import msgspec

from niente.core.model.names import part_of
from niente.core.model.plan import Entry, Step
from niente.core.model.question import Axis, Question, TemplateName
from niente.core.model.rig_card import LoadKind, RigCard
from niente.core.model.setting import Setting
from niente.core.planning.axis_values import snapped
from niente.core.planning.builders import (
    BACKGROUND,
    NOISE,
    NOISE_DUTIES,
    base_of,
    each_load,
    fans_off,
    fixed_fans,
    swept_groups,
    until_known,
)
from niente.core.planning.order import arranged

DUTY = "fan_duty"


def first_fans(card: RigCard) -> Question:
    """Return every swept group from 20 % on, each point 1.38 times the last; no load, so that it takes minutes."""
    axes = tuple(Axis(f"{DUTY}.{group}", span=NOISE_DUTIES) for group in swept_groups(card))
    return Question(TemplateName.FAN_SWEEP, axes, fixed_fans(card), (), (), until_known(card))


def fan_entries(card: RigCard, question: Question) -> list[Entry]:
    """Return the room, each group alone, and all together; then, under the loads of the question, all together again."""
    idle = card.load_of(LoadKind.IDLE)
    duties = {axis.control: sorted(snapped(axis, card)) for axis in question.axes if card.control(axis.control) is not None}
    together = _together(base_of(card, question), duties)
    entries: list[Entry] = _heard(card, question, idle.name, duties, together) if idle is not None else []
    for load, purpose in each_load(question):
        steps = [
            Step(at, load, question.exposure, "heat", f"What these fans are worth; {purpose}") for at in reversed(together)
        ]
        entries += arranged(steps, question, card)
    return entries


def _together(base: Setting, duties: dict[str, list[float]]) -> list[Setting]:
    """Return settings with every group at its own point of its axis, rising together."""
    most = max(map(len, duties.values()), default=0)
    found = []
    for index in range(most):
        setting = base
        for control, values in duties.items():
            setting = setting.replaced(control, values[round(index * (len(values) - 1) / max(most - 1, 1))])
        found.append(setting)
    return found


def _heard(
    card: RigCard, question: Question, idle: str, duties: dict[str, list[float]], together: list[Setting]
) -> list[Entry]:
    """Return the noise readings without load: the room, each group alone at its duties, and all together."""
    off = fans_off(card, base_of(card, question))
    entries: list[Entry] = [Step(off, idle, BACKGROUND, "noise", "The room's background")]
    for control, values in duties.items():
        reason = f"The {part_of(control)} fans alone"
        alone = [Step(off.replaced(control, duty), idle, NOISE, "noise", reason) for duty in values]
        entries += arranged(alone, msgspec.structs.replace(question, idle_minutes=0.0), card)
    if len(duties) > 1:
        entries += [Step(setting, idle, NOISE, "noise", "All together") for setting in together]
    return entries
