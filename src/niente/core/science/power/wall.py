"""What the wall gives for what is metered inside: a straight line over the watts that readings lie in.

A supply loses a share that changes little over the loads of one machine, and board, drives and fans draw a constant amount
beside; what the line leaves out (the bend of the supply's efficiency) is in the interval as the scatter about it.
"""

import math

import msgspec
import numpy as np

from niente.core.science.arrays import Array, Vector
from niente.core.science.statistics import Z95, frozen, inverse, quadratic

LEAST_SD_W = 0.3
"""A meter and the means of a run agree no better than this."""
USUAL_SLOPE, SLOPE_SD = 1.12, 0.06
"""Watts at the wall a watt inside: supplies of 85 to 94 % where they work well. Common practice, no source."""
BEYOND_SHARE = 0.04
"""What the line may be off by beyond the watts that were read, as a share of the way there."""
MIN_READINGS = 3


class WallLaw(msgspec.Struct, frozen=True):
    """Watts at the wall: ``beside_w`` and a ``slope``, with the covariance of both, the scatter ``sd_w`` about the line, and
    the least and most watts inside that were read."""

    beside_w: float
    slope: float
    covariance: tuple[tuple[float, ...], ...]
    sd_w: float
    read_w: tuple[float, float]

    def wall_w(self, inside_w: Vector) -> tuple[Vector, Vector]:
        """Return the watts at the wall for metered watts inside ``(n,)``, and their 95 % half width."""
        slopes = np.column_stack([np.ones_like(inside_w), inside_w])
        beyond = np.maximum(np.maximum(self.read_w[0] - inside_w, inside_w - self.read_w[1]), 0.0)
        variance = quadratic(slopes, self.covariance) + self.sd_w**2 + (BEYOND_SHARE * beyond) ** 2
        half_width: Vector = Z95 * np.sqrt(variance)
        return self.beside_w + self.slope * inside_w, half_width


def fit_wall(inside_w: Vector, wall_w: Vector) -> WallLaw | None:
    """Return the line through readings ``(n,)`` in W by least squares (textbook), drawn to what supplies usually lose where the
    readings lie close together; ``None`` for fewer than three."""
    known = np.isfinite(inside_w) & np.isfinite(wall_w)
    inside, wall = inside_w[known], wall_w[known]
    if inside.shape[0] < MIN_READINGS:
        return None
    sd, at = LEAST_SD_W, (0.0, 0.0)
    information: Array = np.eye(2)
    for _ in range(3):  # the scatter is that about the line, and the line weighs by the scatter
        columns = np.column_stack([np.ones_like(inside), inside])
        information = columns.T @ columns / sd**2 + np.diag([0.0, 1.0 / SLOPE_SD**2])
        aimed = columns.T @ wall / sd**2 + np.array([0.0, USUAL_SLOPE / SLOPE_SD**2])
        found = np.linalg.solve(information, aimed)
        at = (float(found[0]), float(found[1]))
        left = wall - columns @ found
        sd = math.hypot(LEAST_SD_W, float(np.sqrt(np.sum(left**2) / max(inside.shape[0] - 2, 1))))
    return WallLaw(*at, frozen(inverse(information)), sd, (float(inside.min()), float(inside.max())))
