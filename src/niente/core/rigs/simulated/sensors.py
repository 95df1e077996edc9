"""How a machine is read: lag, gain, offset, noise and step between the truth and the frame."""

import math
from typing import NamedTuple

import numpy as np

from niente.core.model.names import kind_of
from niente.core.rigs.simulated.card import SAMPLE_PERIOD_S, channels_of
from niente.core.rigs.simulated.machine import Machine
from niente.core.science.arrays import Vector
from niente.core.science.compiled import compiled

THROUGHPUT_SCATTER = 0.004
"""Scatter of the throughput from sample to sample, as a share of it."""
METER_SD_DB = {0: 1.2, 1: 0.4, 2: 0.7}
"""How far meters of a class are off, as a standard deviation over meters; 0 stands for none given."""
AIR_LAG = 4.0
"""A probe in air or coolant is slower than a sensor on the die by this factor."""


class Sensors(NamedTuple):
    """All channels ``(c,)``: reading = round(gain x lagged truth + offset + noise) to its step."""

    gain: Vector
    offset: Vector
    noise: Vector
    scatter: Vector
    follows: Vector
    per_step: Vector
    not_below_zero: Vector
    floor_dba: float


def sensors_of(machine: Machine, rng: np.random.Generator) -> Sensors:
    """Return the sensors of one sample of a machine: offsets of its cores and of its meter are drawn from ``rng``."""
    model, meter = machine.sensors, machine.meter
    channels = channels_of(machine)
    temperature = model.temperature_noise_k
    noise = {
        "core_temperature_c": temperature,
        "board_temperature_c": temperature,
        "graphics_temperature_c": temperature,
        "case_air_temperature_c": 0.08,
        "coolant_temperature_c": 0.05,
        "room_temperature_c": 0.04,
        "package_power_w": model.power_noise_w,
        "graphics_power_w": model.power_noise_w,
        "wall_power_w": 1.6 * model.power_noise_w,
        "effective_clock_mhz": model.clock_noise_mhz,
        "core_voltage_v": 0.0005,
        "fan_speed_rpm": model.speed_noise_rpm,
        "noise_dba": meter.scatter_db,
    }
    slow = {"case_air_temperature_c", "coolant_temperature_c", "room_temperature_c"}
    rows = []
    for channel in channels:
        kind = kind_of(channel.name)
        offset = model.offsets.get(channel.name, model.offsets.get(kind, 0.0))
        if kind == "core_temperature_c":
            offset += model.temperature_offset_k * float(rng.standard_normal())
        if kind == "noise_dba":
            offset += METER_SD_DB[meter.class_] * float(rng.standard_normal())
        lag = model.temperature_lag_s * (AIR_LAG if kind in slow else 1.0) if kind.endswith("temperature_c") else 0.0
        rows.append(
            (
                model.gains.get(channel.name, model.gains.get(kind, 1.0)),
                offset,
                noise.get(kind, 0.0),
                THROUGHPUT_SCATTER if kind == "throughput_per_s" else 0.0,
                -math.expm1(-SAMPLE_PERIOD_S / lag) if lag > 0 else 1.0,
                1.0 / (channel.resolution or 1e-6),
                1.0 if kind == "fan_speed_rpm" or kind.endswith("_w") else 0.0,
            )
        )
    gain, offset_, noise_, scatter, follows, per_step, floor = (np.array(column, float) for column in zip(*rows, strict=True))
    return Sensors(gain, offset_, noise_, scatter, follows, per_step, floor, meter.floor_dba)


@compiled
def read(sensors: Sensors, true: Vector, lagged: Vector, normal: Vector, row: Vector) -> None:
    """Fill ``row`` ``(c,)`` with what the sensors make of the truth; ``lagged`` is where each of them had got to."""
    for c in range(row.shape[0]):
        lagged[c] += sensors.follows[c] * (true[c] - lagged[c])
        value = lagged[c] * sensors.gain[c] + sensors.offset[c]
        if not (sensors.not_below_zero[c] > 0.0 and abs(true[c]) < 1e-9):
            value += normal[c] * (sensors.noise[c] + sensors.scatter[c] * abs(lagged[c]))
        value = np.rint(value * sensors.per_step[c]) / sensors.per_step[c]
        if sensors.not_below_zero[c] > 0.0:
            value = max(value, 0.0)
        row[c] = value
