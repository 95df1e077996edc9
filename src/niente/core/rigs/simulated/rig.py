"""A simulated machine that keeps the rig contract."""

import math
import threading
import time
from collections.abc import Sequence

import numpy as np

from niente.core.model.errors import RigError
from niente.core.model.frame import Frame, RigEvent, RigEventKind
from niente.core.model.rig_card import RigCard, SetBy, Variant
from niente.core.model.setting import Setting
from niente.core.rigs.simulated import silicon
from niente.core.rigs.simulated.card import SAMPLE_PERIOD_S, describe
from niente.core.rigs.simulated.clock import PacedClock
from niente.core.rigs.simulated.faults import Fault, FaultKind
from niente.core.rigs.simulated.lookahead import Life
from niente.core.rigs.simulated.machine import Machine
from niente.core.rigs.simulated.machine_files import MachineFile
from niente.core.rigs.simulated.restart import Restart
from niente.core.rigs.simulated.truth import TrueDay, TrueSteadyState
from niente.core.science.arrays import Array, Indices, Vector

ALL_BITS = 255.0
BLOCK_S = 600
"""Seconds that are moved on in one go where nobody waits for each."""

_EVENTS = {
    silicon.WRONG_RESULT: (RigEventKind.WRONG_RESULT, "a result of {load} does not match, core {core}"),
    silicon.DROP_OUT: (RigEventKind.DROP_OUT, "{load} missed a deadline"),
    silicon.CRASH: (RigEventKind.CRASH, "the machine went down and started again"),
    silicon.SHUT_DOWN: (RigEventKind.SHUT_DOWN, "the firmware's critical temperature was reached"),
}


