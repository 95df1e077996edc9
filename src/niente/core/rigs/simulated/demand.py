"""What a setting and a load ask of a machine, worked out once and not every second; and the room it stands in."""

import math

import msgspec
import numpy as np

from niente.core.model.setting import Setting
from niente.core.rigs.curve_controller import curve_laws
from niente.core.rigs.simulated import plant
from niente.core.rigs.simulated.acoustics import sound_of
from niente.core.rigs.simulated.card import SAMPLE_PERIOD_S, channels_of
from niente.core.rigs.simulated.flow_network import ways_of
from niente.core.rigs.simulated.machine import Fan, Machine, MachineLoad, RoomModel
from niente.core.rigs.simulated.network import network_of, node_indices
from niente.core.rigs.simulated.power import IDLE_ACTIVITY, power_of
from niente.core.rigs.simulated.sensors import sensors_of
from niente.core.rigs.simulated.silicon import silicon_of
from niente.core.rigs.simulated.streams import streams_of
from niente.core.science.air_density import density_ratio
from niente.core.science.arrays import Array, Vector

NO_LIMIT_W = 1e4
MIN_AVERAGE_S = 1.0
"""The shortest burst time that the firmware's average can follow."""
DUSK_H = 0.5
"""Day and night pass into each other over this long."""
MIN_FAN_V = 1.2
"""What of its supply a fan loses before it turns."""
WIRED = -1
"""The index of the header of a fan that has none."""
COMES_UP_S = 20.0
"""A load of a size comes up over this long, as voices are added one by one; an idle clock could not take all at once."""
NORMAL, UNIFORM = 1, 3
"""Draws a second beside those of the channels: the load's unrest; and what the silicon does."""


def plant_constants(machine: Machine, seed: int) -> plant.Constants:
    """Return the constants of one sample of a machine. Its parts draw from streams of their own, so that a variant
    changes what it changes and nothing else."""
    index = node_indices(machine)
    groups = machine.groups()
    fans = list(machine.fans.values())
    columns = _columns(machine, index, groups)
    pump = machine.pump
    return plant.Constants(
        net=network_of(machine, index, np.random.default_rng([seed, 11])),
        streams=streams_of(machine, index),
        ways=ways_of(machine, index),
        power=power_of(machine.processor, machine.supply, np.random.default_rng([seed, 12])),
        silicon=silicon_of(machine.processor, np.random.default_rng([seed, 13])),
        sound=sound_of(machine),
        sensors=sensors_of(machine, np.random.default_rng([seed, 14])),
        fan_group=np.array([groups.index(fan.group) if fan.group else WIRED for fan in fans], dtype=np.int64),
        fan_start=np.array([fan.start_duty for fan in fans], float),
        fan_stall=np.array([fan.stall_duty for fan in fans], float),
        fan_bend=np.array([fan.speed_exponent for fan in fans], float),
        fan_follows=np.array([-math.expm1(-SAMPLE_PERIOD_S / fan.inertia_s) for fan in fans], float),
        speaks_for=np.array([_first_fan(fans, group) for group in groups], dtype=np.int64),
        pump_group=groups.index(pump.group) if pump is not None else -1,
        pump_least=pump.least_duty if pump is not None else 100.0,
        pump_rpm=pump.full_rpm if pump is not None else 0.0,
        density=density_ratio(machine.room.altitude_m),
        idle_mhz=machine.processor.idle_mhz,
        package_share=float(sum(source.of_package for source in machine.heat.sources)),
        board=plant.Board(**msgspec.structs.asdict(machine.controller)),
        pick=np.array([columns[channel.name] for channel in channels_of(machine)], dtype=np.int64),
    )


