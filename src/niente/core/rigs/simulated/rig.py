"""A simulated machine that keeps the rig contract."""

import math
import threading
import time

import numpy as np

from niente.core.errors import RigError
from niente.core.frame import Frame, RigEvent, RigEventKind, Vector
from niente.core.rigcard import Channel, LoadCard, RigCard
from niente.core.rigs.simulated import plant
from niente.core.rigs.simulated.acoustics import fan_level_db, sum_db
from niente.core.rigs.simulated.clock import PacedClock
from niente.core.rigs.simulated.faults import Fault, FaultKind
from niente.core.rigs.simulated.machine import Machine, MachineLoad
from niente.core.rigs.simulated.sensors import Sensors
from niente.core.rigs.simulated.silicon import Cores
from niente.core.setting import Setting

SAMPLE_PERIOD_S = 1.0


def describe(machine: Machine, seed: int) -> RigCard:
    """Return the rig card of one sample of a simulated machine; its seed is its serial number."""
    step = machine.sensors.temperature_step_k
    cores = [Channel(f"core_temperature_c.{i}", f"Core {i}", step) for i in range(1, machine.cores + 1)]
    fans = [Channel(f"fan_speed_rpm.{group}", f"Fan speed, {group}", 1.0) for group in machine.fans]
    channels = [
        *cores,
        Channel("board_temperature_c", "Board supply", step),
        Channel("case_air_temperature_c", "Case air", 0.1),
        Channel("room_temperature_c", "Room", 0.1),
        Channel("package_power_w", "Package power", 0.1),
        Channel("wall_power_w", "Wall power", 0.1),
        Channel("effective_clock_mhz", "Effective clock", 1.0),
        Channel("core_voltage_v", "Core voltage", 0.001),
        Channel("throughput_per_s", "Throughput"),
        *fans,
        Channel("noise_dba", "Noise at 1 m", 0.1),
    ]
    return RigCard(
        name=machine.name,
        title=machine.title,
        summary=machine.summary,
        simulated=True,
        serial=str(seed),
        variant=machine.variant,
        channels=tuple(channels),
        controls=machine.controls,
        loads=tuple(LoadCard(load.name, load.title, load.kind, load.checks_results) for load in machine.loads),
        limits=machine.limits,
        stock=machine.stock,
        safe=machine.safe,
        sample_period_s=SAMPLE_PERIOD_S,
        parts=machine.parts,
    )


