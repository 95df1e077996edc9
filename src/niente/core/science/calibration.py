"""What a sensor is off by: gain and offset, from readings beside a reference, or from driving into a known temperature cap."""

import math

import msgspec
import numpy as np

from niente.core.science.arrays import Vector
from niente.core.science.statistics import fit_line

MIN_SPAN = 5.0
"""References closer together than this, in the sensor's unit, tell an offset and no gain. Common practice, no source."""


class Calibration(msgspec.Struct, frozen=True):
    """A sensor reads ``gain`` times the truth plus ``offset``, each ± its 95 % half width (NaN where the pairs do not tell it).

    ``residual_sd`` is what the pairs scatter about that; ``pairs`` how many there were.
    """

    gain: float
    gain_hw: float
    offset: float
    offset_hw: float
    residual_sd: float
    pairs: int

    def corrected(self, reading: float) -> float:
        """Return the truth behind a reading."""
        return (reading - self.offset) / self.gain


def calibrate(truth: Vector, reading: Vector) -> Calibration:
    """Return what a sensor is off by, from pairs ``(n,)`` of a reference's value and its reading.

    With references that lie apart: a straight line by least squares (JCGM 100, H.3; from memory), gain and offset both. With
    references close together, or a single pair: the offset alone. Raises ``ValueError`` without pairs, or where the readings
    do not rise with the reference.
    """
    from scipy.stats import t

    n = truth.shape[0]
    if n == 0:
        raise ValueError("there is no pair of a reference and a reading")
    apart = reading - truth
    if n < 2 or float(np.ptp(truth)) < MIN_SPAN:
        sd = float(np.std(apart, ddof=1)) if n > 1 else math.nan
        half_width = float(t.ppf(0.975, n - 1)) * sd / math.sqrt(n) if n > 1 else math.nan
        return Calibration(1.0, math.nan, float(np.mean(apart)), half_width, sd, n)
    if n == 2:
        gain = float((reading[1] - reading[0]) / (truth[1] - truth[0]))
        line_gain, offset, gain_hw, offset_hw, sd = gain, float(reading[0] - gain * truth[0]), math.nan, math.nan, math.nan
    else:
        line = fit_line(truth, reading)
        wide = float(t.ppf(0.975, line.degrees))
        line_gain, offset = line.slope, line.intercept
        gain_hw, offset_hw, sd = wide * line.slope_se, wide * line.intercept_se, line.residual_sd
    if line_gain <= 0.0:
        raise ValueError("the readings do not rise with the reference")
    return Calibration(line_gain, gain_hw, offset, offset_hw, sd, n)
