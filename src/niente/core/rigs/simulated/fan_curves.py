"""What a fan lifts at a speed and a flow, and the way back."""

import math

from niente.core.science.compiled import compiled

STOPPED_SHARE = 0.6
"""A fan that stands is a resistance: this share of its own pressure at its own flow."""


@compiled
def fan_pressure(pressure: float, bend: float, speed: float, flow: float) -> float:
    """Return what a fan lifts, Pa, at a share of its full speed and a flow over its free one.

    p = p0 (r^2 - (1 - b) r x - b x^2), which keeps the fan laws (flow as r, pressure as r^2) for every bend b; one that
    stands is a resistance.
    """
    if speed <= 0.0:
        return -STOPPED_SHARE * pressure * flow * abs(flow)
    return pressure * (speed * speed - (1.0 - bend) * speed * flow - bend * flow * flow)


@compiled
def fan_flow(pressure: float, bend: float, speed: float, against: float) -> float:
    """Return the flow over the free one at which a fan lifts ``against`` Pa: ``fan_pressure`` turned round.

    Against more than it can lift, air comes back through it.
    """
    short = against / pressure - speed * speed
    if short > 0.0:
        return -math.sqrt(short / STOPPED_SHARE)
    if speed <= 0.0:
        return math.sqrt(-short / STOPPED_SHARE)
    straight = (1.0 - bend) * speed
    if bend < 1e-9:
        return -short / straight
    return (-straight + math.sqrt(straight * straight - 4.0 * bend * short)) / (2.0 * bend)
