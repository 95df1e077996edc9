"""A plant living second by second. It is looked ahead in blocks, and taken back to now where something changes.

Moving a second on costs far less than calling for it, and most of the time nothing changes from one second to the next. A
block that is cut short is lived again up to now with the same draws, so that nobody can tell.
"""

from functools import lru_cache

import msgspec
import numpy as np

from niente.core.model.setting import Setting
from niente.core.rigs.simulated import plant
from niente.core.rigs.simulated.card import SAMPLE_PERIOD_S, air_probes
from niente.core.rigs.simulated.demand import NORMAL, UNIFORM, RoomClimate, demand_of, patterns, plant_constants
from niente.core.rigs.simulated.machine import Machine, MachineLoad
from niente.core.rigs.simulated.silicon import NOTHING
from niente.core.rigs.simulated.truth import Truth
from niente.core.science.arrays import Array, Vector

IDLE_S = 3 * 3600
"""How long a machine has stood idle before anyone looks at it."""
LOOK_S, FIRST_LOOK_S = 64, 4
"""Seconds in a block; after a change the first one is short, as another change is likely."""
POOL_S = 256


class RandomDraws:
    """Random draws of one machine, by the second: standard normal ``(n, channels + 1)`` and uniform ``(n, 3)``.

    The channels ``apart`` draw from a source of their own, so that a probe more changes no other reading.
    """

    def __init__(self, seed: int, channels: int, apart: tuple[int, ...] = ()) -> None:
        self._noise = np.random.default_rng([seed, 2])
        self._chance = np.random.default_rng([seed, 3])
        self._probes = np.random.default_rng([seed, 4])
        self._normal = np.empty((0, channels + NORMAL))
        self._apart = list(apart)
        self._others = [index for index in range(channels + NORMAL) if index not in apart]
        self._uniform = np.empty((0, UNIFORM))
        self._at = 0

    def take(self, seconds: int) -> tuple[Array, Array]:
        """Return the draws of the next seconds."""
        short = self._at + seconds - self._normal.shape[0]
        if short > 0:
            more = max(short, POOL_S)
            fresh = np.empty((more, self._normal.shape[1]))
            fresh[:, self._others] = self._noise.standard_normal((more, len(self._others)))
            fresh[:, self._apart] = self._probes.standard_normal((more, len(self._apart)))
            self._normal = np.concatenate([self._normal[self._at :], fresh])
            self._uniform = np.concatenate([self._uniform[self._at :], self._chance.random((more, UNIFORM))])
            self._at = 0
        span = slice(self._at, self._at + seconds)
        self._at += seconds
        return self._normal[span], self._uniform[span]

    def put_back(self, seconds: int) -> None:
        """Give back the draws of the last seconds taken."""
        self._at -= seconds


@lru_cache(maxsize=16)
def _idle_for_hours(
    machine: bytes, setting: bytes, load: bytes, seed: int, room_c: float
) -> tuple[plant.Constants, plant.PlantState]:
    """Return the constants of a sample, and its state after hours at a setting under a load, all three documents as JSON. A
    machine is often set up again, and comes to the same state; neither may be changed."""
    described = msgspec.json.decode(machine, type=Machine)
    under = msgspec.json.decode(load, type=MachineLoad)
    constants = plant_constants(described, seed)
    truth = Truth(described, constants)
    state = truth.idle(room_c)
    demand = demand_of(described, constants, msgspec.json.decode(setting, type=Setting), under)
    truth.run(demand, under, state, float(state.nodes[-1]), IDLE_S)
    return constants, state


