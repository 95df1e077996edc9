"""What is limited beside the cores: coolant, board, graphics, and the watts at the wall."""

from collections.abc import Iterable
from typing import NamedTuple

import numpy as np

from niente.core.analysis.model_runs import beside_readings, drawn_w, heat_runs
from niente.core.analysis.models import Models
from niente.core.analysis.prediction import LoadPrediction
from niente.core.analysis.settled_readings import BESIDE
from niente.core.model.names import kind_of
from niente.core.model.rig_card import RigCard
from niente.core.science.arrays import Array, Indices, Vector
from niente.core.science.heat.fit import fit_heat_path
from niente.core.science.heat.path import HeatPath
from niente.core.science.heat.sum import BESIDE_PRIOR
from niente.core.science.power.wall import WallLaw, fit_wall
from niente.core.science.remembered import Remembered

WALL = "wall_power_w"
STEP_W = 1.0


class KnownFigure(NamedTuple):
    """A figure of settings ``(n,)`` with its 95 % half width; NaN where it is not known."""

    value: Vector
    half_width: Vector

    def rows(self, rows: Indices) -> "KnownFigure":
        """Return that of some settings."""
        return KnownFigure(self.value[rows], self.half_width[rows])


class Beside(NamedTuple):
    """The paths from what is read beside the cores to the room, by channel, and the law of the wall."""

    paths: dict[str, HeatPath]
    wall: WallLaw | None


def readable(card: RigCard) -> tuple[str, ...]:
    """Return the quantities beside the cores that a rig reads, and that a choice may limit."""
    read = {kind_of(channel.name) for channel in card.channels}
    return tuple(name for name in (*BESIDE, WALL) if name in read)


def beside_of(models: Models) -> Beside:
    """Return what the runs tell of all that is read beside the cores; fitted when it is first asked for."""
    key = id(models.evidence), models.card.variant
    kept = _FITTED.get(key)
    if kept is not None and kept[0] is models.evidence:
        return kept[1]
    return _FITTED.put(key, (models.evidence, _fitted(models)))[1]


_FITTED: Remembered[tuple[int, str], tuple[object, Beside]] = Remembered(4)


def _fitted(models: Models) -> Beside:
    runs = heat_runs(models.evidence, models.noise.groups)
    reference, paths = (models.heavy_load, models.card.variant), {}
    for channel in models.card.channels:
        if kind_of(channel.name) not in BESIDE:
            continue
        readings = beside_readings(runs, models.noise.groups, models.heat.sources, channel.name)
        if readings is not None:
            paths[channel.name] = fit_heat_path(models.noise.groups, models.heat.sources, reference, readings, BESIDE_PRIOR)
    metered = [run for run, variant in runs if WALL in run.channels and variant == models.card.variant]
    inside = np.array([drawn_w(run) for run in metered], dtype=float)
    return Beside(paths, fit_wall(inside, np.array([run.channels[WALL].mean for run in metered], dtype=float)))


def beside_at(models: Models, steady: LoadPrediction, room_c: float, wanted: Iterable[str]) -> dict[str, KnownFigure]:
    """Return what quantities come to where settings settle under a load in a room, each at its hottest sensor; NaN where no
    runs tell, or nothing holds a setting."""
    found = {}
    for quantity in wanted:
        if quantity == WALL:
            found[quantity] = _wall(models, steady)
        else:
            found[quantity] = _hottest(models, steady, room_c, quantity)
    return found


def _wall(models: Models, steady: LoadPrediction) -> KnownFigure:
    law = beside_of(models).wall
    if law is None:
        return _unknown(steady)
    value, half_width = law.wall_w(steady.power_w + steady.sources_w)
    return KnownFigure(np.where(steady.runaway, np.nan, value), np.hypot(half_width, law.slope * steady.power_hw))


def _hottest(models: Models, steady: LoadPrediction, room_c: float, quantity: str) -> KnownFigure:
    hottest = _unknown(steady)
    changed = models.heat
    for channel, fitted in beside_of(models).paths.items():
        if kind_of(channel) != quantity:
            continue
        path = fitted.with_air(changed.carried)
        sources: Array = np.tile(np.array(models.sources_w[steady.load]), (steady.power_w.shape[0], 1))
        rise, half_width = path.rise(steady.power_w, steady.rpm, sources, steady.load)
        more = path.rise_alone(steady.power_w + STEP_W, steady.rpm, sources, steady.load)
        width = np.hypot(half_width, (more - rise) / STEP_W * steady.power_hw)
        value = np.where(steady.runaway, np.nan, room_c + rise)
        here = ~(value < hottest.value)  # also where nothing is known yet
        hottest = KnownFigure(np.where(here, value, hottest.value), np.where(here, width, hottest.half_width))
    return hottest


def _unknown(steady: LoadPrediction) -> KnownFigure:
    nothing = np.full(steady.power_w.shape[0], np.nan)
    return KnownFigure(nothing, nothing)
