"""How often something may still fail that has not failed, or hardly: exact bounds from exposure alone."""

import math

SECONDS_AN_HOUR = 3600.0


def rate_upper_bound_per_s(failures: int, exposure_s: float, confidence: float = 0.95) -> float:
    """Return the highest rate in 1/s that so many failures in an exposure still speak for, one-sided.

    Exact Poisson bound: chi-squared quantile with 2 k + 2 degrees of freedom over twice the exposure (Garwood 1936; from
    memory). Without a failure that is -ln(1 - confidence) over the exposure, the rule of three at 95 %. Infinite without
    exposure. Raises ``ValueError`` for a confidence that is none.
    """
    from scipy.stats import chi2

    if not 0.0 < confidence < 1.0:
        raise ValueError("a confidence lies between 0 and 1")
    if exposure_s <= 0.0:
        return math.inf
    return float(chi2.ppf(confidence, 2 * failures + 2)) / (2.0 * exposure_s)
