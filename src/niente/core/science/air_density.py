"""Air: how dense it is."""

GRAVITY, GAS_CONSTANT, LAPSE, SEA_LEVEL_K, RADIUS_M = 9.80665, 287.05287, 0.0065, 288.15, 6356766.0


def density_ratio(altitude_m: float) -> float:
    """Return the density of air at a geometric height over that at sea level (below 11 km).

    The standard atmosphere (ISO 2533): T = 288.15 - 0.0065 H, rho ~ (T/288.15)^(g/(0.0065 R) - 1), H geopotential.
    """
    geopotential = altitude_m * RADIUS_M / (altitude_m + RADIUS_M)
    warmth = 1.0 - LAPSE * geopotential / SEA_LEVEL_K
    ratio: float = warmth ** (GRAVITY / (LAPSE * GAS_CONSTANT) - 1.0)
    return ratio
