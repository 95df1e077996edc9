"""Which part of the heat path two states of a machine differ in: the air that the cooler takes in, or what lies between it and
the core. The sensor in that air tells them apart; where there is none, they are one."""

import math

import msgspec

from niente.core.analysis.evidence import RunSummary
from niente.core.analysis.settled_readings import AIR
from niente.core.answers.material import minus, pooled, rise_of
from niente.core.answers.trial import Trial
from niente.core.answers.wording import signed
from niente.core.model.answer_document import Remark, Value
from niente.core.model.rig_card import RigCard

MOST = 0.75
"""A part that has this share of the difference and more is where it lies."""


class PathParts(msgspec.Struct, frozen=True):
    """By how many kelvin the second state of a machine differs from the first: between room and the air that is taken in, and
    between that air and the core."""

    air_k: Value
    core_k: Value

    @property
    def told_apart(self) -> bool:
        """Whether either part is surely not nothing."""
        return any(one.low is not None and one.high is not None and (one.low > 0.0 or one.high < 0.0) for one in self._both)

    @property
    def words(self) -> str:
        """Where the difference lies, in words."""
        air, core = signed(self.air_k, 1, "K"), signed(self.core_k, 1, "K")
        figures = f"{air} up to there, {core} from there to the core"
        if not self.told_apart:
            return f"Whether it is the air that the cooler takes in cannot be told yet: {figures}."
        sizes = [abs(one.value or 0.0) for one in self._both]
        share = sizes[0] / math.fsum(sizes)
        if share >= MOST:
            return f"The air that the cooler takes in: {figures}."
        if share <= 1.0 - MOST:
            return f"Not the air that the cooler takes in, but the way from there to the core: {figures}."
        return f"The air that the cooler takes in, and the way from there to the core: {figures}."

    @property
    def _both(self) -> tuple[Value, Value]:
        return self.air_k, self.core_k


def path_parts_of(trial: Trial) -> PathParts | None:
    """Return the parts of a comparison by degrees; ``None`` where no sensor reads the air in both states."""
    channel = taken_in_channel(trial.of.card)
    if trial.by_clock or not channel or not all(channel in run.channels for side in trial.sides for run in side):
        return None
    air = pooled([minus(_air_rise(trial, b, channel), _air_rise(trial, a, channel)) for a, b in trial.pairs])
    return PathParts(air, minus(trial.value, air))


def part_remark(trial: Trial) -> Remark | None:
    """Return what is said of the part of the path that changed; nothing where the comparison is by clock or has no pair yet."""
    if trial.by_clock or trial.value.value is None:
        return None
    parts = path_parts_of(trial)
    if parts is None:
        words = "The rig names no sensor in the air that the cooler takes in: the parts of the path cannot be told apart."
        return Remark("Which part changed?", words)
    return Remark("Which part changed?", parts.words)


def taken_in_channel(card: RigCard) -> str:
    """Return the channel that reads the air that the cooler takes in; empty where no sensor does. Where a rig does not say
    how its air stands, its sensor in the case air is taken for that."""
    if card.air is None:
        return AIR
    place = card.air.place(card.air.taken_in)
    return place.channel if place is not None else ""


def _air_rise(trial: Trial, run: RunSummary, channel: str) -> Value:
    """Return by how much the air that is taken in settles over the room in a run."""
    return rise_of(run, trial.of.settle(run, channel))
