"""The order of runs: what is promised of it stands with each school."""

import random
import zlib
from collections.abc import Sequence

import msgspec

from niente.core.model.plan import Step
from niente.core.model.question import Order, Question
from niente.core.model.rig_card import RigCard
from niente.core.planning.risk import risk_of


def arranged(steps: Sequence[Step], question: Question, card: RigCard) -> list[Step]:
    """Return runs, given from cool to hot, in the question's order and with its repeats.

    Warm and cold keep the order given, repeats side by side; a cold start is idle before each. A B B A goes there and back,
    as often as there are repeats. Random is a shuffle that is the same for the same runs. Risk last sorts by depth of the
    offsets first, and keeps the order given among equals.
    """
    match question.order:
        case Order.MIRRORED:
            return [*steps, *reversed(steps)] * question.repeats
        case Order.RANDOM:
            shuffled = list(steps) * question.repeats
            random.Random(zlib.crc32(msgspec.json.encode(shuffled))).shuffle(shuffled)
            return shuffled
        case Order.RISK_LAST:
            ordered = sorted(steps, key=lambda step: risk_of(step.setting, card.stock))
        case _:
            ordered = list(steps)
    if question.order == Order.COLD:
        ordered = [with_idle(step, question.idle_minutes, from_cold=question.from_cold) for step in ordered]
    return [step for step in ordered for _ in range(question.repeats)]


def with_idle(step: Step, minutes: float, *, from_cold: bool = False) -> Step:
    """Return a run with idle time before it; ``from_cold``, and it goes on until nothing moves any more."""
    rule = msgspec.structs.replace(step.exposure, idle_s=minutes * 60.0, from_cold=from_cold)
    return msgspec.structs.replace(step, exposure=rule)
