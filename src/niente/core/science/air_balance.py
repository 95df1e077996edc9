"""How much air takes which way through a case, from the temperatures at its places and the heat that enters at each.

Air is neither made nor lost at a place, and it carries what warms it:

    sum of f over ways in = sum of f over ways out
    c sum of f (T_start - T_place) over ways in + Q_place = loss (T_place - T_room)

with the flows f in m3/h and c = 0.331 Wh/(m3 K), dry air at 25 °C and 101 325 Pa (Lemmon et al. 2000). Nothing else is used: no
fan's curve, no way's resistance. Where the sensors do not tell two ways apart, their flows are told together and each has a
wide interval. Solved as a least-squares problem in logarithms, with wide priors; intervals are those of its linear form about
the answer (Laplace).
"""

import msgspec
import numpy as np

from niente.core.science.arrays import Array, Indices, Mask, Vector
from niente.core.science.statistics import Z95, inverse

WATT_HOURS_PER_M3K = 0.331
ROOM_INDEX = -1
FAN_M3H, OPEN_M3H = (40.0, 0.9), (12.0, 1.3)
BACK_M3H, BREATHED_M3H = (3.0, 1.5), (0.7, 1.0)
"""Priors for a fan's flow, for a way without one, and for what goes such a way backwards, inside the case and through its
walls: median, and standard deviation of the logarithm. An opening that breathes both ways at once is rare."""
RISE_K = (8.0, 1.2)
LOSS_W_PER_K = (0.6, 0.7)
"""What a place loses through walls that no air carries off."""
SHARE_SD = 1.0
"""How well it is known where a heat enters, as a standard deviation of the logarithm of each of its parts."""
MASS_M3H = 0.3
HEAT_SHARE = 0.03
"""How exactly the balances are kept: what a handful of places leaves out of the truth."""
LEAST_K, LEAST_W = 0.05, 0.01


class EnteringHeat(msgspec.Struct, frozen=True):
    """One heat: its watts, how well they are known (standard deviation of the logarithm), and which share of it is thought to
    enter at each place ``(p,)``."""

    watts: float
    known_sd: float
    shares: Vector


class AirBalance(msgspec.Struct, frozen=True):
    """A case as the balances see it: ``w`` ways between ``p`` places, index -1 for the room.

    ``fans`` ``(w,)`` is how many fans blow along a way, each counted by its share of full speed; 0 where none does, and air may
    then go it backwards too. ``rise_k`` and ``rise_se_k`` ``(p,)`` are what sensors say, NaN where there is none.
    ``heats`` are all that enter.
    """

    start: tuple[int, ...]
    end: tuple[int, ...]
    fans: Vector
    rise_k: Vector
    rise_se_k: Vector
    heats: tuple[EnteringHeat, ...]


class AirFlows(msgspec.Struct, frozen=True):
    """What the balances tell. Currents are ways with a direction: ``way``, ``start`` and ``end`` ``(c,)`` of each, with its
    flow ``current_m3h`` ``(c,)``; ``rise_k`` ``(p,)`` is the rise of each place. ``covariance`` is that of their logarithms,
    currents first. The first currents are all ways as they are described, those behind them go backwards.
    """

    way: Indices
    start: Indices
    end: Indices
    current_m3h: Vector
    rise_k: Vector
    covariance: Array

    @property
    def rise_half_width_k(self) -> Vector:
        """The 95 % half width of each place's rise ``(p,)``, in K."""
        first = self.current_m3h.shape[0]
        half_width: Vector = Z95 * np.sqrt(np.diag(self.covariance))[first:] * self.rise_k
        return half_width

    def flow(self, *ways: int) -> tuple[float, float]:
        """Return the flow of ways together in m3/h, less what goes them backwards, with its 95 % half width."""
        count = int(self.way.max()) + 1
        along = np.where(np.arange(self.way.shape[0]) < count, 1.0, -1.0)
        slopes = np.isin(self.way, ways) * along * self.current_m3h
        return float(slopes.sum()), self._half_width(slopes)

    def share(self, some: Mask, whole: Mask) -> tuple[float, float]:
        """Return which share of the flow of the currents ``whole`` ``(c,)`` the currents ``some`` have, and its half width."""
        flow = self.current_m3h
        part, total = float(flow[some].sum()), float(flow[whole].sum())
        return part / total, self._half_width(flow * some / total - flow * whole * part / total**2)

    def _half_width(self, slopes: Vector) -> float:
        """Return the 95 % half width of what moves so with the logarithm of each current."""
        count = slopes.shape[0]
        return float(Z95 * np.sqrt(slopes @ self.covariance[:count, :count] @ slopes))


def air_flows(case: AirBalance) -> AirFlows:
    """Return the flows and rises that keep the balances and agree with the sensors best."""
    from scipy.optimize import least_squares

    problem = _Problem(case)
    found = least_squares(
        problem.missed,
        problem.means,
        jac=problem.slopes,
        method="lm",
        max_nfev=100,
        ftol=1e-6,
        xtol=1e-6,
        gtol=1e-6,
    )
    slopes = problem.slopes(found.x)
    known = problem.currents + case.rise_k.shape[0]
    levels = np.exp(found.x)
    return AirFlows(
        problem.way,
        problem.start,
        problem.end,
        levels[: problem.currents],
        levels[problem.currents : known],
        inverse(slopes.T @ slopes)[:known, :known],
    )


