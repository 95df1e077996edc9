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
        """Return it for one setting; NaN where it is not known."""
        return float(self.values(candidate))

    def values(self, known: SettingPredictions | Candidate) -> Vector:
        """Return it for settings ``(n,)``, or for one; not finite where it is not known."""
        if self == Measure.ENERGY:
            with np.errstate(divide="ignore", invalid="ignore"):  # nothing was done, or nothing is known
                return np.divide(known.power_w, known.throughput_percent)
        value: Vector = np.asarray(getattr(known, FIELDS[self]), dtype=float)
        return value

    def half_widths(self, predicted: SettingPredictions) -> Vector:
        """Return how far it is known, as 95 % half widths ``(n,)``; of a ratio by both of its parts."""
        if self == Measure.ENERGY:
            with np.errstate(divide="ignore", invalid="ignore"):
                power = predicted.power_hw / predicted.power_w
                work = predicted.throughput_hw / predicted.throughput_percent
            ratio: Vector = self.values(predicted) * np.hypot(power, work)
            return ratio
        width: Vector = getattr(predicted, WIDTHS[self])
        return width


FIELDS = {
    Measure.NOISE: "in_room_dba",
    Measure.THROUGHPUT: "throughput_percent",
    Measure.POWER: "power_w",
    Measure.CORE: "core_c",
}
WIDTHS = {
    Measure.NOISE: "in_room_hw",
    Measure.THROUGHPUT: "throughput_hw",
    Measure.POWER: "power_hw",
    Measure.CORE: "core_hw",
}
ACROSS, UP = Measure.NOISE, Measure.THROUGHPUT
"""What is drawn at first: what is heard, and what is kept."""
