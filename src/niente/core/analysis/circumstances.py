"""The models in circumstances that were not measured: what is assumed of them changes air, paste, fans or room, and nothing
else."""

import msgspec

from niente.core.analysis.limit_figures import BACKGROUNDS
from niente.core.analysis.models import Models
from niente.core.analysis.prediction import stock_state
from niente.core.model.case_air import PACKAGE, ROOM, CaseAir
from niente.core.model.limits import Limits, LoadLimits, NoisePlace
from niente.core.model.rig_card import LoadKind, RigCard
from niente.core.model.what_if import USUAL, Circumstance, WhatIf
from niente.core.science.air_density import density_ratio
from niente.core.science.fan_speed import FanSpeeds

STANDS = FanSpeeds(((0.0, 0.0), (100.0, 0.0)))
NOISE_AT = {Circumstance.NIGHT: NoisePlace.LISTENER_AT_NIGHT, Circumstance.BY_DAY: NoisePlace.LISTENER_BY_DAY}


def usual_what_ifs(card: RigCard) -> tuple[WhatIf, ...]:
    """Return the circumstances that a choice is looked at in where a person says nothing: those that the rig can be in."""
    found = [WhatIf(kind, value) for kind, value in USUAL.items()]
    for kind in (Circumstance.DEAD_FANS, Circumstance.OTHER_LOAD):
        found += [WhatIf(kind, part=part) for part in parts_for(kind, card)[:1]]
    found += [WhatIf(kind) for kind, place in NOISE_AT.items() if BACKGROUNDS[place] in card.listener]
    return tuple(found)


def parts_for(kind: Circumstance, card: RigCard) -> tuple[str, ...]:
    """Return what a circumstance may be about on a rig, the likeliest first: groups of fans that may fail, loads that may count
    in place of the one that does; none for a circumstance that is about the whole machine."""
    if kind == Circumstance.DEAD_FANS:
        return card.fan_groups()
    if kind == Circumstance.OTHER_LOAD:
        first = (LoadKind.MIXED, LoadKind.REALISTIC, LoadKind.HEAVY, LoadKind.LIGHT)
        counted = card.load_of(LoadKind.REALISTIC) or card.load_of(LoadKind.HEAVY)
        return tuple(load.name for one in first for load in card.loads if load.kind == one and load != counted)
    return ()


def unknown_in(models: Models, what_if: WhatIf) -> str:
    """Return why nothing is known of a circumstance, in words; empty where something is."""
    if what_if.kind == Circumstance.OTHER_LOAD and what_if.part not in models.power.loads:
        return f"{what_if.part} was not run"
    if what_if.kind == Circumstance.DEAD_FANS and what_if.part not in models.speeds:
        return f"there are no fans {what_if.part}"
    return ""


def under(models: Models, limits: Limits, what_if: WhatIf) -> tuple[Models, Limits]:
    """Return the models and the limits in a circumstance. Per cent of stock stay those of stock in the same room without it.

    Air of less density carries as much as fans at that share of their speed (mass flow); so does a filter that lets less
    through. Paste adds its kelvins in proportion to the watts. A group that fails stands, and is not heard. Another load counts
    in place of the one that does, and must keep the headroom, too.
    """
    if what_if.kind == Circumstance.ROOM:
        return models, msgspec.structs.replace(limits, design_room_c=what_if.value)
    if what_if.kind in NOISE_AT:
        return models, msgspec.structs.replace(limits, noise_at=NOISE_AT[what_if.kind])
    if what_if.kind == Circumstance.OTHER_LOAD:
        if unknown_in(models, what_if):
            return models, limits
        own = limits.each_load.get(what_if.part, LoadLimits())
        headroom_k = limits.min_headroom_k if own.min_headroom_k is None else own.min_headroom_k
        within = limits.with_load(what_if.part, msgspec.structs.replace(own, min_headroom_k=headroom_k))
        return msgspec.structs.replace(models, count_load=what_if.part), within
    states = {(load, limits.design_room_c): stock_state(models, load, limits.design_room_c) for load in models.power.loads}
    return msgspec.structs.replace(_changed(models, what_if), stock_states=states), limits


def _changed(models: Models, what_if: WhatIf) -> Models:
    groups = models.heat.groups
    if what_if.kind == Circumstance.DEAD_FANS:
        speeds = {group: STANDS if group == what_if.part else speeds for group, speeds in models.speeds.items()}
        return msgspec.structs.replace(models, speeds=speeds)
    if what_if.kind == Circumstance.PASTE:
        return msgspec.structs.replace(models, heat=msgspec.structs.replace(models.heat, added_kpw=what_if.value / 100.0))
    if what_if.kind == Circumstance.ALTITUDE:
        share = density_ratio(what_if.value) / density_ratio(models.card.room.get("altitude_m", 0.0))
        return msgspec.structs.replace(models, heat=models.heat.with_air(tuple(share for _ in groups)))
    blown = _through_the_case(models.card.air, groups)
    shares = tuple(what_if.value / 100.0 if group in blown else 1.0 for group in groups)
    return msgspec.structs.replace(models, heat=models.heat.with_air(shares))


def _through_the_case(air: CaseAir | None, groups: tuple[str, ...]) -> set[str]:
    """Return the groups that a filter hinders: all but pumps, and fans that blow through the processor's cooler inside of the
    case; all where the rig does not say where air goes."""
    if air is None:
        return set(groups)
    within = {way for way in air.ways if PACKAGE in way.warmed_by and ROOM not in (way.start, way.end)}
    return {group for way in air.ways if way not in within for group in way.groups}
