"""What is known of the air in the case at a setting: the rise at each place, and how much air takes which way."""

import math

import msgspec
import numpy as np

from niente.core.analysis.models import Models
from niente.core.model.case_air import GRAPHICS, OTHER, PACKAGE, ROOM, CaseAir, CasePlace, CaseWay
from niente.core.science.air_balance import AirBalance, AirFlows, EnteringHeat, air_flows
from niente.core.science.arrays import Vector
from niente.core.science.statistics import Z95

UNMETERED_W = 30.0
"""What board, memory, drives and supply give off where nothing meters it. Common practice, no source."""
TOLD_SHARE = 0.5
"""A flow is told where its interval is no wider than this share of it, either way."""
LEAST_SE_K = 0.05
HEAT_SD = 0.15
"""How well it is known how much of a heat the air takes on, of the logarithm: part of it leaves through metal and walls. With
the meters' own few per cent a passive machine's inner flows were told in intervals that did not hold."""
ON_WAYS = 0.8
"""Of a heat that air takes along on a way, so much is thought to go with it, and the rest to warm where it stands."""


def _is_told(flow_m3h: float, half_width_m3h: float) -> bool:
    return half_width_m3h <= TOLD_SHARE * abs(flow_m3h)


class PlaceRise(msgspec.Struct, frozen=True):
    """A place's rise over the room in K with its 95 % half width; ``measured`` where a sensor reads it and runs tell it,
    otherwise it is inferred from what comes in and goes out."""

    place: CasePlace
    rise_k: float
    half_width_k: float
    measured: bool

    @property
    def told(self) -> bool:
        """Whether the rise is known well enough to be said."""
        return self.measured or self.half_width_k <= max(1.0, TOLD_SHARE * self.rise_k)


class WayFlow(msgspec.Struct, frozen=True):
    """A way's flow in m3/h with its 95 % half width (below nothing: backwards), the rise of the air that takes it (K), and
    whether a fan that turns blows along it."""

    way: CaseWay
    flow_m3h: float
    half_width_m3h: float
    rise_k: float
    blown: bool

    @property
    def told(self) -> bool:
        """Whether the sensors tell the flow."""
        return _is_told(self.flow_m3h, self.half_width_m3h)


class Bundle(msgspec.Struct, frozen=True):
    """Ways from one place to another whose flow the sensors tell only together, in m3/h with its 95 % half width, and the rise
    of the air that takes them (K)."""

    ways: tuple[CaseWay, ...]
    flow_m3h: float
    half_width_m3h: float
    rise_k: float


class Returned(msgspec.Struct, frozen=True):
    """Air that comes back: the place that it comes back to, and which share of the air there it is, with its 95 % half
    width."""

    place: CasePlace
    share: float
    half_width: float


class AirState(msgspec.Struct, frozen=True):
    """All of it at one setting; ``watts`` are what enters, by what makes it."""

    air: CaseAir
    places: tuple[PlaceRise, ...]
    streams: tuple[WayFlow, ...]
    bundles: tuple[Bundle, ...]
    returned: tuple[Returned, ...]
    watts: dict[str, float]

    def rise(self, place: str) -> PlaceRise | None:
        """Return a place's rise by name, or ``None``."""
        return next((one for one in self.places if one.place.name == place), None)


def air_state(models: Models, power_w: float, rpm: Vector, sources_w: Vector) -> AirState | None:
    """Return what the runs tell of the air at a power, speeds ``(g,)`` and metered sources ``(k,)`` in W; ``None`` where the
    rig does not say where air goes, or no run tells of any place."""
    air = models.card.air
    if air is None or not models.air:
        return None
    at = np.array([power_w]), rpm.reshape(1, -1), sources_w.reshape(1, -1)
    read = {channel: path.rise(*at) for channel, path in models.air.items()}
    other_w = _other_w(models, power_w + float(sources_w.sum()))
    graphics = sum(watts for name, watts in zip(models.heat.sources, sources_w.tolist(), strict=True) if GRAPHICS in name)
    watts = {PACKAGE: power_w, GRAPHICS: graphics, OTHER: other_w}
    case = _balance(air, models, read, rpm, watts)
    flows = air_flows(case)
    rise_hw = flows.rise_half_width_k
    measured = [place.channel in read for place in air.places]
    places = tuple(
        PlaceRise(place, float(read[place.channel][0][0]), float(read[place.channel][1][0]), measured=True)
        if known
        else PlaceRise(place, float(flows.rise_k[index]), float(rise_hw[index]), measured=False)
        for index, (place, known) in enumerate(zip(air.places, measured, strict=True))
    )
    rises = {one.place.name: one.rise_k for one in places} | {ROOM: 0.0}
    streams = []
    for index, way in enumerate(air.ways):
        flow, half_width = flows.flow(index)
        rise_k = rises[way.start if flow >= 0.0 else way.end]
        streams.append(WayFlow(way, flow, half_width, rise_k, bool(case.fans[index] > 0.0)))
    return AirState(air, places, tuple(streams), _bundles(air, flows, streams, rises), _returned(air, flows), watts)


