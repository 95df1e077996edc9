"""How far the hottest core rises over the room, from package power and fan speeds."""

import math

import msgspec
import numpy as np
from numpy.typing import NDArray

from niente.core.science.statistics import Z95, propagated_variance

Vector = NDArray[np.float64]
Array = NDArray[np.float64]

ROOM_GAIN = 1.05
"""Kelvin of core for a kelvin of room, leakage included (1.03 to 1.07 in practice)."""
FLOOR_SD_K = 0.3
"""What the model leaves out, as a standard deviation: an interval is never tighter than about ±0.6 K."""

# Parameters, in logarithms: theta0, a, w, b, u (K/W and shares), other heat (W), exponent m.
_PRIOR = np.log(np.array([0.25, 0.05, 0.15, 0.03, 0.15, 35.0, 0.7]))
_PRIOR_SD = np.array([0.8, 0.8, 0.6, 0.8, 0.6, 0.7, 0.1])


class ThermalModel(msgspec.Struct, frozen=True):
    """rise = P (theta0 + a/(w + r_cooler^m) + b/(u + r_case^m)) + other heat x b/(u + r_case^m).

    r are speeds over the highest speed seen. ``logs`` are the logarithms of (theta0, a, w, b, u, other heat, m);
    ``residual_sd_k`` what the runs scatter about the fit.
    """

    cooler_full_rpm: float
    case_full_rpm: float
    logs: tuple[float, ...]
    covariance: tuple[tuple[float, ...], ...]
    residual_sd_k: float
    runs: int

    def rise(self, power_w: Array, cooler_rpm: Array, case_rpm: Array) -> tuple[Array, Array]:
        """Return the rise of the hottest core over the room in K and its 95 % half width; shapes broadcast."""
        power, cooler, case = np.broadcast_arrays(
            np.asarray(power_w, float), np.asarray(cooler_rpm, float), np.asarray(case_rpm, float)
        )
        r_cooler, r_case = cooler / self.cooler_full_rpm, case / self.case_full_rpm
        logs = np.asarray(self.logs)

        def at(parameters: Vector) -> Array:
            return _rise(parameters, power, r_cooler, r_case)

        variance = propagated_variance(at, logs, np.asarray(self.covariance))
        return at(logs), Z95 * np.sqrt(variance + max(self.residual_sd_k, FLOOR_SD_K) ** 2)

    def resistance(self, cooler_rpm: float, case_rpm: float) -> tuple[float, float]:
        """Return the thermal resistance from hottest core to room in K/W at fan speeds, and its 95 % half width."""
        r_cooler, r_case = np.array(cooler_rpm / self.cooler_full_rpm), np.array(case_rpm / self.case_full_rpm)
        logs = np.asarray(self.logs)

        def a_watt_more(parameters: Vector) -> Array:
            one, none = np.array(1.0), np.array(0.0)
            return _rise(parameters, one, r_cooler, r_case) - _rise(parameters, none, r_cooler, r_case)

        variance = propagated_variance(a_watt_more, logs, np.asarray(self.covariance))
        return float(a_watt_more(logs)), Z95 * math.sqrt(float(variance))


class Rung(msgspec.Struct, frozen=True):
    """One rung of the heat path: from where to where, the kelvins lost there, and how many of them fans could win.

    ``half_width_k`` (95 %) belongs to ``kelvin``; ``by_fans_k`` is what the fans at their fastest would take away.
    """

    name: str
    kelvin: float
    half_width_k: float
    by_fans_k: float


def typical_model(cooler_full_rpm: float, case_full_rpm: float) -> ThermalModel:
    """Return the heat path as it is before anything was measured: the priors, with their wide intervals."""
    covariance = np.diag(_PRIOR_SD**2)
    return ThermalModel(
        max(cooler_full_rpm, 1.0),
        max(case_full_rpm, 1.0),
        tuple(_PRIOR.tolist()),
        tuple(tuple(row) for row in covariance.tolist()),
        FLOOR_SD_K,
        0,
    )


