"""Levels, and how a fan's level follows its speed."""

import math

import msgspec
import numpy as np
from numpy.typing import NDArray

from niente.core.science.statistics import Z95, propagated_variance

Vector = NDArray[np.float64]
Array = NDArray[np.float64]

PER_DECADE = 53.0
PER_DECADE_SD = 3.0
"""Prior of the speed law in dB a decade of speed: 50 to 57 in practice."""
LEVEL_PRIOR_DB = 38.0
LEVEL_PRIOR_SD = 15.0
MODEL_SD_DB = 0.4
"""What the speed law leaves out (resonances), as a standard deviation."""
SILENT_DB = -20.0


def add_levels(levels_db: Array, axis: int = -1) -> Array:
    """Return the energetic sum of levels along an axis, in dB: 10 lg (sum of 10^(L/10)).

    The textbook sum of incoherent sources; two equal ones are 3.01 dB above one.
    """
    total: Array = 10.0 * np.log10(np.sum(10.0 ** (np.asarray(levels_db) / 10.0), axis=axis))
    return total


def fan_law_db(per_decade: float, speed_ratio: Array | float) -> Array:
    """Return by how much a fan gets louder when its speed changes by a ratio, in dB: k lg(n2/n1)."""
    change: Array = per_decade * np.log10(speed_ratio)
    return change


class NoiseModel(msgspec.Struct, frozen=True):
    """In-room level over the fans' speeds: background and one speed law a group, added as energies.

    ``background_dba`` belongs to the meter's place; ``level_dba`` (g,) is each group's level at its ``full_rpm``;
    ``per_decade`` (g,) its law in dB; ``covariance`` of all of them in that order.
    """

    groups: tuple[str, ...]
    full_rpm: tuple[float, ...]
    background_dba: float
    level_dba: tuple[float, ...]
    per_decade: tuple[float, ...]
    covariance: tuple[tuple[float, ...], ...]

    def _parts(self, rpm: Array, values: Vector) -> Array:
        count = len(self.groups)
        ratio = np.maximum(rpm / np.asarray(self.full_rpm), 1e-4)
        laws = values[1 : 1 + count] + values[1 + count :] * np.log10(ratio)
        parts: Array = np.where(rpm > 30.0, np.maximum(laws, SILENT_DB), SILENT_DB)
        return parts

    def _values(self) -> Vector:
        return np.array([self.background_dba, *self.level_dba, *self.per_decade])

    def machine_alone(self, rpm: Array) -> Array:
        """Return the modelled level of the machine alone in dBA for speeds ``(..., g)`` in rpm."""
        return add_levels(self._parts(np.asarray(rpm, float), self._values()))

    def in_room(self, rpm: Array) -> tuple[Array, Array]:
        """Return the in-room level in dBA and its 95 % half width in dB, for speeds ``(..., g)`` in rpm."""
        speeds, values = np.asarray(rpm, float), self._values()

        def level(at: Vector) -> Array:
            total: Array = 10.0 * np.log10(10.0 ** (at[0] / 10.0) + np.sum(10.0 ** (self._parts(speeds, at) / 10.0), axis=-1))
            return total

        centre = level(values)
        variance = propagated_variance(level, values, np.asarray(self.covariance), step=0.01)
        share = 1.0 - 10.0 ** ((values[0] - centre) / 10.0)  # the model's own error touches only the machine's part
        return centre, Z95 * np.sqrt(variance + (MODEL_SD_DB * share) ** 2)