class _Problem:
    """The balances of a case over the logarithms of currents, rises, the heats' parts, and the loss through walls."""

    def __init__(self, case: AirBalance) -> None:
        self.case = case
        count, places = len(case.start), case.rise_k.shape[0]
        still = np.flatnonzero(case.fans <= 0.0)
        self.way = np.concatenate([np.arange(count), still])
        self.start = np.concatenate([np.array(case.start), np.array(case.end)[still]])
        self.end = np.concatenate([np.array(case.end), np.array(case.start)[still]])
        self.currents = self.way.shape[0]
        room_last = np.eye(places + 1)
        self.begins, self.ends = room_last[self.start][:, :places], room_last[self.end][:, :places]  # (c, p), the room left out
        self.sensed = np.isfinite(case.rise_k)
        self.heats = [heat for heat in case.heats if heat.watts > LEAST_W and heat.shares.any()]
        self.whole_w = max(sum(heat.watts for heat in self.heats), 1.0)
        at = [(index, place) for index, heat in enumerate(self.heats) for place in np.flatnonzero(heat.shares > 0.0).tolist()]
        self.of_heat = np.eye(len(self.heats))[[index for index, _ in at]].T  # (heats, parts)
        self.enters = np.eye(places)[[place for _, place in at]].T  # (places, parts)
        self.watts = np.array([heat.watts for heat in self.heats])
        self.known_sds = np.array([heat.known_sd for heat in self.heats])
        self.medians_w = np.array([self.heats[index].watts * self.heats[index].shares[place] for index, place in at])
        self.means, self.sds = self._priors()

    def _priors(self) -> tuple[Vector, Vector]:
        """Return the priors' means and standard deviations, in logarithms."""
        case, blown = self.case, self.case.fans > 0.0
        flows = np.where(blown, FAN_M3H[0] * np.maximum(case.fans, 0.05), OPEN_M3H[0])
        flow_sds = np.where(blown, FAN_M3H[1], OPEN_M3H[1])
        walls = ((self.start == ROOM_INDEX) | (self.end == ROOM_INDEX))[len(case.start) :]
        back, back_sds = (np.where(walls, BREATHED_M3H[part], BACK_M3H[part]) for part in (0, 1))
        rises = np.where(self.sensed, np.maximum(case.rise_k, LEAST_K), RISE_K[0])
        medians = np.concatenate([flows, back, rises, self.medians_w, [LOSS_W_PER_K[0]]])
        same = np.ones(rises.shape[0])
        unsure = np.full(self.medians_w.shape[0], SHARE_SD)
        sds = np.concatenate([flow_sds, back_sds, RISE_K[1] * same, unsure, [LOSS_W_PER_K[1]]])
        return np.log(medians), sds

    def _parts(self, at: Vector) -> tuple[Vector, Vector, Vector, float]:
        """Return currents, rises, the heats' parts and the loss."""
        levels, places = np.exp(at), self.case.rise_k.shape[0]
        return *np.split(levels[:-1], [self.currents, self.currents + places]), float(levels[-1])  # type: ignore[return-value]

    def missed(self, at: Vector) -> Vector:
        """Return by how many standard deviations balances, sensors and priors are missed."""
        flow, rise, parts, loss = self._parts(at)
        mass = (self.ends - self.begins).T @ flow
        brought = WATT_HOURS_PER_M3K * flow * ((self.begins - self.ends) @ rise)
        kept = self.ends.T @ brought + self.enters @ parts - loss * rise
        read = (rise - self.case.rise_k)[self.sensed] / self.case.rise_se_k[self.sensed]
        whole = np.log(self.of_heat @ parts / self.watts) / self.known_sds
        return np.concatenate([mass / MASS_M3H, kept / (HEAT_SHARE * self.whole_w), read, whole, (at - self.means) / self.sds])

    def slopes(self, at: Vector) -> Array:
        """Return how what is missed moves with each logarithm."""
        flow, rise, parts, loss = self._parts(at)
        count, places = self.currents, rise.shape[0]
        mass = np.zeros((places, at.shape[0]))
        mass[:, :count] = (self.ends - self.begins).T * flow
        heat = np.zeros((places, at.shape[0]))
        carried = WATT_HOURS_PER_M3K * flow
        heat[:, :count] = self.ends.T * (carried * ((self.begins - self.ends) @ rise))
        by_rise = (self.ends.T * carried) @ (self.begins - self.ends) - loss * np.eye(places)
        heat[:, count : count + places] = by_rise * rise
        heat[:, count + places : -1] = self.enters * parts
        heat[:, -1] = -loss * rise
        read = np.zeros((places, at.shape[0]))
        read[:, count : count + places] = np.diag(rise / self.case.rise_se_k)
        whole = np.zeros((len(self.heats), at.shape[0]))
        whole[:, count + places : -1] = self.of_heat * parts / (self.of_heat @ parts * self.known_sds)[:, None]
        return np.vstack(
            [mass / MASS_M3H, heat / (HEAT_SHARE * self.whole_w), read[self.sensed], whole, np.diag(1.0 / self.sds)]
        )
