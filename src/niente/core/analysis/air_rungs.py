"""The heat path with the air's places in it: from the core to the air that its cooler takes in, and from there to the room, by
what warms that air. What the sensors do not tell apart is one rung."""

import math

import msgspec
import numpy as np

from niente.core.analysis.models import Models
from niente.core.model.case_air import PACKAGE, CaseAir
from niente.core.science.heat.path import HeatPath
from niente.core.science.heat.rungs import Rung, RungKind, heat_rungs


class PathSetting(msgspec.Struct, frozen=True):
    """What a path is looked at under: package power (W), speeds ``(g,)`` in rpm, and metered sources ``(k,)`` in W."""

    power_w: float
    rpm: tuple[float, ...]
    sources_w: tuple[float, ...]

    def rise(self, path: HeatPath) -> tuple[float, float]:
        """Return a path's rise here in K, and its 95 % half width."""
        rise, half_width = path.rise(np.array([self.power_w]), np.array([self.rpm]), np.array([self.sources_w]))
        return float(rise[0]), float(half_width[0])

    def added_by(self, path: HeatPath, source: int) -> tuple[float, float]:
        """Return what one source adds to a path's rise here in K, and its 95 % half width."""
        without = tuple(0.0 if index == source else watts for index, watts in enumerate(self.sources_w))
        return path.difference(
            np.full(2, self.power_w), np.array([self.rpm] * 2), np.array([without, self.sources_w]).reshape(2, -1)
        )

    def changed_by(self, path: HeatPath, variant: str) -> tuple[float, float]:
        """Return by how many K a variant changes a path's rise here, and its 95 % half width."""
        twice = np.full(2, self.power_w), np.array([self.rpm] * 2), np.array([self.sources_w] * 2).reshape(2, -1)
        return path.difference(*twice, ("", variant))

    def faster(self, full_rpm: tuple[float, ...]) -> "PathSetting":
        """Return the same with every fan at its fastest."""
        return msgspec.structs.replace(self, rpm=tuple(np.maximum(self.rpm, full_rpm).tolist()))


class _Cause(msgspec.Struct, frozen=True):
    """A part of the air's rise: what it is, and how many kelvins now and with the fans at their fastest."""

    kind: RungKind
    at: str
    now_k: float
    half_width_k: float
    full_k: float

    def rung(self) -> Rung:
        """Return the part as a rung."""
        by_fans = min(max(self.now_k - self.full_k, 0.0), max(self.now_k, 0.0))
        return Rung("", self.now_k, self.half_width_k, by_fans, self.kind, self.at)


def path_rungs(models: Models, here: PathSetting) -> tuple[Rung, ...]:
    """Return the rungs from the core to the room at a setting; their kelvins add up to the rise of the heat path.

    Their half widths do not: rungs trade against each other, and the whole is better known than its parts.
    """
    path, full = models.heat, here.faster(models.heat.full_rpm)
    plain = heat_rungs(path, here.power_w, here.rpm)
    whole, _ = here.rise(path)
    added = _added(path, here, full)
    channel = _taken_in(models)
    if channel is None or here.rise(models.air[channel])[0] >= whole:  # no air is warmer than the core: that sensor lies
        own = whole - sum(rung.kelvin for rung in plain) - sum(cause.now_k for cause in added)
        first = msgspec.structs.replace(plain[0], kelvin=plain[0].kelvin + own)
        return (first, *plain[1:], *(cause.rung() for cause in added))
    return _with_places(models, here, full, plain, channel)


def _taken_in(models: Models) -> str | None:
    """Return the channel of the air that the cooler takes in, where runs tell of it."""
    air = models.card.air
    place = air.place(air.taken_in) if air is not None else None
    return place.channel if place is not None and place.channel in models.air else None


def _added(path: HeatPath, here: PathSetting, full: PathSetting) -> list[_Cause]:
    """Return what each metered source that gives something adds to a path's rise."""
    found = []
    for index, source in enumerate(path.sources):
        if here.sources_w[index] > 0.0:
            now, wide = here.added_by(path, index)
            found.append(_Cause(RungKind.SOURCE, source, now, wide, full.added_by(path, index)[0]))
    return found


def _with_places(
    models: Models, here: PathSetting, full: PathSetting, plain: tuple[Rung, ...], channel: str
) -> tuple[Rung, ...]:
    """Return the rungs where a sensor reads the air that the cooler takes in."""
    air = models.card.air
    assert air is not None
    (whole, _), (whole_full, _) = here.rise(models.heat), full.rise(models.heat)
    taken, wide = here.rise(models.air[channel])
    taken_full = full.rise(models.air[channel])[0]
    upper = [rung for rung in plain[1:] if rung.group in _of_the_cooler(air, models.heat.groups)]
    core_k = whole - taken - sum(rung.kelvin for rung in upper)
    first = msgspec.structs.replace(plain[0], kelvin=core_k)
    by_fans = min(max(whole - taken - whole_full + taken_full, 0.0), sum(rung.kelvin for rung in upper))
    own_gain = sum(rung.by_fans_k for rung in upper)
    if own_gain > 0.0:
        upper = [msgspec.structs.replace(rung, by_fans_k=rung.by_fans_k / own_gain * by_fans) for rung in upper]
    return (first, *upper, *_causes(models, here, full, _Cause(RungKind.OWN, air.taken_in, taken, wide, taken_full), channel))


def _causes(models: Models, here: PathSetting, full: PathSetting, taken: _Cause, channel: str) -> list[Rung]:
    """Return the rise of the air that is taken in by what warms it: itself, each other source, what comes back at the front."""
    air = models.card.air
    assert air is not None
    added, parts = _added(models.air[channel], here, full), []
    back = next((place.channel for place in air.returning() if place.channel in models.air), None)
    if back == channel:
        taken = msgspec.structs.replace(taken, kind=RungKind.RETURN)
    elif back is not None:
        (now, wide), (then, _) = here.rise(models.air[back]), full.rise(models.air[back])
        there = _added(models.air[back], here, full)
        added = [
            msgspec.structs.replace(one, now_k=max(one.now_k - other.now_k, 0.0), full_k=max(one.full_k - other.full_k, 0.0))
            for one, other in zip(added, there, strict=True)
        ]
        place = next(place for place in air.places if place.channel == back)
        parts.append(_Cause(RungKind.RETURN, place.name, now, wide, then))
    rest, rest_full = (sum(cause.now_k for cause in (*added, *parts)), sum(cause.full_k for cause in (*added, *parts)))
    spread = math.hypot(taken.half_width_k, *(cause.half_width_k for cause in parts))
    own = msgspec.structs.replace(taken, now_k=taken.now_k - rest, full_k=taken.full_k - rest_full, half_width_k=spread)
    return [cause.rung() for cause in (own, *added, *parts)]


def _of_the_cooler(air: CaseAir, groups: tuple[str, ...]) -> set[str]:
    """Return the groups that work between the core and the air: those that blow through the cooler, and pumps, which stand in
    no way of the air."""
    through = {group for way in air.ways if PACKAGE in way.warmed_by for group in way.groups}
    anywhere = {group for way in air.ways for group in way.groups}
    return through | (set(groups) - anywhere)