def heat_path(model: ThermalModel, power_w: float, cooler_rpm: float, case_rpm: float) -> tuple[Rung, ...]:
    """Return the rungs from the hottest core to the room at a package power and fan speeds, core first.

    A steady state does not tell core to spreader from spreader to cooler: they are one rung. The kelvins of all rungs
    add up to the model's rise.
    """
    r_cooler, r_case = np.array(cooler_rpm / model.cooler_full_rpm), np.array(case_rpm / model.case_full_rpm)
    logs, covariance = np.asarray(model.logs), np.asarray(model.covariance)
    fastest = np.array(1.0)

    def parts(at: Vector, cooler: Array, case: Array) -> Vector:
        theta0, a, w, b, u, other, m = np.exp(at)
        return np.array(
            [power_w * theta0, power_w * a / (w + cooler**m), (power_w + other) * b / (u + case**m)],
        )

    now = parts(logs, r_cooler, r_case)
    best = np.minimum(parts(logs, fastest, fastest), now)
    names = ("Core to cooler", "Cooler to case air", "Case air to room")
    rungs = []
    for place, name in enumerate(names):

        def one(at: Vector, place: int = place) -> Array:
            return np.array(parts(at, r_cooler, r_case)[place])

        variance = float(propagated_variance(one, logs, covariance))
        rungs.append(Rung(name, float(now[place]), Z95 * math.sqrt(variance), float(now[place] - best[place])))
    return tuple(rungs)


def thermal_resistance_kpw(rise_k: float, power_w: float) -> float:
    """Return the thermal resistance in K/W of a path that rises by ``rise_k`` under ``power_w`` (definition)."""
    return rise_k / power_w


def _rise(logs: Vector, power: Array, r_cooler: Array, r_case: Array) -> Array:
    theta0, a, w, b, u, other, m = np.exp(logs)
    case = b / (u + np.maximum(r_case, 0.0) ** m)
    cooler = a / (w + np.maximum(r_cooler, 0.0) ** m)
    rise: Array = power * (theta0 + cooler + case) + other * case
    return rise


def fit_rise(power_w: Vector, rise_k: Vector, rise_se_k: Vector, cooler_rpm: Vector, case_rpm: Vector) -> ThermalModel:
    """Fit the heat path to settled runs; all arrays of shape ``(n,)``, n at least 3, ``rise_se_k`` standard errors.

    Maximum a posteriori with log-normal priors on every parameter, so that what the runs do not tell apart stays
    within what is physical and widens the interval. Raises ``ValueError`` for fewer than three runs.
    """
    from scipy.optimize import least_squares

    n = power_w.shape[0]
    if n < 3:
        raise ValueError("the heat path needs at least three settled runs")
    full = max(float(np.max(cooler_rpm)), 1.0), max(float(np.max(case_rpm)), 1.0)
    r_cooler, r_case = cooler_rpm / full[0], case_rpm / full[1]
    # The floor of a settled temperature is common to all runs (a sensor's offset), not scatter between them.
    weight = 1.0 / np.sqrt(np.maximum(rise_se_k**2 - FLOOR_SD_K**2 / 2, 0.0) + 0.2**2)

    def residuals(logs: Vector) -> Vector:
        data = (_rise(logs, power_w, r_cooler, r_case) - rise_k) * weight
        return np.concatenate([data, (logs - _PRIOR) / _PRIOR_SD])

    result = least_squares(residuals, _PRIOR, bounds=(_PRIOR - 4 * _PRIOR_SD, _PRIOR + 4 * _PRIOR_SD))
    off = _rise(result.x, power_w, r_cooler, r_case) - rise_k
    return ThermalModel(
        *full,
        tuple(result.x.tolist()),
        tuple(tuple(row) for row in np.linalg.inv(result.jac.T @ result.jac).tolist()),
        float(np.sqrt(np.mean(off**2) * n / max(n - 3, 1))),
        n,
    )


def expected_covariance(
    model: ThermalModel, power_w: Vector, cooler_rpm: Vector, case_rpm: Vector, half_width_k: Vector
) -> tuple[tuple[float, ...], ...]:
    """Return the covariance that the heat path would have once runs were made too, each known to ± ``half_width_k``
    (95 %), arrays ``(n,)``: the information of the runs, linear about the model, adds to what is known (textbook)."""
    logs = np.asarray(model.logs)
    r_cooler, r_case = cooler_rpm / model.cooler_full_rpm, case_rpm / model.case_full_rpm
    step = 1e-4
    slopes = np.stack(
        [
            (_rise(logs + step * unit, power_w, r_cooler, r_case) - _rise(logs - step * unit, power_w, r_cooler, r_case))
            / (2 * step)
            for unit in np.eye(logs.shape[0])
        ],
        axis=-1,
    )
    weight = 1.0 / (np.maximum((half_width_k / Z95) ** 2 - FLOOR_SD_K**2 / 2, 0.0) + 0.2**2)
    information = np.linalg.inv(np.asarray(model.covariance)) + slopes.T @ (slopes * weight[:, np.newaxis])
    return tuple(tuple(row) for row in np.linalg.inv(information).tolist())


def at_room(rise_k: Array, measured_room_c: float, room_c: float) -> Array:
    """Return the core temperature in °C at another room than the one measured in (see ``ROOM_GAIN``)."""
    return room_c + rise_k + (ROOM_GAIN - 1.0) * (room_c - measured_room_c)
