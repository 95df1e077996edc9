"""Sums of exponentials: the time constants of a machine, from a run that has settled or nearly.

Settling forecasts average over a grid of constants (see ``settling``); here they are fitted, for a person to read.
"""

import math

import msgspec
import numpy as np

from niente.core.science.arrays import Array, Vector
from niente.core.science.settling import BIN_S, binned, lagged
from niente.core.science.statistics import Z95

FIRST_GUESS_S = (40.0, 400.0)
SLOWEST_SHARE = 0.6
"""A constant longer than this share of the run is not told from it."""
TOLERANCE = 1e-13


class Exponentials(msgspec.Struct, frozen=True):
    """y(t) = end + sum of amplitude_i e^(-t/tau_i). ``taus`` (k,) are rising, in the unit of t; standard errors by least
    squares; ``residual_sd`` with n - (1 + 2k) degrees of freedom."""

    end: float
    end_se: float
    amplitudes: tuple[float, ...]
    amplitude_ses: tuple[float, ...]
    taus: tuple[float, ...]
    tau_ses: tuple[float, ...]
    residual_sd: float


def fit_exponentials(t: Vector, y: Vector, guesses: tuple[float, ...], *, from_zero: bool = False) -> Exponentials:
    """Fit a constant and exponentials to ``y`` ``(n,)`` at ``t`` ``(n,)``, starting from time constants guessed.

    Variable projection (Golub and Pereyra 1973): the constants are searched in their logarithms, the end and the amplitudes
    follow from them by linear least squares. ``from_zero`` ties the amplitudes so that y(0) = 0; with one exponential that
    is end (1 - e^(-t/tau)). Raises ``ValueError`` for fewer points than parameters.
    """
    from scipy.optimize import least_squares

    parameters = 2 * len(guesses) + (0 if from_zero else 1)
    if t.shape[0] <= parameters:
        raise ValueError(f"{parameters} parameters need more than {t.shape[0]} points")

    def basis(taus: Vector) -> Array:
        decays = np.exp(-t[:, None] / taus)
        return 1.0 - decays if from_zero else np.column_stack([np.ones(t.shape[0]), decays])

    def residuals(logs: Vector) -> Vector:
        columns = basis(np.exp(logs))
        linear, *_ = np.linalg.lstsq(columns, y, rcond=None)
        left: Vector = columns @ linear - y
        return left

    found = least_squares(
        residuals, np.log(guesses), method="lm", xtol=TOLERANCE, ftol=TOLERANCE, gtol=TOLERANCE, max_nfev=5000
    )
    taus = np.sort(np.exp(found.x))
    columns = basis(taus)
    linear, *_ = np.linalg.lstsq(columns, y, rcond=None)
    left = y - columns @ linear
    residual_sd = math.sqrt(float(left @ left) / (t.shape[0] - parameters))
    amplitudes = -linear if from_zero else linear[1:]
    slopes = amplitudes * t[:, None] / taus**2 * np.exp(-t[:, None] / taus)
    jacobian = np.column_stack([columns, slopes])
    # Where two constants fall together the curvature is singular: what it then says of their errors is nothing.
    variances = np.diag(np.linalg.pinv(jacobian.T @ jacobian))
    errors = np.where(variances > 0.0, residual_sd * np.sqrt(np.maximum(variances, 0.0)), np.inf)
    end, end_se = (float(linear.sum()), float(errors[0])) if from_zero else (float(linear[0]), float(errors[0]))
    first = 0 if from_zero else 1
    return Exponentials(
        end,
        end_se,
        tuple(amplitudes.tolist()),
        tuple(errors[first : first + len(taus)].tolist()),
        tuple(taus.tolist()),
        tuple(errors[first + len(taus) :].tolist()),
        residual_sd,
    )


class TimeConstant(msgspec.Struct, frozen=True):
    """A time constant in s, and its 95 % half width."""

    seconds: float
    half_width_s: float


def time_constants(time_s: Vector, core_c: Vector, room_c: Vector) -> tuple[TimeConstant, ...]:
    """Return the time constants of a run under steady power, those that it was long enough to tell; none where it was not.

    ``time_s``, ``core_c`` and ``room_c`` have shape ``(n,)``; the lagged room is taken out, bins of ``BIN_S`` are fitted.
    """
    if time_s.shape[0] < 2 or not (np.all(np.isfinite(core_c)) and np.all(np.isfinite(room_c))):
        return ()
    per_bin = max(1, round(BIN_S * (time_s.shape[0] - 1) / max(float(time_s[-1] - time_s[0]), 1.0)))
    t = binned(time_s, per_bin) - float(time_s[0])
    if t.shape[0] < 30:
        return ()
    y = binned(core_c, per_bin) - lagged(binned(time_s, per_bin), binned(room_c, per_bin))
    try:
        with np.errstate(all="ignore"):  # a search that runs away is no answer, and no error
            found = fit_exponentials(t, y, FIRST_GUESS_S)
    except (ValueError, np.linalg.LinAlgError):
        return ()
    constants = [
        TimeConstant(tau, Z95 * error)
        for tau, error, size in zip(found.taus, found.tau_ses, found.amplitudes, strict=True)
        if size < 0 and BIN_S < tau < SLOWEST_SHARE * float(t[-1]) and Z95 * error < 0.5 * tau
    ]
    return tuple(constants)