def _bundles(air: CaseAir, flows: AirFlows, streams: list[WayFlow], rises: dict[str, float]) -> tuple[Bundle, ...]:
    """Return the ways between the same two places that are told together and not one by one."""
    found = []
    for ends in dict.fromkeys((way.start, way.end) for way in air.ways):
        which = [index for index, way in enumerate(air.ways) if (way.start, way.end) == ends]
        flow, half_width = flows.flow(*which)
        if len(which) > 1 and _is_told(flow, half_width) and not any(streams[index].told for index in which):
            rise = rises[ends[0] if flow >= 0.0 else ends[1]]
            found.append(Bundle(tuple(air.ways[index] for index in which), flow, half_width, rise))
    return tuple(found)


def _balance(
    air: CaseAir, models: Models, read: dict[str, tuple[Vector, Vector]], rpm: Vector, watts: dict[str, float]
) -> AirBalance:
    number = {place.name: index for index, place in enumerate(air.places)} | {ROOM: -1}
    speed = dict(zip(models.heat.groups, (rpm / np.asarray(models.heat.full_rpm)).tolist(), strict=True))
    nothing = (np.array([math.nan]), np.array([math.nan]))
    readings = [read.get(place.channel, nothing) for place in air.places]
    return AirBalance(
        start=tuple(number[way.start] for way in air.ways),
        end=tuple(number[way.end] for way in air.ways),
        fans=np.array([way.fans * max((speed.get(group, 1.0) for group in way.groups), default=0.0) for way in air.ways]),
        rise_k=np.array([float(rise[0]) for rise, _ in readings]),
        rise_se_k=np.array([max(float(half_width[0]) / Z95, LEAST_SE_K) for _, half_width in readings]),
        heats=tuple(EnteringHeat(watts[kind], HEAT_SD, _shares(air, kind)) for kind in watts),
    )


def _shares(air: CaseAir, kind: str) -> Vector:
    """Return which share of a heat is thought to enter at each place ``(p,)``: most of it where the air arrives that it warms
    on a way, the rest where it warms a place by itself."""
    arrives = np.array(
        [sum(way.end == place.name and kind in way.warmed_by for way in air.ways) for place in air.places], float
    )
    stands = np.array([kind in place.warmed_by for place in air.places], float)
    if not arrives.any() or not stands.any():
        shares: Vector = (arrives + stands) / max(float((arrives + stands).sum()), 1.0)
    else:
        shares = ON_WAYS * arrives / arrives.sum() + (1.0 - ON_WAYS) * stands / stands.sum()
    return shares


def _other_w(models: Models, metered_w: float) -> float:
    """Return what is given off beside what is metered, in W: what the wall meter reads more, as a straight line over it."""
    pairs = [
        (
            run.power_w + sum(watts for watts in run.sources_w.values() if math.isfinite(watts)),
            run.channels["wall_power_w"].mean,
        )
        for run in models.usable()
        if "wall_power_w" in run.channels
    ]
    known = np.array([pair for pair in pairs if np.isfinite(pair).all()]).reshape(-1, 2)
    if known.shape[0] < 2 or float(np.ptp(known[:, 0])) < 1.0:
        return UNMETERED_W if not known.shape[0] else max(float(np.mean(known[:, 1] - known[:, 0])), 1.0)
    slope, level = np.polyfit(known[:, 0], known[:, 1] - known[:, 0], 1)
    return max(float(level + slope * metered_w), 1.0)


def _returned(air: CaseAir, flows: AirFlows) -> tuple[Returned, ...]:
    """Return the places that the room feeds and to which air of the case comes back, by ways in which no fan stands."""
    number = {place.name: index for index, place in enumerate(air.places)}
    still = np.array([not way.fans for way in air.ways])[flows.way]
    found = []
    for place in air.returning():
        fed = np.isin(flows.start, [number[name] for name in air.behind(place.name)])
        into = flows.end == number[place.name]
        back = into & still & fed
        found.append(Returned(place, *flows.share(back, into)))
    return tuple(found)
