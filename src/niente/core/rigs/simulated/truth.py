"""What is true of a simulated machine: where it settles, how loud it is, how often it fails. Free of noise.

Nothing in Niente may ask for it but tests and benchmarks. A sensor's own offset and gain are kept, as nobody at a bench
could tell them from the truth.
"""

from collections.abc import Sequence
from itertools import pairwise

import msgspec
import numpy as np

from niente.core.model.setting import Setting
from niente.core.rigs.simulated import plant
from niente.core.rigs.simulated.card import channels_of
from niente.core.rigs.simulated.demand import UNIFORM, RoomClimate, demand_of, patterns
from niente.core.rigs.simulated.machine import Machine, MachineLoad
from niente.core.rigs.simulated.network import currents_of, node_indices
from niente.core.science.arrays import Array, Indices, Vector

BLOCK_S = 600
FANS_SETTLED_S = 60
NOWHERE_DBA = -100.0
"""A background that nothing is heard over."""
LAST_S = 120
"""What settled is the mean over the last so many seconds: a clock limited by heat swings a little."""


class TrueSteadyState(msgspec.Struct, frozen=True):
    """Where a machine settles: its readings by channel (sensors' offsets and gains kept), the nodes of its heat network
    (°C), the flow of each stream or way (m3/s), and its rate of failures in 1/s."""

    readings: dict[str, float]
    nodes_c: dict[str, float]
    flows_m3_per_s: dict[str, float]
    failures_per_s: float

    @property
    def hottest_c(self) -> float:
        """The highest of the cores' sensors."""
        return max(value for name, value in self.readings.items() if name.startswith("core_temperature_c"))

    @property
    def mean_c(self) -> float:
        """The mean of the cores' sensors."""
        cores = [value for name, value in self.readings.items() if name.startswith("core_temperature_c")]
        return sum(cores) / len(cores)


class TrueDay(msgspec.Struct, frozen=True):
    """A day of a machine, second by second, all ``(n,)``: the highest of the cores' sensors in °C, package power in W, and the
    level at the meter in dBA, free of noise."""

    core_c: Vector
    power_w: Vector
    level_dba: Vector