def _columns(machine: Machine, index: dict[str, int], groups: tuple[str, ...]) -> dict[str, int]:
    """Return where each channel stands in what a second of the plant gives: temperatures by node, then the outputs."""
    nodes = {
        "room_temperature_c": index["room"],
        **{name: index[node] for node, name in machine.heat.readings.items()},
        **{f"core_temperature_c.{i + 1}": i for i in range(machine.processor.cores)},
    }
    outputs = {
        "package_power_w": plant.OUT_POWER,
        "graphics_power_w": plant.OUT_GRAPHICS,
        "wall_power_w": plant.OUT_WALL,
        "effective_clock_mhz": plant.OUT_CLOCK,
        "core_voltage_v": plant.OUT_VOLT,
        "throughput_per_s": plant.OUT_WORK,
        "noise_dba": plant.OUT_LEVEL,
        **{f"fan_speed_rpm.{group}": plant.OUTPUTS + i for i, group in enumerate(groups)},
    }
    return nodes | {name: len(index) + at for name, at in outputs.items()}


def _first_fan(fans: list[Fan], group: str) -> int:
    """Return the fan whose speed is read for a group; -1 where it has none."""
    return next((i for i, fan in enumerate(fans) if fan.group == group), -1)


def _heat_sources(machine: Machine, load: MachineLoad, index: dict[str, int]) -> tuple[Vector, Vector]:
    """Return what is given off at each node beside the package (W), and which share of the supply's losses."""
    heat, of_supply = np.zeros(len(index)), np.zeros(len(index))
    for source in machine.heat.sources:
        heat[index[source.node]] += source.watts + source.of_graphics * machine.graphics_factor * load.graphics_w
        of_supply[index[source.node]] += source.of_supply
    return heat, of_supply


def demand_of(
    machine: Machine, c: plant.Constants, setting: Setting, load: MachineLoad, stuck: frozenset[str] = frozenset()
) -> plant.Demand:
    """Return what a whole setting and a load ask; fans in ``stuck`` (by their name or group) stand."""
    cores, points = c.power.stock_v.shape
    groups = machine.groups()
    index = node_indices(machine)
    active = load.active_cores or cores
    sustained = float(setting.sustained_power_w or NO_LIMIT_W)
    heat, of_supply = _heat_sources(machine, load, index)
    return plant.Demand(
        activity=np.where(np.arange(cores) < active, max(load.activity, IDLE_ACTIVITY), IDLE_ACTIVITY),
        asked_v=c.power.stock_v + _offsets_v(setting, cores, points),
        fixed_v=float(setting.fixed_voltage_v or 0.0),
        sustained_w=sustained,
        burst_w=max(float(setting.burst_power_w or sustained * machine.processor.burst_ratio), sustained),
        ceiling_mhz=float(_ceiling_mhz(machine, setting, active)),
        average_s=max(float(setting.burst_time_s or machine.processor.average_s), MIN_AVERAGE_S),
        cap_c=float(setting.temperature_cap_c or machine.limits.core_temperature_c),
        shut_down_c=machine.limits.shut_down_c,
        graphics_w=machine.graphics_factor * load.graphics_w,
        other_w=float(sum(source.watts for source in machine.heat.sources)),
        heat_w=heat,
        of_supply=of_supply,
        per_ghz=load.per_ghz,
        clock_exponent=load.clock_exponent,
        waits=load.waits,
        size=setting.load_size.get(load.name, 0.0),
        checks=load.checks_results,
        deadlines=load.deadlines,
        works=not load.is_idle,
        duty=np.array([setting.fan_duty.get(group, 0.0) for group in groups], float),
        curves=curve_laws([setting.fan_curve.get(group) for group in groups], lambda one: _node_of(machine, index, one)),
        stuck=np.array([float(name in stuck or fan.group in stuck) for name, fan in machine.fans.items()], float),
        supplied=np.array([_supplied(setting, fan.group, fan.supply_v) for fan in machine.fans.values()], float),
    )


