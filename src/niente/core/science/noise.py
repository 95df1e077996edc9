"""The noise map: how loud a machine is in its room at any speeds of its fans, from half a minute a duty and no heat.

Each fan group follows a speed law, L = L_full + k lg(n/n_full), bent by what no law knows: resonances of blades, grilles and
panels. The bends are a Gaussian process over the logarithm of speed, at nodes. Groups and the room add as energies.
"""

import functools
import math

import msgspec
import numpy as np

from niente.core.science.arrays import Array, Vector
from niente.core.science.statistics import Z95, frozen

PER_DECADE, PER_DECADE_SD = 53.0, 3.0
"""Prior of the speed law in dB a decade of speed: 50 to 57 in practice."""
LEVEL_PRIOR_DB, LEVEL_PRIOR_SD = 38.0, 15.0
BACKGROUND_PRIOR_DB, BACKGROUND_PRIOR_SD = 30.0, 12.0
NODES = np.linspace(-1.2, 0.0, 17)
"""Where the bends stand, in lg of the share of full speed."""
BEND_SD_DB, BEND_DECADES = 1.0, 0.07
"""How large bends are, as a standard deviation, and over which distance they hang together. Common practice, no source."""
READING_FLOOR_DB = 0.15
"""What a room's background moves between one reading and the next, as a standard deviation."""
MODEL_SD_DB = 0.2
"""What bends at these nodes leave out, as a standard deviation."""
SILENT_DB = -20.0
TURNING_RPM = 30.0


class NoiseModel(msgspec.Struct, frozen=True):
    """In-room level over the fans' speeds: the background and one bent speed law a group, added as energies.

    ``background_dba`` belongs to the meter's place; ``level_dba`` (g,) is each group's level at its ``full_rpm``, before it
    is bent; ``per_decade`` (g,) its law in dB; ``bends`` (g, nodes) dB over the law at ``NODES``. ``covariance`` is of all of
    them in that order.
    """

    groups: tuple[str, ...]
    full_rpm: tuple[float, ...]
    background_dba: float
    level_dba: tuple[float, ...]
    per_decade: tuple[float, ...]
    bends: tuple[tuple[float, ...], ...]
    covariance: tuple[tuple[float, ...], ...]

    @property
    def background_sd_db(self) -> float:
        """How well the background is known, as a standard error in dB."""
        return math.sqrt(self.covariance[0][0])

    @property
    def background_hw_db(self) -> float:
        """How well the background is known, as a 95 % half width in dB."""
        return Z95 * self.background_sd_db

    def law_of(self, group: str) -> tuple[float, float]:
        """Return a group's speed law in dB a decade, and its 95 % half width. Raises ``ValueError`` for an unknown group."""
        index = self.groups.index(group)
        at = 1 + len(self.groups) + index
        return self.per_decade[index], Z95 * math.sqrt(self.covariance[at][at])

    def _values(self) -> Vector:
        return np.concatenate([[self.background_dba], self.level_dba, self.per_decade, np.ravel(self.bends)])

    def machine_alone(self, rpm: Array) -> Array:
        """Return the modelled level of the machine alone in dBA for speeds ``(..., g)`` in rpm."""
        parts, _ = _parts(np.asarray(rpm, float), np.asarray(self.full_rpm), self._values())
        alone: Array = 10.0 * np.log10(np.sum(10.0 ** (parts[..., 1:] / 10.0), axis=-1))
        return alone

    def in_room(self, rpm: Array) -> tuple[Array, Array]:
        """Return the in-room level in dBA and its 95 % half width in dB, for speeds ``(..., g)`` in rpm."""
        parts, slopes = _parts(np.asarray(rpm, float), np.asarray(self.full_rpm), self._values())
        level, gradient = _together(parts, slopes)
        variance = np.einsum("...i,ij,...j->...", gradient, np.asarray(self.covariance), gradient)
        machine = 1.0 - 10.0 ** ((parts[..., 0] - level) / 10.0)  # the model's own error touches only the machine's part
        return level, Z95 * np.sqrt(variance + (MODEL_SD_DB * machine) ** 2)


@functools.lru_cache(maxsize=1)
def _root() -> Array:
    """Return the lower root of the bends' prior covariance, ``(nodes, nodes)``."""
    apart = NODES[:, None] - NODES[None, :]
    covariance = BEND_SD_DB**2 * np.exp(-0.5 * (apart / BEND_DECADES) ** 2) + 1e-6 * np.eye(NODES.shape[0])
    return np.asarray(np.linalg.cholesky(covariance), dtype=np.float64)


