"""A machine at one operating point, tabulated for rehearsals: what it draws, how it warms and how it sounds at any speeds of
its fans. The tables hang on the point alone, so that a curve can be tried in no time."""

import itertools
import math
from collections.abc import Mapping
from typing import NamedTuple

import msgspec
import numpy as np

from niente.core.analysis.models import Models
from niente.core.analysis.prediction import ceilings, predict_under_load
from niente.core.analysis.sensor_shares import SensorShare
from niente.core.analysis.setting_batch import one_setting
from niente.core.fans.loop import FanTables, HeatTables, SensorTables, corners
from niente.core.model.errors import NotEnoughError
from niente.core.model.fan_curve import FanCurve
from niente.core.model.rig_card import LoadKind
from niente.core.model.setting import Setting
from niente.core.science.arrays import Array, Vector
from niente.core.science.fan_speed import STANDS_RPM
from niente.core.science.heat.response import HeatResponse

POWERS, SPEEDS, LEVELS = 13, {1: 33, 2: 17, 3: 9}, 201
"""Points of the grids: of power, of each group's speed by how many groups there are, and of levels over speed and power."""
MOST_POWER = 1.5
"""The grids of power go to this times what a load draws."""
COUPLED = 3
"""Groups that may be rehearsed."""
WARMER_K = 15.0
"""Over this the watts that leakage adds are told."""
IDLE_SHARE = 0.1
"""What an idle machine draws of its load, where it was never run idle."""
SUBSTITUTIONS = 12
OF_CORE = ("core_temperature_c", "package_temperature_c")
"""Sources that stand for the core: what the runs' counted temperature is."""


class PowerDrawn(NamedTuple):
    """What the machine draws: idle in W; for each load (everyday, heaviest) fully at work in W at a core of ``at_c``, and what
    each kelvin more adds, all ``(loads,)``."""

    idle_w: float
    full_w: Vector
    per_k: Vector
    at_c: Vector


class MachineAtPoint(msgspec.Struct, frozen=True):
    """A machine at an operating point: the groups of its fans in order, its tables, the channels that its sensors' table is of,
    what it draws, the temperature cap in °C, the highest temperature with the headroom that is kept in the card's limits, and
    the room's background in dBA."""

    setting: Setting
    groups: tuple[str, ...]
    loads: tuple[str, str]
    heat: HeatTables
    fans: FanTables
    sensors: SensorTables
    sources: tuple[str, ...]
    drawn: PowerDrawn
    cap_c: float
    ceiling_c: float
    background_dba: float

    def sensor(self, source: str) -> int:
        """Return the number of what a source reads; -1 for the core, and the package that stands for it. Raises ``KeyError``
        for a source that the rehearsal does not know."""
        if source.startswith(OF_CORE):
            return -1
        if source not in self.sources:
            raise KeyError(source)
        return self.sources.index(source)

    def knows(self, curve: FanCurve) -> bool:
        """Return whether it knows all that a curve follows."""
        return all(one.startswith(OF_CORE) or one in self.sources for one in curve.sources)

    def added_k(self, sensor: int, activity: float, core_c: float, load: int = 1) -> float:
        """Return what a sensor reads over what it sees of the core's rise, in K."""
        of_power = float(self.sensors.k_per_w[sensor]) * self.power_w(activity, core_c, load)
        return of_power + activity * float(self.sensors.added_k[load, sensor])

    @property
    def parts(self) -> int:
        """How many parts its rise has."""
        return int(self.heat.keeps.shape[1])

    def steady_core_c(self, activity: float, duty: Vector, room_c: float, load: int = 1) -> float:
        """Return where the core settles at an activity of a load and fixed duties ``(g,)``, in °C: the root of T = room + rise
        of the power that is drawn at T, by repeated substitution."""
        rpm, core = self.rpm(duty), room_c
        for _ in range(SUBSTITUTIONS):
            core = room_c + float(self.parts_k(self.power_w(activity, core, load), rpm, activity, load).sum())
        return core

    def rpm(self, duty: Vector) -> Vector:
        """Return the groups' speeds in rpm at duties ``(g,)``."""
        return np.array([np.interp(one, np.arange(101.0), table) for one, table in zip(duty, self.fans.rpm, strict=True)])

    def power_w(self, activity: float, core_c: float, load: int = 1) -> float:
        """Return what is drawn at an activity of a load with the core at a temperature, in W."""
        full = float(self.drawn.full_w[load] + self.drawn.per_k[load] * (core_c - self.drawn.at_c[load]))
        return self.drawn.idle_w + activity * max(full - self.drawn.idle_w, 0.0)

    def taus_s(self, rpm: Vector) -> Vector:
        """Return the time constants of the parts of the rise in s ``(p,)`` at speeds ``(g,)``."""
        rows, weights = np.zeros(2 ** len(self.groups), dtype=np.int64), np.zeros(2 ** len(self.groups))
        count = corners(self.heat, rpm, rows, weights)
        keeps: Vector = weights[:count] @ self.heat.keeps[rows[:count]]
        return -1.0 / np.log(keeps)

    def parts_k(self, power_w: float, rpm: Vector, activity: float, load: int = 1) -> Vector:
        """Return what each part of the rise settles at in K ``(p,)``."""
        rows, weights = np.zeros(2 ** len(self.groups), dtype=np.int64), np.zeros(2 ** len(self.groups))
        count = corners(self.heat, rpm, rows, weights)
        by_power = np.tensordot(weights[:count], self.heat.settled_k[load][:, rows[:count]], (0, 1))
        more = np.tensordot(weights[:count], self.heat.with_others_k[load][:, rows[:count]], (0, 1))
        at = by_power + activity * (more - by_power)
        found: Vector = np.array([np.interp(power_w, self.heat.power_w, at[:, part]) for part in range(at.shape[1])])
        return found


