"""What the heat path is drawn from: models or what is typical, at the watts that a person moved to and the fans of the pick."""

import msgspec
import numpy as np

from niente.core.analysis.air_changes import VariantChange, variant_changes
from niente.core.analysis.air_rungs import PathSetting, path_rungs
from niente.core.analysis.air_state import AirState, air_state
from niente.core.analysis.models import Models
from niente.core.model.case_air import GRAPHICS
from niente.core.model.project import Project
from niente.core.model.rig_card import LoadKind, RigCard
from niente.core.science.heat.path import HeatPath, typical
from niente.core.science.heat.rungs import Rung, heat_rungs
from niente.desktop.pages.rig.heat_path import Ladder
from niente.desktop.pages.rig.path_words import rung_words
from niente.desktop.pages.rig.watt_axis import WattAxis
from niente.desktop.services.translation import tr
from niente.desktop.session.session import Session

TYPICAL_FULL_RPM = 1500.0
LEAST_SOURCE_W = 60.0
"""An axis of another source's watts goes to this at least."""


class PathScene(msgspec.Struct, frozen=True):
    """All that the view of the heat path shows at once: the setting, the whole rise with its half width, the rungs, the air
    (``None`` where nothing tells of it), and what other states of the machine change."""

    here: PathSetting
    rise_k: float
    half_width_k: float
    ladder: Ladder
    air: AirState | None
    changes: tuple[VariantChange, ...]


class PathReading:
    """Reads the path off the session's answer; keeps the watts that a person moved to."""

    def __init__(self, session: Session) -> None:
        self._session = session
        self.power_w: float | None = None
        self.source_w: float | None = None
        self._kept: tuple[Models, float, PathScene] | None = None

    def model(self, card: RigCard) -> tuple[HeatPath, bool]:
        """Return the heat path, and whether it is only typical."""
        models = self._session.answer.models
        if models is not None:
            return models.heat, False
        groups = card.fan_groups()
        return typical(groups, (TYPICAL_FULL_RPM,) * len(groups)), True

    def speeds(self, card: RigCard) -> tuple[list[float], dict[str, float]]:
        """Return the fan groups' speeds at the setting the path is drawn for, in rpm, and their duties."""
        answer = self._session.answer
        models = answer.models
        pick = answer.choice.pick.setting if answer.choice is not None else models.base if models is not None else card.stock
        duties = pick.over(card.stock).fan_duty

        def speed(group: str) -> float:
            duty = duties.get(group, 0.0)
            if models is None:
                return TYPICAL_FULL_RPM * duty / 100.0
            return float(models.rpm(group, np.array(duty)))

        return [speed(group) for group in card.fan_groups()], duties

    def plain(self, card: RigCard, project: Project) -> Ladder:
        """Return the ladder of the package's watts alone, by fan groups."""
        model, only_typical = self.model(card)
        speeds, duties = self.speeds(card)
        power = self._axis(card, tr("At"))
        rungs = heat_rungs(model, power.watts, speeds)
        return _ladder(card, rungs, duties, power, project, only_typical)

    def scene(self, card: RigCard, project: Project, models: Models) -> PathScene:
        """Return what the view of the heat path shows; worked out once for the same answer and watts."""
        power = self._axis(card, tr("Package"))
        speeds, duties = self.speeds(card)
        index = next((i for i, name in enumerate(models.heat.sources) if GRAPHICS in name), None)
        other = None if index is None else self._source_axis(card, models, index)
        sources = tuple(other.watts if other is not None and i == index else 0.0 for i in range(len(models.heat.sources)))
        here = PathSetting(power.watts, tuple(speeds), sources)
        room_c, kept = project.limits.design_room_c, self._kept
        if kept is not None and kept[0] is models and (kept[1], kept[2].here) == (room_c, here):
            return kept[2]
        rise, half_width = here.rise(models.heat)
        ladder = _ladder(card, path_rungs(models, here), duties, power, project, only_typical=False)
        ladder = msgspec.structs.replace(ladder, other=other, half_width_k=half_width)
        air = air_state(models, power.watts, np.array(speeds), np.array(sources))
        scene = PathScene(here, rise, half_width, ladder, air, variant_changes(models, here))
        self._kept = (models, room_c, scene)
        return scene

    def _axis(self, card: RigCard, name: str) -> WattAxis:
        control = card.control("sustained_power_w")
        varies = control is not None and control.low < control.high
        low, high = (control.low, control.high) if control is not None and varies else (20.0, 250.0)
        return WattAxis(name, self.power_w or self._default_power(card), low, high)

    def _default_power(self, card: RigCard) -> float:
        choice = self._session.answer.choice
        return round(choice.pick.power_w) if choice is not None else card.stock.sustained_power_w or 100.0

    def _source_axis(self, card: RigCard, models: Models, index: int) -> WattAxis:
        """Return the axis of the graphics' watts: at what the mixed load gives, where one was run."""
        mixed = card.load_of(LoadKind.MIXED)
        given = models.sources_w.get(mixed.name, ())[index : index + 1] if mixed is not None else ()
        usual = float(round(given[0])) if given else 0.0
        most = max(LEAST_SOURCE_W, 10.0 * round(0.15 * max((watts[index] for watts in models.sources_w.values()), default=0.0)))
        return WattAxis(tr("Graphics"), usual if self.source_w is None else self.source_w, 0.0, most)


def _ladder(
    card: RigCard, rungs: tuple[Rung, ...], duties: dict[str, float], power: WattAxis, project: Project, only_typical: bool
) -> Ladder:
    names, sub = zip(*(rung_words(card, rung, duties) for rung in rungs), strict=True)
    return Ladder(rungs, names, sub, power, project.limits.design_room_c, only_typical)
