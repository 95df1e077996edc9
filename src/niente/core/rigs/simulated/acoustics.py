"""What a sound meter hears of a simulated machine, at its distance, over the room's background."""

import math
from typing import NamedTuple

import numpy as np

from niente.core.rigs.simulated.machine import Machine
from niente.core.science.arrays import Indices, Vector
from niente.core.science.compiled import compiled

STANDSTILL_RPM = 30.0
TONE_PER_DECADE = 60.0
"""A blade-pass tone grows a little faster with speed than the rush of air."""


class Sound(NamedTuple):
    """Sources of sound. Fans ``(f,)``; hump ``h`` belongs to fan ``hump_fan[h]``; levels in dB at 1 m and full speed."""

    full_rpm: Vector
    level: Vector
    per_decade: Vector
    tone: Vector
    blades: Vector
    hump_fan: Indices
    hump_rpm: Vector
    hump_width: Vector
    hump_db: Vector
    pump_level: float
    pump_per_decade: float
    whine_level: float
    whine_per_decade: float
    panel_db: float
    away_db: float


def sound_of(machine: Machine) -> Sound:
    """Return the sources of a machine, and how much its meter's distance takes."""
    fans = list(machine.fans.values())
    humps = [(index, hump) for index, fan in enumerate(fans) for hump in fan.humps]
    pump, whine = machine.pump, machine.whine
    return Sound(
        full_rpm=np.array([fan.full_rpm for fan in fans]),
        level=np.array([fan.level_db + fan.place_db + 10.0 * math.log10(fan.count) for fan in fans]),
        per_decade=np.array([fan.per_decade for fan in fans]),
        tone=np.array([fan.tone_db for fan in fans]),
        blades=np.array([float(fan.blades) for fan in fans]),
        hump_fan=np.array([index for index, _ in humps], dtype=np.int64),
        hump_rpm=np.array([hump.rpm for _, hump in humps], dtype=float),
        hump_width=np.array([hump.width_rpm for _, hump in humps], dtype=float),
        hump_db=np.array([hump.db for _, hump in humps], dtype=float),
        pump_level=pump.level_db if pump is not None else -100.0,
        pump_per_decade=pump.per_decade if pump is not None else 40.0,
        whine_level=whine.level_db if whine is not None else -100.0,
        whine_per_decade=whine.per_decade if whine is not None else 12.0,
        panel_db=machine.panel_db,
        away_db=distance_db(machine.meter.distance_m, machine.meter.room_m),
    )


def distance_db(distance_m: float, room_m: float) -> float:
    """Return the level at a distance over that at 1 m, in dB: direct sound by the inverse square, and the room's own,
    which the direct one meets at ``room_m`` (textbook)."""
    return 10.0 * math.log10((1.0 / distance_m**2 + 1.0 / room_m**2) / (1.0 + 1.0 / room_m**2))


@compiled
def a_weight_db(hertz: float) -> float:
    """Return the A-weighting at a frequency in dB (IEC 61672-1, the analytic form)."""
    f2 = hertz * hertz
    top = 12194.217**2 * f2 * f2
    under = (f2 + 20.598997**2) * math.sqrt((f2 + 107.65265**2) * (f2 + 737.86223**2)) * (f2 + 12194.217**2)
    return 20.0 * math.log10(top / under) + 2.0


@compiled
def fan_level_db(sound: Sound, fan: int, rpm: float) -> float:
    """Return the level of a set of fans at 1 m in dBA: rush of air, resonances and blade-pass tone; -100 at a standstill."""
    if rpm < STANDSTILL_RPM:
        return -100.0
    decades = math.log10(rpm / sound.full_rpm[fan])
    level = sound.level[fan] + sound.per_decade[fan] * decades
    for h in range(sound.hump_fan.shape[0]):
        if sound.hump_fan[h] == fan:
            level += sound.hump_db[h] / (1.0 + ((rpm - sound.hump_rpm[h]) / sound.hump_width[h]) ** 2)
    pass_hz = rpm / 60.0 * sound.blades[fan]
    full_hz = sound.full_rpm[fan] / 60.0 * sound.blades[fan]
    tone = sound.level[fan] + sound.tone[fan] + TONE_PER_DECADE * decades + a_weight_db(pass_hz) - a_weight_db(full_hz)
    return 10.0 * math.log10(10.0 ** (0.1 * level) + 10.0 ** (0.1 * tone))


@compiled
def machine_level_db(sound: Sound, rpm: Vector, pump: float, electric_w: float) -> float:
    """Return the level of the machine alone at the meter in dBA: fans ``(f,)``, pump (share of its speed), coil whine."""
    energy = 1e-10
    for fan in range(rpm.shape[0]):
        energy += 10.0 ** (0.1 * fan_level_db(sound, fan, rpm[fan]))
    if pump > 0.02:
        energy += 10.0 ** (0.1 * (sound.pump_level + sound.pump_per_decade * math.log10(pump)))
    if electric_w > 5.0:
        energy += 10.0 ** (0.1 * (sound.whine_level + sound.whine_per_decade * math.log10(electric_w / 100.0)))
    return 10.0 * math.log10(energy) + sound.panel_db + sound.away_db