def machine_at(
    models: Models,
    response: HeatResponse,
    setting: Setting,
    room_c: float,
    shares: Mapping[str, SensorShare] | None = None,
) -> MachineAtPoint:
    """Tabulate a machine at an operating point, the fans apart; ``shares`` are what sensors beside the core see. Raises
    ``NotEnoughError`` where nothing is known of its fans' sound or speeds, or where it has more groups than can be
    rehearsed."""
    groups = models.heat.groups
    if not 1 <= len(groups) <= COUPLED:
        raise NotEnoughError(
            f"A rehearsal takes one to {COUPLED} fan groups; this machine has {len(groups)}.",
            remedy="Name a group's fixed duty instead.",
        )
    for group in groups:
        if not models.speeds[group].pairs:
            raise NotEnoughError(
                f"Nothing was run of the {group} fans yet.", remedy="A fan sweep tells their speeds and their sound."
            )
    loads = (models.count_load, models.heavy_load)
    whole = setting.over(models.card.stock)
    drawn = _drawn(models, whole, loads, room_c)
    fans = _fan_tables(models, drawn)
    return MachineAtPoint(
        whole,
        groups,
        loads,
        _heat_tables(models, response, loads, drawn, fans),
        fans,
        _sensor_tables(models, loads, shares or {}),
        tuple(shares or {}),
        drawn,
        whole.temperature_cap_c if whole.temperature_cap_c is not None else math.inf,
        float(ceilings(models, one_setting(whole))[0]),
        models.noise.background_dba,
    )


def _drawn(models: Models, setting: Setting, loads: tuple[str, str], room_c: float) -> PowerDrawn:
    """Return what the machine draws, the fans at what is fixed or was last; they move it by leakage alone."""
    fixed = msgspec.structs.replace(setting, temperature_cap_c=None)  # the rehearsal pulls back where the cap is reached
    for group in models.heat.groups:
        if group in setting.fan_curve:
            fixed = fixed.replaced(f"fan_duty.{group}", models.speeds[group].span[1])
    full, per_k, at_c = np.zeros(2), np.zeros(2), np.zeros(2)
    for index, load in enumerate(loads):
        here = predict_under_load(models, one_setting(fixed), load, room_c)
        warm = predict_under_load(models, one_setting(fixed), load, room_c + WARMER_K)
        if here.runaway[0]:
            raise NotEnoughError(
                f"Nothing holds {load} at this setting in a room of {room_c:g} °C.", remedy="Lower the power limit."
            )
        full[index], at_c[index] = here.power_w[0], here.core_c[0]
        warmer_k = float(warm.core_c[0] - here.core_c[0])
        if not warm.runaway[0] and warmer_k > 1.0:
            per_k[index] = max(float(warm.power_w[0] - here.power_w[0]) / warmer_k, 0.0)
    idle = [run.power_w for run in models.evidence.runs if run.load_kind == LoadKind.IDLE and math.isfinite(run.power_w)]
    idle_w = float(np.median(idle)) if idle else IDLE_SHARE * float(full.max())
    return PowerDrawn(min(idle_w, float(full.min())), full, per_k, at_c)