class SimulatedRig:
    """A machine on a bench that does not exist. Seeded: the same seed gives the same machine, noise and failures."""

    def __init__(self, file: MachineFile, *, seed: int = 1, pace: float | None = None, faults: tuple[Fault, ...] = ()) -> None:
        self._file = file
        self._seed = seed
        self._faults = faults
        self._clock = PacedClock(pace)
        self._lock = threading.RLock()
        self._crashed = False
        self.hanging = False
        """Whether a call does not return now, by a fault."""
        self._hang_over = threading.Event()
        self._lost: set[str] = set()
        self._frozen: dict[int, float] = {}
        self._build(file.machine, 0.0)

    def _build(self, machine: Machine, time_s: float) -> None:
        """Set the machine up in one of its states, cold."""
        others = tuple(Variant(build.name, build.words, build.hands, build.parts) for build in self._file.machine.variants)
        self._card = describe(machine, self._seed, (Variant(self._file.machine.variant), *others), self._file.machine.parts)
        self._loads = {load.name: load for load in machine.loads}
        self._by_hand = [control.name for control in self._card.controls if control.set_by != SetBy.SOFTWARE]
        self._idle = next(load for load in machine.loads if load.is_idle)
        self._life = Life(machine, self._seed, self._card.safe, self._idle, time_s)
        self._restart = Restart(machine.title, machine.restart_s)
        self._temperatures = [index for index, one in enumerate(self._card.channels) if "temperature_c" in one.name]

    # -- the contract ------------------------------------------------------------------------------------------

    def describe(self) -> RigCard:
        """Return the machine's card."""
        return self._card

    def check(self, setting: Setting) -> list[str]:
        """Return in words what the machine does not have or does not reach."""
        return self._card.refusals(setting)

    def apply(self, setting: Setting) -> str | None:
        """Set what ``setting`` names; everything here is set by software, so no hand work comes back."""
        self._card.insist(setting)
        with self._lock:
            self._restart.insist(self._life.time_s)
            self._life.change(setting=setting.over(self._life.setting))
        return None

    def start(self, load: str) -> None:
        """Start a load by name."""
        if load not in self._loads:
            raise RigError(
                f"{self._card.title} has no load called {load!r}.",
                remedy=f"Choose one of {', '.join(self._loads)}.",
            )
        with self._lock:
            self._restart.insist(self._life.time_s)
            self._crashed = False
            self._life.change(load=self._loads[load])

    def stop(self) -> None:
        """End the load."""
        with self._lock:
            self._life.change(load=self._idle)

    def frame(self, timeout_s: float) -> Frame | None:
        """Return the next sample; see the contract."""
        self._hang_if_told()
        if self._fault(FaultKind.SILENT) is not None:
            time.sleep(min(timeout_s, 0.05))
            return None
        if not self._clock.wait(SAMPLE_PERIOD_S, timeout_s):
            return None
        with self._lock:
            life = self._life
            if self._faults:
                self._sleep_if_told()
                self._stall_fans()
            if self._restart.is_away(life.time_s):
                if self._clock.pace is not None:
                    life.second()
                    return None
                self._restart.pass_by(life)
            row, brought = life.second()
            row = self._restart.wake(row, self._temperatures)
            if not self._faults:
                return Frame(life.time_s, row, self._happenings(brought) if brought else ())
            return Frame(life.time_s, self._spoiled(row), self._happenings(brought))

    def make_safe(self) -> None:
        """Load off, safe setting back; what only hands can set stays as they set it."""
        with self._lock:
            safe = self._card.safe
            for name in self._by_hand:
                value = self._life.setting.value(name)
                safe = safe.replaced(name, value) if value is not None else safe
            self._life.change(setting=safe, load=self._idle)

    def close(self) -> None:
        """Let go of the machine."""
        self.make_safe()

    def leave(self) -> None:
        """Let go of the machine as it is set; a simulated one ends with its bench."""
        self.stop()

    # -- its variants --------------------------------------------------------------------------------------------

    def become(self, variant: str) -> None:
        """Stand in another of its variants, as if hands had changed it: the load is off, and the machine is cold.

        Raises ``DocumentError`` for one it does not have.
        """
        machine = self._file.built(variant)
        with self._lock:
            if machine.variant != self._card.variant:
                self._build(machine, self._life.time_s)

    # -- pace --------------------------------------------------------------------------------------------------

    @property
    def pace(self) -> float | None:
        """Rig seconds a wall second; ``None`` for as fast as it goes."""
        return self._clock.pace

    def set_pace(self, pace: float | None) -> None:
        """Change the pace at once."""
        self._clock.set_pace(pace)

    # -- many seconds at once ------------------------------------------------------------------------------------

    def record(self, seconds: int) -> tuple[Vector, Array, list[tuple[float, RigEvent]]]:
        """Return what ``frame`` would have returned that many times: rig times ``(n,)``, readings ``(n, channels)`` and
        events with their times. For studies over many samples; faults are not played."""
        start, rows, events = self._life.time_s, [], []
        left = seconds
        while left > 0:
            with self._lock:
                block, brought = self._life.seconds(min(left, BLOCK_S))
                events += [(self._life.time_s, event) for event in self._happenings(brought)]
            rows.append(block)
            left -= block.shape[0]
        return start + SAMPLE_PERIOD_S * np.arange(1.0, seconds + 1.0), np.concatenate(rows), events

    @property
    def setting(self) -> Setting:
        """The setting in force."""
        return self._life.setting

    @property
    def load(self) -> str:
        """The name of the load that runs; that of rest where none does."""
        return self._life.load.name

    # -- the truth, for tests and benchmarks only ----------------------------------------------------------------

    def true_settled_core_c(self, setting: Setting, load: str, room_c: float, hours: float = 4.0) -> float:
        """Return where the hottest core's sensor would settle, free of noise, at a steady room (°C); see ``Truth``."""
        return self.true_settled(setting, load, room_c, hours).hottest_c

    def true_settled(self, setting: Setting, load: str, room_c: float, hours: float = 4.0) -> TrueSteadyState:
        """Return where everything would settle at a steady room. The rig itself is not moved."""
        return self._life.truth.settled(setting.over(self._card.stock), self._loads[load], room_c, hours)

    def true_day(self, setting: Setting, loads: Sequence[str], which: Indices, activity: Vector, room_c: float) -> TrueDay:
        """Return what the machine does through a day of loads; see ``Truth.day``. Empty names are nothing. The rig itself is
        not moved."""
        known = [self._loads[load] if load else self._idle for load in loads]
        return self._life.truth.day(setting.over(self._card.stock), known, which, activity, room_c, 3600)

    def true_alone_dba(self, setting: Setting, load: str, room_c: float, hours: float = 1.0) -> float:
        """Return the level of the machine alone at the meter's place under a load, settled, free of noise (dBA); see
        ``Truth``."""
        return self._life.truth.alone_dba(setting.over(self._card.stock), self._loads[load], room_c, hours)

    def true_level_dba(self, duty: dict[str, float]) -> float:
        """Return the level at the meter for fixed duties at idle, background included, free of noise (dBA)."""
        whole = Setting(fan_duty=duty).over(self._card.stock)
        return self._life.truth.level_dba(whole, self._idle, self._life.room, self._life.time_s)

    # -- inside ------------------------------------------------------------------------------------------------

    def _stall_fans(self) -> None:
        """Let the fans stand that are to be stuck now."""
        stuck = frozenset(f.where for f in self._faults if f.active(FaultKind.FAN_STALL, self._life.time_s))
        if stuck != self._life.stuck:
            self._life.change(stuck=stuck)

    def _sleep_if_told(self) -> None:
        """Let the time of a suspend go by, the load off meanwhile and back on afterwards."""
        asleep = self._fault(FaultKind.SUSPEND)
        if asleep is None:
            return
        self._faults = tuple(fault for fault in self._faults if fault is not asleep)
        load = self._life.load
        self._life.change(load=self._idle)
        left = round(asleep.seconds)
        while left > 0:
            left -= self._life.seconds(min(left, BLOCK_S))[0].shape[0]
        self._life.change(load=load)

    def _happenings(self, event: int) -> tuple[RigEvent, ...]:
        """Say what went wrong during the last second, and act on what ends the load."""
        found = []
        if event != silicon.NOTHING:
            core, kind = divmod(event, silicon.NAMES_CORE)
            found.append(self._event(*_EVENTS[kind], core=core))
        if self._fault(FaultKind.CRASH) is not None and not self._crashed:
            self._crashed = True
            found.append(self._event(*_EVENTS[silicon.CRASH]))
        if any(one.kind in (RigEventKind.CRASH, RigEventKind.SHUT_DOWN) for one in found):
            self._life.change(load=self._idle)
        if self._restart.seconds and any(one.kind == RigEventKind.CRASH for one in found):
            self._life.change(setting=self._card.stock)  # what was set is lost with it
            self._restart.begin(self._life.time_s)
        for fault in self._faults:
            if fault.active(FaultKind.SENSOR_LOST, self._life.time_s) and fault.where not in self._lost:
                self._lost.add(fault.where)
                found.append(RigEvent(RigEventKind.SENSOR_LOST, f"the sensor {fault.where} gives nothing"))
        return tuple(found)

    def _event(self, kind: RigEventKind, words: str, core: int = 0) -> RigEvent:
        return RigEvent(kind, words.format(load=self._life.load.title, core=core))

    def _fault(self, kind: FaultKind) -> Fault | None:
        if not self._faults:
            return None
        return next((fault for fault in self._faults if fault.active(kind, self._life.time_s)), None)

    def _spoiled(self, values: Vector) -> Vector:
        """Let sensor faults do what they do to a reading."""
        for fault in self._faults:
            index = self._card.index(fault.where)
            if index is None:
                continue
            if fault.active(FaultKind.SENSOR_LOST, self._life.time_s):
                values[index] = math.nan
            elif fault.active(FaultKind.SENSOR_FROZEN, self._life.time_s):
                values[index] = self._frozen.setdefault(index, float(values[index]))
            elif fault.active(FaultKind.SENSOR_IMPOSSIBLE, self._life.time_s):
                values[index] = ALL_BITS
        return values

    def _hang_if_told(self) -> None:
        fault = self._fault(FaultKind.HANG)
        if fault is not None:
            self._faults = tuple(f for f in self._faults if f is not fault)
            self.hanging = True
            self._hang_over.wait(min(fault.seconds, 60.0))
            self.hanging = False

    def end_hang(self) -> None:
        """Let a call that a fault keeps from returning return."""
        self._hang_over.set()