def _offsets_v(setting: Setting, cores: int, points: int) -> Array:
    """Return the offsets of a setting, ``(cores, points)`` in V: for all cores, per core and per point of the curve."""
    core = np.array([setting.core_offset_mv.get(str(i + 1), 0.0) for i in range(cores)])
    point = np.array([setting.point_offset_mv.get(str(k + 1), 0.0) for k in range(points)])
    total: Array = ((setting.voltage_offset_mv or 0.0) + core[:, None] + point[None, :]) / 1000.0
    return total


def _ceiling_mhz(machine: Machine, setting: Setting, active: int) -> float:
    """Return the highest clock that the setting allows for a number of active cores."""
    if setting.fixed_clock_mhz:
        return setting.fixed_clock_mhz
    ceiling = setting.clock_cap_mhz or machine.processor.curve_mhz[-1]
    fused = machine.processor.all_core_mhz
    if fused and active == machine.processor.cores:
        ceiling = min(ceiling, fused)
    limits = {int(cores): limit for cores, limit in setting.active_clock_mhz.items() if int(cores) >= active}
    return min(ceiling, limits[min(limits)]) if limits else ceiling


def _node_of(machine: Machine, index: dict[str, int], source: str) -> int:
    """Return the node that a channel reads; -1 for the hottest core."""
    return next((index[node] for node, name in machine.heat.readings.items() if name == source), -1)


def _supplied(setting: Setting, group: str, rated_v: float) -> float:
    """Return the share of its full speed that a fan's supply voltage leaves it."""
    volts = setting.fan_supply_v.get(group, rated_v)
    return max(volts - MIN_FAN_V, 0.0) / (rated_v - MIN_FAN_V)


def patterns(load: MachineLoad, since_s: Vector, unrest: Vector, *, sized: bool = False) -> Vector:
    """Return how much of its activity a load has at times since its start ``(n,)``: tiles, bursts and unrest; of one that is
    ``sized``, how much of its size."""
    factor = 1.0 + load.unrest * unrest
    if sized:
        factor = factor * np.clip(since_s / COMES_UP_S, 0.0, 1.0)
    if load.period_s:
        busy = np.mod(since_s, load.period_s) < load.busy * load.period_s
        factor = factor * np.where(busy, 1.0, load.between)
    if load.burst_s:
        at = np.mod(since_s, load.every_s) if load.every_s else since_s
        factor = np.where(at < load.burst_s, factor, IDLE_ACTIVITY / max(load.activity, IDLE_ACTIVITY))
    return np.maximum(factor, 0.0)


class RoomClimate:
    """The room of one sample: where its cycles stand is drawn from ``seed``."""

    def __init__(self, model: RoomModel, seed: int) -> None:
        self.model = model
        self._phase = np.random.default_rng([seed, 15]).random(4) * 2.0 * math.pi

    def celsius(self, time_s: Vector) -> Vector:
        """Return the room's temperature at rig times ``(n,)``."""
        room = self.model
        cycle = room.cycle_k * np.sin(2.0 * math.pi * time_s / room.cycle_s + self._phase[0])
        drift = room.drift_k * np.sin(2.0 * math.pi * time_s / room.drift_s + self._phase[1])
        steps = sum((step.kelvin * (time_s >= step.at_s) for step in room.steps), np.zeros(time_s.shape))
        found: Vector = room.mean_c + cycle + drift + steps
        return found

    def background_dba(self, time_s: Vector) -> Vector:
        """Return the room's background at rig times ``(n,)``: by day and by night, and how it wanders."""
        room = self.model
        hour = np.mod(room.starts_at_h + time_s / 3600.0, 24.0)
        day = np.interp(
            hour,
            [room.day_from_h - DUSK_H, room.day_from_h, room.day_to_h, room.day_to_h + DUSK_H],
            [0.0, 1.0, 1.0, 0.0],
        )
        wander = np.sin(time_s / 97.0 + self._phase[2]) + np.sin(time_s / 611.0 + self._phase[3])
        found: Vector = room.night_dba + (room.day_dba - room.night_dba) * day + 0.5 * room.wander_db * wander
        return found