def _fan_tables(models: Models, drawn: PowerDrawn) -> FanTables:
    groups, duties = models.heat.groups, np.arange(101.0)
    rpm = np.stack([np.maximum(models.speeds[group].at(duties)[0], 0.0) for group in groups])
    start = np.array(
        [min((duty for duty, turns in models.speeds[one].pairs if turns > STANDS_RPM), default=101.0) for one in groups]
    )
    noise, heard = models.noise, len(models.noise.groups)
    energy, step = np.zeros((len(groups), LEVELS)), np.zeros(len(groups))
    silent = energy_of(noise.machine_alone(np.zeros((1, heard))))[0]
    for index, group in enumerate(groups):
        speeds = np.linspace(0.0, max(float(rpm[index].max()), 100.0), LEVELS)
        step[index] = speeds[1]
        if group in noise.groups:
            every = np.zeros((LEVELS, heard))
            every[:, noise.groups.index(group)] = speeds
            energy[index] = np.maximum(energy_of(noise.machine_alone(every)) - silent, 0.0)
    watts = np.linspace(0.0, MOST_POWER * float(drawn.full_w.max()), LEVELS)
    return FanTables(
        rpm, start, energy, step, energy_of(noise.machine_alone(np.zeros((LEVELS, heard)), watts)), float(watts[1])
    )


def _sensor_tables(models: Models, loads: tuple[str, str], shares: Mapping[str, SensorShare]) -> SensorTables:
    parts, each = 3 + len(models.heat.groups), list(shares.values())
    watts = np.array([models.sources_w[load] for load in loads], float).reshape(len(loads), -1)
    k_per_w = np.array([share.k_per_w for share in each], float).reshape(len(each), watts.shape[1])
    of_power = np.array([share.of_power_k_per_w for share in each], float)
    return SensorTables(np.array([share.of_parts for share in each], float).reshape(-1, parts), of_power, watts @ k_per_w.T)


def energy_of(level_dba: Array) -> Array:
    """Return the energies of levels in dBA, as they add."""
    energy: Array = 10.0 ** (0.1 * level_dba)
    return energy


def _heat_tables(
    models: Models, response: HeatResponse, loads: tuple[str, str], drawn: PowerDrawn, fans: FanTables
) -> HeatTables:
    groups = len(models.heat.groups)
    size = SPEEDS[groups]
    power = np.linspace(0.0, MOST_POWER * float(drawn.full_w.max()), POWERS)
    axes = np.stack([np.linspace(0.0, float(row.max()), size) for row in fans.rpm])
    speeds = np.array(list(itertools.product(*axes)))
    both = np.repeat(power, speeds.shape[0]), np.tile(speeds, (POWERS, 1))
    plain, more = [], []
    for load in loads:
        watts = np.array(models.sources_w[load])
        shape = (POWERS, speeds.shape[0], -1)
        nothing = np.zeros((both[0].shape[0], watts.shape[0]))
        plain.append(response.parts(models.heat, *both, nothing, load).reshape(shape))
        others = response.parts(models.heat, *both, nothing + watts, load).reshape(shape) if watts.any() else plain[-1]
        more.append(others)
    keeps = np.exp(-1.0 / response.taus_s(models.heat, speeds, loads[1]))
    beside = any(np.any(models.sources_w[load]) for load in loads)
    return HeatTables(power, axes, np.stack(plain).copy(), np.stack(more).copy(), keeps.copy(), int(beside))