def _parts(rpm: Array, full_rpm: Vector, values: Vector) -> tuple[Array, Array]:
    """Return the levels of background and groups, ``(..., 1 + g)``, and how each moves with the values, ``(..., 1 + g, p)``."""
    count, nodes = full_rpm.shape[0], NODES.shape[0]
    shape = rpm.shape[:-1]
    decades = np.log10(np.maximum(rpm / full_rpm, 1e-4))
    turning = rpm > TURNING_RPM
    weights = _interpolation(decades)
    parts = np.empty((*shape, 1 + count))
    slopes = np.zeros((*shape, 1 + count, values.shape[0]))
    parts[..., 0] = values[0]
    slopes[..., 0, 0] = 1.0
    for group in range(count):
        first = 1 + 2 * count + group * nodes
        bend = weights[..., group, :] @ values[first : first + nodes]
        level = values[1 + group] + values[1 + count + group] * decades[..., group] + bend
        heard = turning[..., group] & (level > SILENT_DB)
        parts[..., 1 + group] = np.where(heard, level, SILENT_DB)
        slopes[..., 1 + group, 1 + group] = heard
        slopes[..., 1 + group, 1 + count + group] = heard * decades[..., group]
        slopes[..., 1 + group, first : first + nodes] = heard[..., None] * weights[..., group, :]
    return parts, slopes


def _interpolation(decades: Array) -> Array:
    """Return the weights of the nodes at speeds ``(...)``, straight in between and held at the ends: ``(..., nodes)``."""
    step = float(NODES[1] - NODES[0])
    position = np.clip((decades - NODES[0]) / step, 0.0, NODES.shape[0] - 1.0)
    apart = np.abs(position[..., None] - np.arange(NODES.shape[0]))
    weights: Array = np.maximum(1.0 - apart, 0.0)
    return weights


def _together(parts: Array, slopes: Array) -> tuple[Array, Array]:
    """Return the energetic sum of levels ``(..., 1 + g)``, and how it moves with the values ``(..., p)``."""
    energies = 10.0 ** (parts / 10.0)
    total = np.sum(energies, axis=-1)
    shares = energies / total[..., None]
    return 10.0 * np.log10(total), np.einsum("...g,...gp->...p", shares, slopes)


def fit_noise(groups: tuple[str, ...], rpm: Array, level_dba: Vector, level_se_db: Vector) -> NoiseModel:
    """Fit background, speed laws and bends to readings.

    ``rpm`` has shape ``(n, g)``, ``level_dba`` and its standard error ``(n,)``. Maximum a posteriori with normal priors
    (k 53 ± 3 dB a decade; levels 38 ± 15 dBA; background 30 ± 12 dBA; bends 1 dB, correlated over 0.07 decades of speed),
    the bends whitened; the covariance is the inverse of the curvature there (Laplace). A group that was never varied keeps its
    prior, and the interval says so. Raises ``ValueError`` for fewer than two readings.
    """
    from scipy.optimize import least_squares

    if level_dba.shape[0] < 2:
        raise ValueError("a noise map needs at least two readings")
    count, nodes = len(groups), NODES.shape[0]
    full = np.maximum(np.max(rpm, axis=0), 60.0)
    weight = 1.0 / np.sqrt(level_se_db**2 + READING_FLOOR_DB**2)
    laws = 1 + 2 * count
    prior = np.array([BACKGROUND_PRIOR_DB, *[LEVEL_PRIOR_DB] * count, *[PER_DECADE] * count, *[0.0] * (count * nodes)])
    prior_sd = np.array([BACKGROUND_PRIOR_SD, *[LEVEL_PRIOR_SD] * count, *[PER_DECADE_SD] * count, *[1.0] * (count * nodes)])
    unwhiten = np.eye(prior.shape[0])
    for group in range(count):
        at = slice(laws + group * nodes, laws + (group + 1) * nodes)
        unwhiten[at, at] = _root()

    def look(at: Vector) -> tuple[Vector, Array]:
        return _together(*_parts(rpm, full, unwhiten @ at))

    def residuals(at: Vector) -> Vector:
        level, _ = look(at)
        return np.concatenate([(level - level_dba) * weight, (at - prior) / prior_sd])

    def slopes(at: Vector) -> Array:
        _, gradient = look(at)
        return np.vstack([(gradient @ unwhiten) * weight[:, None], np.diag(1.0 / prior_sd)])

    start = prior.copy()
    start[0] = float(np.min(level_dba))
    found = least_squares(residuals, start, jac=slopes)
    whitened = np.linalg.inv(found.jac.T @ found.jac)
    values, covariance = unwhiten @ found.x, unwhiten @ whitened @ unwhiten.T
    return NoiseModel(
        groups,
        tuple(full.tolist()),
        float(values[0]),
        tuple(values[1 : 1 + count].tolist()),
        tuple(values[1 + count : laws].tolist()),
        frozen(values[laws:].reshape(count, nodes)),
        frozen(covariance),
    )
