"""How a simulated machine is read: offsets, gains, noise and steps between the truth and the frame."""

import numpy as np

from niente.core.frame import Vector
from niente.core.quantities import part_of
from niente.core.rigcard import RigCard
from niente.core.rigs.simulated.machine import Machine

THROUGHPUT_NOISE = 0.004
"""Scatter of the throughput from sample to sample, as a share of it."""


class Sensors:
    """All channels of one machine. Each reads ``round(gain x truth + offset + noise)`` to its step."""

    def __init__(self, machine: Machine, card: RigCard, rng: np.random.Generator) -> None:
        told = machine.sensors
        self.core_offset_k = told.temperature_offset_k * rng.standard_normal(machine.cores)
        noise = {
            "core_temperature_c": told.temperature_noise_k,
            "board_temperature_c": told.temperature_noise_k,
            "case_air_temperature_c": 0.08,
            "room_temperature_c": 0.04,
            "package_power_w": told.power_noise_w,
            "wall_power_w": 1.6 * told.power_noise_w,
            "effective_clock_mhz": told.clock_noise_mhz,
            "core_voltage_v": 0.0005,
            "fan_speed_rpm": told.speed_noise_rpm,
            "noise_dba": told.noise_noise_db,
        }
        quantities = [channel.name.partition(".")[0] for channel in card.channels]
        self._noise = np.array([noise.get(quantity, 0.0) for quantity in quantities])
        self._gain = np.array([told.power_gain if quantity == "package_power_w" else 1.0 for quantity in quantities])
        self._per_step = np.array([1.0 / (channel.resolution or 1e-6) for channel in card.channels])
        self._fans = card.indices("fan_speed_rpm")
        self._throughput = card.index("throughput_per_s")
        self._offset = np.zeros(len(quantities))
        for place in card.indices("core_temperature_c"):
            self._offset[place] = self.core_offset_k[int(part_of(card.channels[place].name)) - 1]

    def read(self, true: Vector, rng: np.random.Generator) -> Vector:
        """Return what the sensors make of the truth; both of shape ``(channels,)``."""
        noise: Vector = rng.standard_normal(true.shape)
        if self._throughput is not None:
            worked = float(noise[self._throughput])
        noise *= self._noise
        if self._throughput is not None:
            noise[self._throughput] = THROUGHPUT_NOISE * worked * true[self._throughput]
        for place in self._fans:
            if true[place] < 30.0:
                noise[place] = 0.0
        read: Vector = true * self._gain
        read += self._offset
        read += noise
        read *= self._per_step
        np.rint(read, out=read)
        read /= self._per_step
        for place in self._fans:
            read[place] = max(read[place], 0.0)
        return read