def fit_noise(groups: tuple[str, ...], rpm: Array, level_dba: Vector, level_se_db: Vector) -> NoiseModel:
    """Fit background and speed laws to readings.

    ``rpm`` has shape ``(n, g)``, ``level_dba`` and its standard error ``(n,)``. Maximum a posteriori with normal priors
    (k 53 ± 3 dB a decade; levels 38 ± 15 dBA; background 30 ± 12 dBA): a group that was never varied keeps its prior,
    and the interval says so. Raises ``ValueError`` for fewer than two readings.
    """
    from scipy.optimize import least_squares

    if level_dba.shape[0] < 2:
        raise ValueError("a noise map needs at least two readings")
    count = len(groups)
    full = np.maximum(np.max(rpm, axis=0), 60.0)
    weight = 1.0 / np.sqrt(level_se_db**2 + 0.15**2)
    ratio = np.log10(np.maximum(rpm / full, 1e-4))
    turning = rpm > 30.0
    prior = np.array([30.0, *[LEVEL_PRIOR_DB] * count, *[PER_DECADE] * count])
    prior_sd = np.array([12.0, *[LEVEL_PRIOR_SD] * count, *[PER_DECADE_SD] * count])

    def residuals(at: Vector) -> Vector:
        parts = np.where(turning, at[1 : 1 + count] + at[1 + count :] * ratio, SILENT_DB)
        level = 10.0 * np.log10(10.0 ** (at[0] / 10.0) + np.sum(10.0 ** (parts / 10.0), axis=1))
        return np.concatenate([(level - level_dba) * weight, (at - prior) / prior_sd])

    start = prior.copy()
    start[0] = float(np.min(level_dba))
    result = least_squares(residuals, start)
    covariance = np.linalg.inv(result.jac.T @ result.jac)
    at = result.x
    return NoiseModel(
        groups,
        tuple(full.tolist()),
        float(at[0]),
        tuple(at[1 : 1 + count].tolist()),
        tuple(at[1 + count :].tolist()),
        tuple(tuple(row) for row in covariance.tolist()),
    )


def level_at(alone_dba: float, from_m: float, to_m: float, background_dba: float | None) -> float:
    """Return the level of a machine at another distance, in dBA, over the background there (``None``: without it).

    Direct sound by the inverse square: 20 lg of the ratio of the distances (textbook). In a room the level falls off more
    slowly far from the machine, so that this is the least that is heard there.
    """
    carried = alone_dba - 20.0 * math.log10(to_m / from_m)
    return carried if background_dba is None else float(add_levels(np.array([carried, background_dba])))


SURVEY_DB, ENGINEERING_DB = 3.0, 6.0
"""How far a reading has to lie over the background for a figure of the machine alone: by the survey and by the engineering
method (ISO 3746 and ISO 3744; limits from memory)."""


class Alone(msgspec.Struct, frozen=True):
    """The machine alone, as told from a reading in a room: ``dba`` ± ``half_width_db`` (95 %), or where the reading lies too
    close to the background only an upper bound (``bound``). ``method`` is the standard whose rule it keeps; empty: none."""

    dba: float
    half_width_db: float
    bound: bool
    method: str

    def text(self) -> str:
        """Return it in words: a level with its interval, or that it is too close to the room to tell."""
        if self.bound:
            return f"at most {self.dba:.1f} dBA, too close to the room to tell"
        return f"{self.dba:.1f} ± {self.half_width_db:.1f} dBA"


def machine_alone(level_dba: float, level_se_db: float, background_dba: float, background_se_db: float) -> Alone:
    """Return what the machine alone is, from a reading with the machine on and one of the room, each with its standard
    error in dB.

    L_alone = L - K1, with K1 as in ``background_correction_db``. Less than 3 dB over the background K1 is held at 3 dB and
    the figure is an upper bound (ISO 3746; ISO 3744 wants 6 dB for its own grade; clauses from memory).
    """
    difference = level_dba - background_dba
    correction = background_correction_db(difference)
    if correction is None:
        bound = -10.0 * math.log10(1.0 - 10.0 ** (-0.1 * SURVEY_DB))
        return Alone(level_dba - bound, Z95 * level_se_db, True, "")
    share = 10.0 ** (-0.1 * difference)
    gain = 1.0 / (1.0 - share)  # how a change of the reading, and of the room, moves the figure
    error = math.hypot(gain * level_se_db, gain * share * background_se_db)
    method = "ISO 3744" if difference >= ENGINEERING_DB else "ISO 3746"
    return Alone(level_dba - correction, Z95 * error, False, method)


def background_correction_db(difference_db: float) -> float | None:
    """Return K1, what the background adds to a reading that lies ``difference_db`` above it, in dB.

    K1 = -10 lg(1 - 10^(-0.1 dL)); ``None`` below 3 dB, where the reading is only an upper bound for the machine
    (ISO 3746, from memory).
    """
    if difference_db < 3.0:
        return None
    return -10.0 * math.log10(1.0 - 10.0 ** (-0.1 * difference_db))
