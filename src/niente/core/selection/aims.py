"""What a choice is for: what is wanted less of among the settings that keep every limit."""

import numpy as np

from niente.core.analysis.prediction import SettingPredictions
from niente.core.model.limits import Aim, Limits, Weights
from niente.core.science.arrays import Vector

EQUAL = {Aim.FASTEST: 0.3, Aim.LEAST_WATTS: 0.5, Aim.COOLEST: 0.3, Aim.WEIGHED: 0.1}
"""Settings that differ by less in what is wanted (%, W, K, and what is weighed) are as good as each other; the quieter one is
then taken."""


def less_of(predicted: SettingPredictions, limits: Limits) -> Vector:
    """Return what the aim of the limits wants less of, ``(n,)``: dB, per cent, W, K, or what they weigh together."""
    aim = limits.aim
    if aim == Aim.FASTEST:
        return -predicted.throughput_percent
    if aim == Aim.LEAST_WATTS:
        return predicted.power_w
    if aim == Aim.COOLEST:
        return predicted.core_c
    return predicted.in_room_dba if aim == Aim.QUIETEST else _weighed(predicted, limits.weights)


def _weighed(predicted: SettingPredictions, weights: Weights) -> Vector:
    weighed: Vector = np.sum(
        [
            weights.noise_db * predicted.in_room_dba,
            -weights.throughput_percent * predicted.throughput_percent,
            weights.power_w * predicted.power_w,
            weights.core_k * predicted.core_c,
        ],
        axis=0,
    )
    return weighed
