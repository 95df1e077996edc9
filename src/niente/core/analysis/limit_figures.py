"""What limits are set to, as the models know it of settings: each figure with its interval."""

import math

import msgspec
import numpy as np

from niente.core.analysis.beside import KnownFigure, beside_at
from niente.core.analysis.listener import listener_of_card
from niente.core.analysis.models import Models
from niente.core.analysis.prediction import LoadPrediction, SettingPredictions, headroom, percent_of_stock, predict_under_load
from niente.core.analysis.setting_batch import SettingBatch
from niente.core.model.limits import Limits, NoisePlace
from niente.core.science.arrays import Indices, Mask, Vector
from niente.core.science.fan_speed import STANDS_RPM

BACKGROUNDS = {NoisePlace.LISTENER_BY_DAY: "day_dba", NoisePlace.LISTENER_AT_NIGHT: "night_dba"}
"""The background at the listener's place that each place to judge noise at has."""


class LoadFigures(msgspec.Struct, frozen=True):
    """What one load comes to by itself at settings ``(n,)``: throughput in per cent of stock, and headroom in K."""

    throughput_percent: KnownFigure
    headroom_k: KnownFigure

    def rows(self, rows: Indices) -> "LoadFigures":
        """Return those of some settings."""
        return LoadFigures(self.throughput_percent.rows(rows), self.headroom_k.rows(rows))


class LimitFigures(msgspec.Struct, frozen=True):
    """All that limits may be set to, of settings ``(n,)``.

    ``heard_dba`` is the level where the limits judge it, ``over_background_db`` what it lies over the background there
    (NaN where that is not known); ``ceilings`` are further readings by quantity, ``each_load`` what single loads come to,
    both as far as the limits ask for them; ``stands`` says where a fan group stands.
    """

    throughput_percent: KnownFigure
    headroom_k: KnownFigure
    heard_dba: KnownFigure
    over_background_db: KnownFigure
    stands: Mask
    ceilings: dict[str, KnownFigure] = msgspec.field(default_factory=dict)
    each_load: dict[str, LoadFigures] = msgspec.field(default_factory=dict)

    def with_heat_known(self, near: Mask, half_width_k: float) -> "LimitFigures":
        """Return the figures as they would be known once a run had told the heat of settings ``near``, ``(n,)``."""

        def narrowed(known: KnownFigure) -> KnownFigure:
            width = np.where(near, np.minimum(known.half_width, half_width_k), known.half_width)
            return KnownFigure(known.value, width)

        each = {
            name: LoadFigures(figures.throughput_percent, narrowed(figures.headroom_k))
            for name, figures in self.each_load.items()
        }
        return msgspec.structs.replace(
            self,
            headroom_k=narrowed(self.headroom_k),
            ceilings={name: narrowed(known) for name, known in self.ceilings.items()},
            each_load=each,
        )

    def with_work_known(self, near: Mask, half_width_percent: Vector) -> "LimitFigures":
        """Return the figures as they would be known once a run had told the throughput of settings ``near``, ``(n,)``."""
        known = self.throughput_percent
        width = np.where(near, np.minimum(known.half_width, half_width_percent), known.half_width)
        return msgspec.structs.replace(self, throughput_percent=KnownFigure(known.value, width))

    def rows(self, rows: Indices) -> "LimitFigures":
        """Return those of some settings."""
        return LimitFigures(
            self.throughput_percent.rows(rows),
            self.headroom_k.rows(rows),
            self.heard_dba.rows(rows),
            self.over_background_db.rows(rows),
            self.stands[rows],
            {name: known.rows(rows) for name, known in self.ceilings.items()},
            {name: figures.rows(rows) for name, figures in self.each_load.items()},
        )


def limit_figures(
    models: Models, limits: Limits, settings: SettingBatch, heavy: LoadPrediction, predicted: SettingPredictions
) -> LimitFigures:
    """Return what the limits are set to; ``heavy`` is where settings settle under the load that heats, ``predicted`` what is
    said of them."""
    heard, over = _heard(models, limits, predicted)
    room_c = limits.design_room_c
    return LimitFigures(
        throughput_percent=KnownFigure(predicted.throughput_percent, predicted.throughput_hw),
        headroom_k=KnownFigure(predicted.headroom_k, predicted.core_hw),
        heard_dba=heard,
        over_background_db=over,
        stands=np.asarray((heavy.rpm <= STANDS_RPM).any(axis=1)),
        ceilings=beside_at(models, heavy, room_c, limits.ceilings),
        each_load={load: _of_load(models, settings, load, room_c, heavy) for load in limits.each_load},
    )


def _of_load(models: Models, settings: SettingBatch, load: str, room_c: float, heavy: LoadPrediction) -> LoadFigures:
    if load not in models.power.loads:
        nothing = np.full(settings.count, np.nan)
        return LoadFigures(KnownFigure(nothing, nothing), KnownFigure(nothing, nothing))
    there = heavy if load == heavy.load else predict_under_load(models, settings, load, room_c)
    percent, percent_hw = percent_of_stock(models, there, room_c)
    left = headroom(models, settings, there)
    settles = ~there.runaway
    return LoadFigures(
        KnownFigure(np.where(settles, percent, np.nan), percent_hw), KnownFigure(np.where(settles, left, np.nan), there.core_hw)
    )


def _heard(models: Models, limits: Limits, predicted: SettingPredictions) -> tuple[KnownFigure, KnownFigure]:
    """Return the levels where the limits judge the noise, at the listener's where that is known, and what they lie over the
    background there."""
    background = BACKGROUNDS.get(limits.noise_at)
    if background is None:
        levels, widths, there = predicted.in_room_dba, predicted.in_room_hw, models.noise.background_dba
    else:
        place = listener_of_card(models.card, background)
        errors = np.where(np.isfinite(predicted.alone_hw), predicted.alone_hw, 0.0)
        alone = np.where(np.isfinite(predicted.alone_at_most_dba), predicted.alone_at_most_dba, predicted.alone_dba)
        levels, widths = _columns([place.heard(*at) for at in zip(alone.tolist(), errors.tolist(), strict=True)])
        there = math.nan if place.background_dba is None else place.background_dba
    return KnownFigure(levels, widths), KnownFigure(levels - there, widths)


def _columns(pairs: list[tuple[float, float]]) -> tuple[Vector, Vector]:
    table = np.array(pairs, dtype=float).reshape(len(pairs), 2)
    return table[:, 0], table[:, 1]
