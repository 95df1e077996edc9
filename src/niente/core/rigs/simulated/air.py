"""Air as it carries heat: how much, how it lifts itself, and what it takes from the surfaces that it passes."""

import math

from niente.core.science.compiled import compiled

AIR_HEAT = 1191.8
"""Density times specific heat of dry air at 25 °C and 101 325 Pa in J/(m3 K) (Lemmon et al. 2000)."""
AIR_DENSITY = 1.184
GRAVITY = 9.80665
HOUR_S = 3600.0
KELVIN = 273.15


@compiled
def lift_pa(height_m: float, warm_c: float, room_c: float) -> float:
    """Return what a column of warm air lifts against the room's, rho g h dT/T (hydrostatics; ideal gas)."""
    lift: float = AIR_DENSITY * GRAVITY * height_m * (warm_c - room_c) / (warm_c + KELVIN)
    return lift


@compiled
def taken_per_kelvin(surface: float, air_flow: float, coolant_flow: float) -> float:
    """Return the heat that a stream takes from what it passes, in W per K between the two as they come in.

    Effectiveness by NTU (Incropera, ch. 11). A surface: e = 1 - exp(-NTU). A radiator, cross flow with both sides
    unmixed: e = 1 - exp((NTU^0.22 / c)(exp(-c NTU^0.78) - 1)). ``surface`` and flows in W/K.
    """
    if air_flow <= 0.0 or surface <= 0.0:
        return 0.0
    if coolant_flow <= 0.0:
        return air_flow * (1.0 - math.exp(-surface / air_flow))
    least, most = min(air_flow, coolant_flow), max(air_flow, coolant_flow)
    units, ratio = surface / least, least / most
    return least * (1.0 - math.exp(units**0.22 / ratio * (math.exp(-ratio * units**0.78) - 1.0)))
