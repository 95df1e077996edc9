"""What is true of a setting of a simulated machine in the design room, and of a pick; and what picks are wanted."""

import math
from pathlib import Path
from typing import NamedTuple

import msgspec

from benchmarks.study import DESIGN_ROOM_C, HOURS
from niente.core.model.limits import Limits
from niente.core.model.rig_card import LoadKind
from niente.core.model.setting import Setting
from niente.core.rigs.simulated.rig import SimulatedRig
from niente.core.selection.pick import Standing

FOLDER = Path("build") / "picks"
DAY_S, ALLOWED = 86400.0, 0.01
WISHES = {
    "begin": Limits(),
    "show": Limits(min_throughput_percent=95.0),
    "night": Limits(min_throughput_percent=80.0),
    "cool": Limits(min_headroom_k=12.0),
    "august": Limits(design_room_c=32.0),
}
"""The limits that picks are wanted for: as they begin, and moved to either side."""


class Sample(NamedTuple):
    """One sample of a machine, and what is wanted of it."""

    name: str
    seed: int
    wish: str = "begin"

    @property
    def limits(self) -> Limits:
        """The limits that its pick is to keep."""
        return WISHES[self.wish]

    def file(self, what: str, ending: str) -> Path:
        """Return where something about it is kept."""
        wish = "" if self.wish == "begin" else f"-{self.wish}"
        return FOLDER / f"{self.name}-{self.seed}{wish}-{what}.{ending}"


class TruePick(msgspec.Struct, frozen=True):
    """One pick and what is true of it in the design room: the chance of a failure in a day under the worst load, throughput in
    per cent of stock, headroom, level in the room; how it stood, and what its plan took."""

    chance: float
    throughput_percent: float
    headroom_k: float
    in_room_dba: float
    standing: Standing
    bench_h: float
    confirmed_h: float | None
    crashes: int
    failures: int

    def holds(self, limits: Limits) -> bool:
        """Return whether it truly keeps all limits."""
        return (
            self.chance <= ALLOWED
            and self.throughput_percent >= limits.min_throughput_percent
            and self.headroom_k >= limits.min_headroom_k
        )


class Truth:
    """What is true of settings of one machine in the design room."""

    def __init__(self, rig: SimulatedRig, room_c: float = DESIGN_ROOM_C) -> None:
        self.rig, self.card, self.room_c = rig, rig.describe(), room_c
        kinds = (LoadKind.HEAVY, LoadKind.REALISTIC)
        loads = [load.name for kind in kinds if (load := self.card.load_of(kind)) is not None]
        self.loads, self.heavy, self.counted = loads, loads[0], loads[-1]
        self._stock = self._work(self.card.stock)

    def _work(self, setting: Setting) -> float:
        return self.rig.true_settled(setting, self.counted, self.room_c, HOURS).readings["throughput_per_s"]

    def of(self, setting: Setting) -> tuple[float, float, float, float]:
        """Return chance of a failure in a day, throughput in per cent of stock, headroom and level in the room."""
        there = [self.rig.true_settled(setting, load, self.room_c, HOURS) for load in self.loads]
        rate = max(one.failures_per_s for one in there)
        headroom = self.card.temperature_ceiling_c(setting) - there[0].hottest_c
        work = 100.0 * there[-1].readings["throughput_per_s"] / self._stock
        return -math.expm1(-rate * DAY_S), work, headroom, there[0].readings["noise_dba"]

    def alone_dba(self, setting: Setting) -> float:
        """Return the level of the machine alone at a setting under the heaviest load."""
        return self.rig.true_alone_dba(setting, self.heavy, self.room_c, HOURS)