class Life:
    """One sample of a machine in one of its states, from rest on. Not thread safe."""

    def __init__(self, machine: Machine, seed: int, setting: Setting, load: MachineLoad, time_s: float = 0.0) -> None:
        self.machine = machine
        self.room = RoomClimate(machine.room, seed)
        self.setting, self.load, self.stuck = setting, load, frozenset[str]()
        self._begun_s, self._since_s = time_s, 0.0
        room_c = float(self.room.celsius(np.array([time_s]))[0])
        encoded = tuple(msgspec.json.encode(part) for part in (machine, setting, load))
        self.constants, idle_state = _idle_for_hours(*encoded, seed, room_c)
        self.truth = Truth(machine, self.constants)
        self._draws = RandomDraws(seed, self.constants.pick.shape[0], air_probes(machine))
        self._demand = self._asked()
        self._state = idle_state.copy()
        self._before = self._state.copy()
        self._rows = np.empty((0, self.constants.pick.shape[0]))
        self._at, self._event, self._look_s = 0, NOTHING, FIRST_LOOK_S

    @property
    def time_s(self) -> float:
        """Rig time now."""
        return self._begun_s + SAMPLE_PERIOD_S * self._at

    def change(
        self, *, setting: Setting | None = None, load: MachineLoad | None = None, stuck: frozenset[str] | None = None
    ) -> None:
        """Go on under another setting or load, or with other fans stuck."""
        self._come_to_now()
        self.setting = setting or self.setting
        self.stuck = self.stuck if stuck is None else stuck
        if load is not None and load is not self.load:
            self.load, self._since_s = load, 0.0
        size = self._demand.size
        self._demand = self._asked()
        if self._demand.size != size:
            self._since_s = 0.0  # another size is another start

    def second(self) -> tuple[Vector, int]:
        """Live a second; return its readings ``(channels,)`` and what it brought."""
        if self._at == self._rows.shape[0]:
            self._look(self._look_s)
            self._look_s = min(2 * self._look_s, LOOK_S)
        row = self._rows[self._at]
        self._at += 1
        return row, self._event if self._at == self._rows.shape[0] else NOTHING

    def seconds(self, most: int) -> tuple[Array, int]:
        """Live up to that many seconds, fewer where one brings something; return their readings and what the last brought."""
        if self._at == self._rows.shape[0]:
            self._look(most)
        rows = self._rows[self._at : self._at + most]
        self._at += rows.shape[0]
        return rows, self._event if self._at == self._rows.shape[0] else NOTHING

    def _asked(self) -> plant.Demand:
        return demand_of(self.machine, self.constants, self.setting, self.load, self.stuck)

    def _look(self, seconds: int) -> None:
        """Live a block of seconds ahead."""
        self._begun_s, self._since_s = self.time_s, self._since_s + SAMPLE_PERIOD_S * self._at
        self._before.take(self._state)
        self._rows, self._event, self._at = *self._lived(seconds), 0

    def _come_to_now(self) -> None:
        """Take what was looked ahead back to the second that was last given out."""
        ahead, at = self._rows.shape[0] - self._at, self._at
        if ahead:
            self._draws.put_back(self._rows.shape[0])
            self._state.take(self._before)
            self._rows, self._event = self._lived(at) if at else (self._rows[:0], NOTHING)
        self._begun_s, self._since_s = self.time_s, self._since_s + SAMPLE_PERIOD_S * at
        self._rows, self._event, self._at, self._look_s = self._rows[:0], NOTHING, 0, FIRST_LOOK_S

    def _lived(self, seconds: int) -> tuple[Array, int]:
        normal, chance = self._draws.take(seconds)
        steps = SAMPLE_PERIOD_S * np.arange(seconds, dtype=np.float64)
        times = self._begun_s + SAMPLE_PERIOD_S + steps
        rows = np.empty((seconds, self.constants.pick.shape[0]))
        done, event = plant.advance(
            self.constants,
            self._demand,
            self._state,
            self.room.celsius(times),
            self.room.background_dba(times),
            patterns(self.load, self._since_s + steps, normal[:, -1], sized=self._demand.size > 0.0),
            normal,
            chance,
            rows,
            self.truth.scratch(seconds),
        )
        self._draws.put_back(seconds - done)
        return rows[:done], event
