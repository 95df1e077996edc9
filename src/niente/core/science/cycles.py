"""Readings that come round: how long their cycle is, and their mean over whole ones. A reading is taken for the mean over its
sample, as counts and levels are."""

import math

import numpy as np

from niente.core.science.arrays import Vector

SHORTEST, LEAST_CYCLES = 3, 5
"""A cycle of fewer samples is not told from noise, and one that comes round less often not from drift."""
ALIKE, UNLIKE = 0.5, 0.0
"""A cycle later readings agree with themselves by this correlation at least, and at some lag within the cycle by no more than
that: what only creeps never stops agreeing with itself."""
HARMONICS, FINELY = 8, 41
"""So many harmonics tell a length between the samples, of so many that are tried."""


def cycle_length(values: Vector) -> float | None:
    """Return after how many samples readings ``(n,)`` come round, as it is read off their autocorrelation; ``None`` where they
    come round less than five times, or not at all.

    It is the first lag that is a peak of the autocorrelation after it has been down, sharpened at the later ones: at the mth
    peak an error of one sample counts 1/m.
    """
    n = values.shape[0]
    alike = _autocorrelations(values, n // LEAST_CYCLES)
    down = np.flatnonzero(alike <= UNLIKE)
    if not down.shape[0]:
        return None
    after = max(int(down[0]), SHORTEST)
    if after >= alike.shape[0]:
        return None
    highest = float(np.max(alike[after:]))
    if highest < ALIKE:
        return None
    high = np.flatnonzero(alike[after:] >= 0.95 * highest)  # the peaks of several cycles are as high: the first of them
    first = _top(alike, after + int(high[0]))
    if first + 1 >= alike.shape[0]:
        return None
    return _sharpened(values, _autocorrelations(values, n // 2), float(first))


def whole_cycle_means(values: Vector, length: float) -> Vector:
    """Return the means of the latest whole cycles of so many samples, oldest first; the parts of a sample that a cycle begins
    or ends in count by their share."""
    n = values.shape[0]
    cycles = math.floor(n / length + 1e-9)
    ends = n - length * np.arange(cycles, -1.0, -1.0)
    sums = np.concatenate([[0.0], np.cumsum(values)])
    means: Vector = np.diff(np.interp(ends, np.arange(n + 1.0), sums)) / length
    return means


def _autocorrelations(values: Vector, lags: int) -> Vector:
    """Return the correlation of readings with themselves at lags 0 to ``lags``, each over the pairs that there are; nothing
    where they do not move."""
    centred = values - np.mean(values)
    power = float(np.mean(centred * centred))
    if power <= 0.0:
        return np.zeros(0)
    n = centred.shape[0]
    spectrum = np.fft.rfft(centred, 2 * n)  # padded, so that the ends do not meet
    sums = np.fft.irfft(np.abs(spectrum) ** 2)[: lags + 1]
    found: Vector = sums / (n - np.arange(lags + 1)) / power
    return found


def _top(alike: Vector, at: int) -> int:
    """Return where the rise ends that a lag stands on."""
    while at + 1 < alike.shape[0] and alike[at + 1] > alike[at]:
        at += 1
    return at


def _sharpened(values: Vector, alike: Vector, length: float) -> float:
    """Return a cycle's length by its later peaks, each looked for next to where the ones before say, and then between the
    samples: where its harmonics hold most of the power."""
    count = 1
    while (near := round((count + 1) * length)) < alike.shape[0]:
        count += 1
        around = [lag for lag in (near - 1, near, near + 1) if lag < alike.shape[0]]
        length = max(around, key=lambda lag: float(alike[lag])) / count
    lengths = length + np.linspace(-1.0, 1.0, FINELY) / count
    turns = np.arange(1, min(HARMONICS, int(length / 2)) + 1)[:, None, None] / lengths[None, :, None]
    waves = np.exp(-2j * np.pi * turns * np.arange(values.shape[0]))
    power = np.sum(np.abs(waves @ (values - np.mean(values))) ** 2, axis=0)
    return float(lengths[int(np.argmax(power))])