class Truth:
    """The truth about one sample of a machine in one of its variants."""

    def __init__(self, machine: Machine, constants: plant.Constants) -> None:
        self._machine = machine
        self._constants = constants
        self._channels = [channel.name for channel in channels_of(machine)]
        self._nodes = node_indices(machine)
        self._scratch = np.empty((1, self._width()))

    def _width(self) -> int:
        return len(self._nodes) + plant.OUTPUTS + len(self._machine.groups())

    def idle(self, room_c: float) -> plant.PlantState:
        """Return the machine cold, in a room."""
        return plant.idle_state(self._constants, room_c, len(self._machine.groups()))

    def scratch(self, seconds: int) -> Array:
        """Return room for what is true of so many seconds, ``(seconds, ...)``."""
        if self._scratch.shape[0] < seconds:
            self._scratch = np.empty((seconds, self._width()))
        return self._scratch[:seconds]

    def settled(self, setting: Setting, load: MachineLoad, room_c: float, hours: float) -> TrueSteadyState:
        """Return where a whole setting settles under a load, at a steady room, after so many hours from rest."""
        c = self._constants
        demand = demand_of(self._machine, c, setting, load)
        state = self.idle(room_c)
        true = self.run(demand, load, state, room_c, round(hours * 3600.0))
        rate, _, _ = plant.look_at_silicon(c, demand, state, 1.0)
        readings = true[:, c.pick].mean(axis=0) * c.sensors.gain + c.sensors.offset
        return TrueSteadyState(
            readings=dict(zip(self._channels, readings.tolist(), strict=True)),
            nodes_c={name: float(true[:, index].mean()) for name, index in self._nodes.items()},
            flows_m3_per_s=dict(zip(currents_of(self._machine.heat), state.flows.tolist(), strict=True)),
            failures_per_s=float(rate) if not load.is_idle else 0.0,
        )

    def day(
        self, setting: Setting, loads: Sequence[MachineLoad], which: Indices, activity: Vector, room_c: float, settles_s: int
    ) -> TrueDay:
        """Return what a machine does in a room through seconds ``(n,)`` of loads, by their indices ``which``, at shares
        ``activity`` of their own activity (0: nothing), after it has settled for a while at the first of them."""
        c, machine = self._constants, self._machine
        state = self.idle(room_c)
        demands = [demand_of(machine, c, setting, load) for load in loads]
        self.run(demands[which[0]], loads[which[0]], state, room_c, settles_s)
        seconds = activity.shape[0]
        changes = np.flatnonzero(np.diff(which)) + 1
        found = np.empty((seconds, self._width()))
        for first, last in pairwise([0, *changes.tolist(), seconds]):
            done = first
            while done < last:
                n = min(BLOCK_S, last - done)
                normal, chance = np.zeros((n, c.pick.shape[0])), np.ones((n, UNIFORM))
                moved, _ = plant.advance(
                    c, demands[which[first]], state, np.full(n, room_c), np.full(n, machine.room.night_dba),
                    activity[done : done + n], normal, chance, np.empty((n, c.pick.shape[0])), found[done : done + n],
                )  # fmt: skip
                done += moved
        readings = found[:, c.pick] * c.sensors.gain + c.sensors.offset
        cores = [index for index, name in enumerate(self._channels) if name.startswith("core_temperature_c")]
        power, level = (self._channels.index(name) for name in ("package_power_w", "noise_dba"))
        return TrueDay(readings[:, cores].max(axis=1), readings[:, power], readings[:, level])

    def alone_dba(self, setting: Setting, load: MachineLoad, room_c: float, hours: float) -> float:
        """Return the level at the meter's place without room and meter, settled (dBA); the meter's own offset is kept."""
        true = self.run(
            demand_of(self._machine, self._constants, setting, load),
            load,
            self.idle(room_c),
            room_c,
            round(hours * 3600.0),
            NOWHERE_DBA,
        )
        index, sensors = self._channels.index("noise_dba"), self._constants.sensors
        energy = 10.0 ** (0.1 * true[-1, self._constants.pick[index]]) - 10.0 ** (0.1 * sensors.floor_dba)
        return float(10.0 * np.log10(max(energy, 1e-9)) * sensors.gain[index] + sensors.offset[index])

    def level_dba(self, setting: Setting, load: MachineLoad, room: RoomClimate, time_s: float) -> float:
        """Return the level at the meter, background included, once the fans have settled (dBA)."""
        state = self.idle(room.model.mean_c)
        demand = demand_of(self._machine, self._constants, setting, load)
        background = float(room.background_dba(np.array([time_s]))[0])
        true = self.run(demand, load, state, room.model.mean_c, FANS_SETTLED_S, background)
        index = self._channels.index("noise_dba")
        sensors = self._constants.sensors
        return float(true[-1, self._constants.pick[index]] * sensors.gain[index] + sensors.offset[index])

    def run(
        self,
        demand: plant.Demand,
        load: MachineLoad,
        state: plant.PlantState,
        room_c: float,
        seconds: int,
        background_dba: float | None = None,
    ) -> Array:
        """Move a state on, without noise and without failures; return what was true in the last seconds of it."""
        channels = self._constants.pick.shape[0]
        block = min(BLOCK_S, seconds)
        normal, chance = np.zeros((block, channels)), np.ones((block, UNIFORM))
        rows, true = np.empty((block, channels)), np.empty((block, self._width()))
        room, background = (
            np.full(block, room_c),
            np.full(block, self._machine.room.night_dba if background_dba is None else background_dba),
        )
        done = 0
        while done < seconds:
            n = min(block, seconds - done)
            factor = patterns(load, done + np.arange(n, dtype=float), np.zeros(n), sized=demand.size > 0.0)
            moved, _ = plant.advance(
                self._constants, demand, state, room[:n], background[:n], factor, normal[:n], chance[:n], rows[:n], true[:n]
            )
            done += moved
        return true[max(moved - LAST_S, 0) : moved]
