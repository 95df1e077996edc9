"""Fan sweep: how loud each group is, alone and together; and under a load, what it is worth."""

import msgspec

from niente.core.model.names import part_of
from niente.core.model.plan import Entry, Exposure, Step, Until
from niente.core.model.question import Axis, Question, TemplateName
from niente.core.model.rig_card import LoadKind, RigCard, SetBy
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
STALL, START = "stall", "start"
TURNED = Exposure(min_s=10.0, max_s=10.0)
"""A fan has come to its speed, or to rest, within half of this."""
SPINS_PERCENT, BY_NOW_PERCENT, FINE_PERCENT = 24.0, 32.0, 2.0
"""Where a fan that turns goes on in any case, and where one that stands has started; common practice, no source: case fans
start at 2.5 to 3 V of 12, which is 21 to 25 %."""


def first_fans(card: RigCard) -> Question:
    """Return every swept group from 20 % on, each point 1.38 times the last; no load, so that it takes minutes."""
    axes = tuple(Axis(f"{DUTY}.{group}", span=NOISE_DUTIES) for group in swept_groups(card))
    return Question(TemplateName.FAN_SWEEP, axes, fixed_fans(card), (), (), until_known(card), stall=True)


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
    if question.stall:
        for control in duties:
            entries += _start_and_stall(card, off, control, idle)
    return entries


def _start_and_stall(card: RigCard, off: Setting, control: str, idle: str) -> list[Step]:
    """Return a group's duties down until it stands, and from there up until it turns; nothing where its speed is not read,
    where hands would have to set each, or where it does not go down to a stand."""
    own, group = card.control(control), part_of(control)
    read = card.index(f"fan_speed_rpm.{group}") is not None
    if own is None or not read or own.set_by != SetBy.SOFTWARE or own.low > 0.0:
        return []
    step = max(own.step, FINE_PERCENT)
    down = [SPINS_PERCENT - step * at for at in range(int(SPINS_PERCENT / step))]
    up = [step * at for at in range(2, int(BY_NOW_PERCENT / step) + 1)]

    def ladder(duties: list[float], until: Until, stage: str, reason: str) -> list[Step]:
        return [
            Step(off.replaced(control, duty), idle, TURNED, stage, reason, until=until, watches=group)
            for duty in duties
            if own.takes(duty)
        ]

    return [
        *ladder(down, Until.STANDS, STALL, f"Down until the {group} fans stand"),
        *ladder(up, Until.TURNS, START, f"Up until the {group} fans turn"),
    ]
