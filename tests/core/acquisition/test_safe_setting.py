"""Whether the safe setting took effect is told by the samples that follow, and by nothing that they cannot tell."""

import math

import msgspec
import numpy as np
import pytest

from niente.core.acquisition.safe_setting import SafeSetting
from niente.core.model.frame import Frame
from niente.core.model.records import MadeSafe, Record
from niente.core.model.rig_card import LoadCard, LoadKind, RigCard
from niente.core.rigs.checked_rig import CheckedRig
from tests.contract.outside import CARD, Doorbell

LOADS = (*CARD.loads, LoadCard("trickle", "Trickle", LoadKind.LIGHT))
WITH_LIGHT = msgspec.structs.replace(CARD, loads=LOADS)


class Told:
    """A safe setting on a doorbell, what it told, and how often the driver was called."""

    def __init__(self, card: RigCard, load: str, work: float, power: float) -> None:
        self.records: list[Record] = []
        self.calls = 0
        rig = Doorbell()
        rig.make_safe = self._count  # type: ignore[method-assign]
        self.card = card
        self.safe = SafeSetting(CheckedRig(rig), self.records.append)
        self.time_s = 0.0
        for _ in range(20):
            self.safe.saw(self.frame(work, power), card, load)
        self.safe.restore()

    def _count(self) -> None:
        self.calls += 1

    def frame(self, work: float, power: float) -> Frame:
        self.time_s += 1.0
        values = np.full(len(self.card.channels), 20.0)
        values[[channel.name for channel in self.card.channels].index("throughput_per_s")] = work
        values[[channel.name for channel in self.card.channels].index("package_power_w")] = power
        return Frame(self.time_s, values)

    def look(self, work: float, power: float, samples: int = 60) -> list[bool]:
        for _ in range(samples):
            self.safe.look(self.frame(work, power), self.card)
        self.safe.close()
        return [one.safe for one in self.records if isinstance(one, MadeSafe)]


@pytest.mark.parametrize(
    ("load", "under", "after", "told", "calls"),
    [
        ("ring", (10.0, 15.0), (0.0, 2.0), [], 1),
        ("ring", (10.0, 15.0), (10.0, 15.0), [False], 3),
        ("ring", (math.nan, 15.0), (math.nan, 2.0), [], 1),
        ("ring", (math.nan, 15.0), (math.nan, 15.0), [False], 3),
        ("ring", (10.0, math.nan), (math.nan, math.nan), [], 1),  # the reading that would tell is gone
        ("trickle", (math.nan, 3.0), (math.nan, 3.0), [], 1),  # a light load draws little more than none
        ("trickle", (2.0, 3.0), (2.0, 3.0), [False], 3),
        ("idle", (0.0, 2.0), (0.0, 2.0), [], 1),
    ],
)
def test_it_is_told_where_samples_tell_it(
    load: str, under: tuple[float, float], after: tuple[float, float], told: list[bool], calls: int
) -> None:
    seen = Told(WITH_LIGHT, load, *under)
    assert seen.look(*after) == told
    assert seen.calls == calls


def test_that_the_load_has_ended_after_all_is_told_too() -> None:
    seen = Told(WITH_LIGHT, "ring", 10.0, 15.0)
    assert seen.look(10.0, 15.0) == [False]
    assert "Go to the machine now" in seen.safe.problem
    assert seen.look(0.0, 2.0, samples=1) == [False, True]
    assert not seen.safe.problem


def test_a_rig_that_is_let_go_of_under_its_load_is_told_at_once() -> None:
    seen = Told(WITH_LIGHT, "ring", 10.0, 15.0)
    assert seen.look(10.0, 15.0, samples=2) == [False]
