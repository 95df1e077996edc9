"""A map as it was asked for: the field, what it is set against, rise against watts, and the noise of the fan groups."""

import math

import msgspec
import numpy as np

from niente.core.analysis.evidence import Evidence
from niente.core.analysis.fan_noise import Loudness, loudness_of
from niente.core.analysis.grid import DEFAULT_GRID_VIEW, GridView, SettingGrid, survey_grid
from niente.core.analysis.models import Models, fit_models
from niente.core.analysis.rise_lines import WattLines, watt_lines
from niente.core.model.errors import NotEnoughError
from niente.core.model.limits import Limits
from niente.core.model.setting import Setting
from niente.core.science.arrays import Mask, Vector

HOTTER_K = 4.0
"""Capacity is told in the room asked for, and in one that is so much hotter."""


class MapRequest(msgspec.Struct, frozen=True):
    """What a map is asked for: the view, the room (``None``: the design room), and a variant to set it against, if any."""

    view: GridView = DEFAULT_GRID_VIEW
    room_c: float | None = None
    against: str = ""


class SettingMap(msgspec.Struct, frozen=True):
    """The answer. ``other`` is the same field in the variant it is set against; ``limits`` are those of the choice, in the room
    asked for."""

    request: MapRequest
    limits: Limits
    models: Models
    field: SettingGrid
    watts: WattLines
    loudness: Loudness
    other: SettingGrid | None = None

    @property
    def room_c(self) -> float:
        """The room that temperatures are told in."""
        return self.limits.design_room_c


def make_map(models: Models, limits: Limits, request: MapRequest, chosen: Setting | None = None) -> SettingMap:
    """Work a map out. Raises ``NotEnoughError`` where the other variant has too few runs."""
    here = limits if request.room_c is None else msgspec.structs.replace(limits, design_room_c=request.room_c)
    field = survey_grid(models, here, request.view, chosen)
    rooms = (here.design_room_c, here.design_room_c + HOTTER_K)
    near = _middle(models)
    watts = watt_lines(models, rooms, near, request.view.load, field.settings.base)
    other = None
    if request.against and request.against != models.card.variant:
        there = fit_models(seen_from(models.evidence, request.against))
        other = survey_grid(there, here, _same_view(request.view, models), field.settings.base, grid=(field.x, field.y))
    return SettingMap(request, here, models, field, watts, loudness_of(models), other)


def _middle(models: Models) -> float:
    watts = [run.power_w for run in models.usable() if run.load == models.heavy_load and math.isfinite(run.power_w)]
    return float(np.median(watts)) if watts else 100.0


def _same_view(view: GridView, models: Models) -> GridView:
    """Return a view for another variant: the same controls, all else exactly as in this one."""
    kept = msgspec.structs.replace(view, up=view.up or models.fans, fixed={})
    return msgspec.structs.replace(kept, others=type(view.others).CHOSEN)


def seen_from(evidence: Evidence, variant: str) -> Evidence:
    """Return the evidence as it is seen from another variant of the machine. Raises ``NotEnoughError`` where none of its runs
    is in the book."""
    other = evidence.elsewhere.get(variant)
    if other is None:
        raise NotEnoughError(
            f"Nothing was run in the variant {variant!r} yet.",
            safe="The map of this variant stands.",
            remedy="Change the part on the Rig page, and run the same plan.",
        )
    steady = {name: one for name, one in evidence.elsewhere.items() if name != variant}
    here = msgspec.structs.replace(evidence, elsewhere={})
    return msgspec.structs.replace(other, elsewhere={**steady, evidence.card.variant: here}, plans=evidence.plans)


class Difference(msgspec.Struct, frozen=True):
    """One figure here less there, ``(n,)``, its 95 % half width, and where it is no difference that the runs show."""

    value: Vector
    half_width: Vector

    @property
    def shown(self) -> Mask:
        """Where the difference lies beyond its interval."""
        beyond: Mask = np.abs(self.value) > self.half_width
        return beyond


def difference(here: Vector, here_hw: Vector, there: Vector, there_hw: Vector) -> Difference:
    """Return a difference with its interval. The two share what did not change, so that it is no narrower than it should be."""
    return Difference(here - there, np.hypot(here_hw, there_hw))
