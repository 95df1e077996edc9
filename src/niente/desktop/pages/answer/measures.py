"""What the two axes of a choice's picture may be: what is known of every setting, and which way of each is better."""

from enum import StrEnum

import numpy as np

from niente.core.analysis.prediction import SettingPredictions
from niente.core.science.arrays import Vector
from niente.core.selection.pick import Candidate


class Measure(StrEnum):
    """What settings are drawn by; the value names it for a person. Power and temperature are those of the load that heats,
    throughput that of the load that counts, energy per work the one over the other."""

    NOISE = "noise"
    THROUGHPUT = "throughput"
    POWER = "package power"
    CORE = "core temperature"
    ENERGY = "energy per work"

    @property
    def axis_title(self) -> str:
        """Its name with its unit, as an axis wants it."""
        return {
            Measure.NOISE: "Noise in the room, dBA",
            Measure.THROUGHPUT: "Throughput, % of stock",
            Measure.POWER: "Package power, W",
            Measure.CORE: "Core, °C in the design room",
            Measure.ENERGY: "Energy per work, W per %",
        }[self]

    @property
    def way(self) -> float:
        """1 where more is better, -1 where less is."""
        return 1.0 if self == Measure.THROUGHPUT else -1.0

    @property
    def margin(self) -> float:
        """What is left free beside the outermost settings."""
        return {Measure.ENERGY: 0.02}.get(self, 2.0)

    def of(self, candidate: Candidate) -> float:
        """Return it for one setting."""
        return {
            Measure.NOISE: candidate.in_room_dba,
            Measure.THROUGHPUT: candidate.throughput_percent,
            Measure.POWER: candidate.power_w,
            Measure.CORE: candidate.core_c,
            Measure.ENERGY: candidate.power_w / candidate.throughput_percent,
        }[self]

    def values(self, predicted: SettingPredictions) -> Vector:
        """Return it for settings ``(n,)``."""
        return {
            Measure.NOISE: predicted.in_room_dba,
            Measure.THROUGHPUT: predicted.throughput_percent,
            Measure.POWER: predicted.power_w,
            Measure.CORE: predicted.core_c,
            Measure.ENERGY: predicted.power_w / predicted.throughput_percent,
        }[self]

    def half_widths(self, predicted: SettingPredictions) -> Vector:
        """Return how far it is known, as 95 % half widths ``(n,)``; of a ratio by both of its parts."""
        power, work = predicted.power_hw / predicted.power_w, predicted.throughput_hw / predicted.throughput_percent
        ratio: Vector = predicted.power_w / predicted.throughput_percent * np.hypot(power, work)
        return {
            Measure.NOISE: predicted.in_room_hw,
            Measure.THROUGHPUT: predicted.throughput_hw,
            Measure.POWER: predicted.power_hw,
            Measure.CORE: predicted.core_hw,
            Measure.ENERGY: ratio,
        }[self]


ACROSS, UP = Measure.NOISE, Measure.THROUGHPUT
"""What is drawn at first: what is heard, and what is kept."""
