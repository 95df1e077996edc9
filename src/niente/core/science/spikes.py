"""Single readings that cannot be: a sample that jumps away from its neighbours and back, further than the quantity can move."""

import numpy as np

from niente.core.science.arrays import Vector

AROUND = 9
"""A reading is set against the median of so many about it, so that up to four bad ones in a row are seen."""


def without_spikes(values: Vector, most: float) -> Vector:
    """Return readings ``(n,)`` with those that lie further than ``most`` from the median of their neighbours made NaN.

    A running median keeps steps and trends, and lets only what comes back at once stand out (Tukey 1977, resistant smoothing;
    from memory). Readings without any jump so large are returned as they are.
    """
    from scipy.ndimage import median_filter

    known = np.isfinite(values)
    kept = values[known]
    if kept.shape[0] < AROUND or float(np.max(np.abs(np.diff(kept)))) <= most:
        return values
    spike = np.abs(kept - median_filter(kept, AROUND, mode="nearest")) > most
    if not spike.any():
        return values
    found = values.copy()
    found[np.flatnonzero(known)[spike]] = np.nan
    return found
