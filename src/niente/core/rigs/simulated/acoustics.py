"""What a sound meter hears of a simulated machine, one metre away, over the room's background."""

import math

from niente.core.rigs.simulated.machine import Fan


def fan_level_db(fan: Fan, rpm: float) -> float:
    """Return the level of a fan group at 1 m in dBA: a speed law and one resonance; minus infinity at a standstill."""
    if rpm < 30.0:
        return -math.inf
    level = fan.level_db + fan.per_decade * math.log10(rpm / fan.full_rpm)
    if fan.hump_db:
        level += fan.hump_db / (1.0 + ((rpm - fan.hump_rpm) / fan.hump_width_rpm) ** 2)
    return level


def sum_db(levels: list[float]) -> float:
    """Return the energetic sum of levels in dB."""
    return 10.0 * math.log10(sum(10.0 ** (level / 10.0) for level in levels))
