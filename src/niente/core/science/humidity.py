"""Water in the air: the dew point, below which no surface of a running machine may be."""

import math

_A, _B = 17.62, 243.12
"""Magnus' coefficients over water, -45 to 60 °C (WMO Guide No. 8; Sonntag 1990)."""


def dew_point_c(temperature_c: float, humidity_percent: float) -> float:
    """Return the dew point in °C of air at a temperature and a relative humidity (above 0 %).

    Magnus: g = ln(RH/100) + a T/(b + T), dew point = b g/(a - g). Raises ``ValueError`` for a humidity of 0 or less.
    """
    if humidity_percent <= 0:
        raise ValueError("dry air has no dew point")
    g = math.log(humidity_percent / 100.0) + _A * temperature_c / (_B + temperature_c)
    return _B * g / (_A - g)
