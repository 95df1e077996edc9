"""What is true of a setting of a simulated machine in the design room, and of a pick."""

import math

import msgspec

from benchmarks.study import DESIGN_ROOM_C, HOURS
from niente.core.model.limits import Limits
from niente.core.model.rig_card import LoadKind
from niente.core.model.setting import Setting
from niente.core.rigs.simulated.rig import SimulatedRig
from niente.core.selection.pick import Standing

DAY_S, ALLOWED = 86400.0, 0.01


class TruePick(msgspec.Struct, frozen=True):
    """One pick and what is true of it in the design room: the chance of a failure in a day under the worst load, throughput in
    per cent of stock, headroom, level in the room; how it stood, and what its plan took."""

    chance: float
    throughput_percent: float
    headroom_k: float
    in_room_dba: float
    standing: Standing
    bench_h: float
    confirmed_h: float
    crashes: int
    failures: int

    @property
    def holds(self) -> bool:
        """Whether it truly keeps all limits."""
        limits = Limits()
        return (
            self.chance <= ALLOWED
            and self.throughput_percent >= limits.min_throughput_percent
            and self.headroom_k >= limits.min_headroom_k
        )


class Truth:
    """What is true of settings of one machine in the design room."""

    def __init__(self, rig: SimulatedRig) -> None:
        self.rig, self.card = rig, rig.describe()
        kinds = (LoadKind.HEAVY, LoadKind.REALISTIC)
        loads = [load.name for kind in kinds if (load := self.card.load_of(kind)) is not None]
        self.loads, self.heavy, self.counted = loads, loads[0], loads[-1]
        self._stock = self._work(self.card.stock)

    def _work(self, setting: Setting) -> float:
        return self.rig.true_settled(setting, self.counted, DESIGN_ROOM_C, HOURS).readings["throughput_per_s"]

    def of(self, setting: Setting) -> tuple[float, float, float, float]:
        """Return chance of a failure in a day, throughput in per cent of stock, headroom and level in the room."""
        there = [self.rig.true_settled(setting, load, DESIGN_ROOM_C, HOURS) for load in self.loads]
        rate = max(one.failures_per_s for one in there)
        headroom = self.card.temperature_ceiling_c(setting) - there[0].hottest_c
        work = 100.0 * there[-1].readings["throughput_per_s"] / self._stock
        return -math.expm1(-rate * DAY_S), work, headroom, there[0].readings["noise_dba"]

    def alone_dba(self, setting: Setting) -> float:
        """Return the level of the machine alone at a setting under the heaviest load."""
        return self.rig.true_alone_dba(setting, self.heavy, DESIGN_ROOM_C, HOURS)