class SimulatedRig:
    """A machine on a bench that does not exist. Seeded: the same seed gives the same machine, noise and failures."""

    def __init__(self, machine: Machine, *, seed: int = 1, pace: float | None = None, faults: tuple[Fault, ...] = ()) -> None:
        self._machine = machine
        self._card = describe(machine, seed)
        self._faults = faults
        self._clock = PacedClock(pace)
        self._lock = threading.RLock()
        sample = np.random.default_rng([seed, 1])
        self._noise = np.random.default_rng([seed, 2])
        self._chance = np.random.default_rng([seed, 3])
        self._constants = plant.constants(machine, sample)
        self._cores = Cores(machine.silicon, machine.cores, sample)
        self._sensors = Sensors(machine, self._card, sample)
        self._room_phase = sample.random(2) * 2 * math.pi
        self._loads = {load.name: load for load in machine.loads}
        self._idle = next(load for load in machine.loads if load.activity < 0.05)
        self._load: MachineLoad = self._idle
        self._setting = machine.safe
        self._time_s = 0.0
        self._crashed = False
        self._lost: set[str] = set()
        self._frozen: dict[int, float] = {}
        self._nodes = np.full(machine.cores + plant.NODES_BEHIND, self._room_c(0.0) + 2.0)
        self._control = np.array([machine.electrical.idle_mhz, machine.electrical.idle_mhz, 0.0])
        self._out = np.zeros(5)
        self._rpm = {group: self._target_rpm(group, 0.0) for group in machine.fans}
        self._settle_idle()

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
            self._setting = setting.over(self._setting)
        return None

    def start(self, load: str) -> None:
        """Start a load by name."""
        if load not in self._loads:
            raise RigError(
                f"{self._card.title} has no load called {load!r}.",
                remedy=f"Choose one of {', '.join(self._loads)}.",
            )
        with self._lock:
            self._crashed = False
            self._load = self._loads[load]

    def stop(self) -> None:
        """End the load."""
        with self._lock:
            self._load = self._idle

    def frame(self, timeout_s: float) -> Frame | None:
        """Return the next sample; see the contract."""
        self._hang_if_told()
        if self._fault(FaultKind.SILENT) is not None:
            time.sleep(min(timeout_s, 0.05))
            return None
        if not self._clock.wait(SAMPLE_PERIOD_S, timeout_s):
            return None
        with self._lock:
            self._time_s += SAMPLE_PERIOD_S
            self._move_fans()
            plant.advance(self._constants, self._demand(), self._nodes, self._control, self._out, SAMPLE_PERIOD_S)
            events = self._happenings()
            return Frame(self._time_s, self._read(), events)

    def make_safe(self) -> None:
        """Load off, safe setting back."""
        with self._lock:
            self._load = self._idle
            self._setting = self._machine.safe

    def close(self) -> None:
        """Let go of the machine."""
        self.make_safe()

    # -- pace --------------------------------------------------------------------------------------------------

    @property
    def pace(self) -> float | None:
        """Rig seconds a wall second; ``None`` for as fast as it goes."""
        return self._clock.pace

    def set_pace(self, pace: float | None) -> None:
        """Change the pace at once."""
        self._clock.set_pace(pace)

    # -- the truth, for tests and benchmarks only ----------------------------------------------------------------

    def true_settled_core_c(self, setting: Setting, load: str, room_c: float, hours: float = 4.0) -> float:
        """Return where the hottest core's sensor would settle, free of noise, at a steady room (°C).

        The sensor's own offset is kept. Runs a copy of the plant; the rig itself is not moved. Not part of the rig
        contract: nothing in Niente but tests and benchmarks may ask for the truth.
        """
        nodes, control, out = self._nodes.copy(), self._control.copy(), self._out.copy()
        whole = setting.over(self._machine.stock)
        rpm = {group: self._target_rpm(group, 0.0, whole) for group in self._machine.fans}
        demand = self._demand(whole, self._loads[load], room_c, rpm)
        plant.advance(self._constants, demand, nodes, control, out, hours * 3600.0)
        return float(np.max(nodes[: self._machine.cores] + self._sensors.core_offset_k))

    def true_level_dba(self, duty: dict[str, float]) -> float:
        """Return the level at the meter for fixed duties, background included, free of noise (dBA)."""
        whole = Setting(fan_duty=duty).over(self._machine.stock)
        levels = [fan_level_db(fan, self._target_rpm(group, 0.0, whole)) for group, fan in self._machine.fans.items()]
        return sum_db([self._machine.room.background_dba, *levels])

    # -- inside ------------------------------------------------------------------------------------------------

    def _room_c(self, time_s: float) -> float:
        room = self._machine.room
        cycle = room.cycle_k * math.sin(2 * math.pi * time_s / room.cycle_s + self._room_phase[0])
        return room.mean_c + cycle + room.drift_k * math.sin(2 * math.pi * time_s / room.drift_s + self._room_phase[1])

    def _target_rpm(self, group: str, now_rpm: float, setting: Setting | None = None) -> float:
        """Return the speed a group goes for: none below its start, or below its stall once it turns."""
        fan = self._machine.fans[group]
        duty = (setting or self._setting).fan_duty.get(group, 0.0)
        least = fan.stall_duty if now_rpm > 0.1 * fan.full_rpm else fan.start_duty
        return fan.full_rpm * duty / 100.0 if duty >= least else 0.0

    def _move_fans(self) -> None:
        fault = self._fault(FaultKind.FAN_STALL)
        for group, fan in self._machine.fans.items():
            target = 0.0 if fault is not None and fault.where == group else self._target_rpm(group, self._rpm[group])
            self._rpm[group] += (target - self._rpm[group]) * -math.expm1(-SAMPLE_PERIOD_S / fan.inertia_s)

    def _demand(
        self,
        setting: Setting | None = None,
        load: MachineLoad | None = None,
        room_c: float | None = None,
        rpm: dict[str, float] | None = None,
    ) -> plant.Demand:
        """Return what is asked of the plant: as things stand, or as told (for the truth)."""
        at = setting or self._setting
        work = load or self._load
        unrest = 0.0 if load is not None else work.unrest * float(self._noise.standard_normal())
        speeds = rpm or self._rpm
        fans = self._machine.fans
        return plant.Demand(
            activity=work.activity * (1.0 + unrest),
            offset_v=(at.voltage_offset_mv or 0.0) / 1000.0,
            sustained_w=float(at.sustained_power_w or 1e4),
            clock_cap_mhz=float(at.clock_cap_mhz or self._machine.electrical.curve_mhz[-1]),
            cap_c=float(at.temperature_cap_c or self._machine.limits.core_temperature_c),
            room_c=self._room_c(self._time_s) if room_c is None else room_c,
            case_flow=speeds["case"] / fans["case"].full_rpm,
            cooler_flow=speeds["cooler"] / fans["cooler"].full_rpm,
        )

    def _settle_idle(self) -> None:
        """Let the machine stand idle for three hours before anyone looks."""
        plant.advance(self._constants, self._demand(), self._nodes, self._control, self._out, 3 * 3600.0)

    def _clock_ratio(self) -> float:
        return float(self._out[plant.OUT_CLOCK]) / self._machine.electrical.curve_mhz[-2]

    def _happenings(self) -> tuple[RigEvent, ...]:
        """Draw what went wrong during the last second, and act on a shut-down."""
        found = []
        if self._load.activity > 0.05:
            cores_c = self._nodes[: self._machine.cores]
            offset = self._setting.voltage_offset_mv or 0.0
            hazard = self._cores.hazard_per_s(offset, self._load.activity, self._clock_ratio(), cores_c)
            if self._load.checks_results and self._chance.random() < -math.expm1(-hazard * SAMPLE_PERIOD_S):
                found.append(RigEvent(RigEventKind.WRONG_RESULT, f"a result of {self._load.title} does not match"))
        if self._fault(FaultKind.CRASH) is not None and not self._crashed:
            self._crashed = True
            self._load = self._idle
            found.append(RigEvent(RigEventKind.CRASH, "the machine went down and started again"))
        if self._out[plant.OUT_HOTTEST] > self._card.limits.shut_down_c:
            self._load = self._idle
            found.append(RigEvent(RigEventKind.SHUT_DOWN, "the firmware's critical temperature was reached"))
        for fault in self._faults:
            if fault.active(FaultKind.SENSOR_LOST, self._time_s) and fault.where not in self._lost:
                self._lost.add(fault.where)
                found.append(RigEvent(RigEventKind.SENSOR_LOST, f"the sensor {fault.where} gives nothing"))
        return tuple(found)

    def _read(self) -> Vector:
        """Read every channel through its sensor, in the card's order."""
        n = self._machine.cores
        nodes, out = self._nodes[n:].tolist(), self._out.tolist()
        power, board_w, clock = out[plant.OUT_POWER], out[plant.OUT_BOARD_W], out[plant.OUT_CLOCK]
        levels = [fan_level_db(fan, self._rpm[group]) for group, fan in self._machine.fans.items()]
        true = np.empty(len(self._card.channels))
        true[:n] = self._nodes[:n]
        true[n:] = (
            nodes[plant.BOARD],
            nodes[plant.AIR],
            self._room_c(self._time_s),
            power,
            (power + board_w + self._machine.electrical.other_heat_w) / self._machine.electrical.supply_efficiency,
            clock,
            out[plant.OUT_VOLTAGE],
            self._load.per_ghz * (clock / 1000.0) ** self._load.clock_exponent,
            *self._rpm.values(),
            sum_db([self._machine.room.background_dba, self._machine.sensors.noise_floor_dba, *levels]),
        )
        return self._spoiled(self._sensors.read(true, self._noise))

    def _fault(self, kind: FaultKind) -> Fault | None:
        if not self._faults:
            return None
        return next((fault for fault in self._faults if fault.active(kind, self._time_s)), None)

    def _spoiled(self, values: Vector) -> Vector:
        """Let sensor faults do what they do to a reading."""
        for fault in self._faults:
            place = self._card.index(fault.where)
            if place is None:
                continue
            if fault.active(FaultKind.SENSOR_LOST, self._time_s):
                values[place] = math.nan
            elif fault.active(FaultKind.SENSOR_FROZEN, self._time_s):
                values[place] = self._frozen.setdefault(place, float(values[place]))
        return values

    def _hang_if_told(self) -> None:
        fault = self._fault(FaultKind.HANG)
        if fault is not None:
            self._faults = tuple(f for f in self._faults if f is not fault)
            time.sleep(min(fault.seconds, 60.0))
