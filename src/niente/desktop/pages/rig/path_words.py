"""What is said of the heat path and of the air: names of rungs, a sentence on where the air goes, and a place's margin."""

import math

from niente.core.analysis.air_changes import VariantChange
from niente.core.analysis.air_state import AirState, PlaceRise, Returned
from niente.core.model.case_air import OTHER, PACKAGE, ROOM, CaseAir, CasePlace
from niente.core.model.quantities import NO_BREAK_SPACE, number_text, signed_text
from niente.core.model.rig_card import RigCard
from niente.core.science.heat.rungs import Rung, RungKind
from niente.desktop.pages.rig.section import rise_words, source_title, sources_in
from niente.desktop.services.translation import tr
from niente.desktop.widgets.blocks import Block, Buttons, Reading, Readings, Title, Words

SHARES = (
    (0.06, "hardly any"), (0.15, "a tenth"), (0.225, "a fifth"), (0.29, "a quarter"), (0.4, "a third"), (0.58, "half"),
    (0.72, "two thirds"), (0.86, "three quarters"),
)  # fmt: skip
"""Shares in words, each up to a bound."""
SURE_SHARE = 0.25
"""A share with a half width up to this is told."""


def rung_words(card: RigCard, rung: Rung, duties: dict[str, float]) -> tuple[str, str]:
    """Return what a rung is called, and what stands under its name."""
    place = card.air.place(rung.at) if card.air is not None else None
    title = place.title if place is not None else rung.at
    match rung.kind:
        case RungKind.CORE:
            return tr("Core to cooler air"), tr("spreader, paste, cooler's own")
        case RungKind.OWN:
            return title, tr("its own heat")
        case RungKind.RETURN:
            return title, tr("air that comes back")
        case RungKind.SOURCE:
            told = rung.half_width_k < rung.kelvin
            return tr("Graphics adds"), tr("told by the runs") if told else tr("not told by the runs")
    duty = number_text(duties.get(rung.group, math.nan), 0)
    if rung.group == "pump":
        return tr("What the pump moves"), tr("pump at {duty} %").format(duty=duty)
    fans = tr("{group} fans at {duty} %").format(group=rung.group, duty=duty)
    return tr("Air of the {group} fans").format(group=rung.group), fans


def share_words(share: float) -> str:
    """Return a share in words: ``a third``."""
    return tr(next((words for most, words in SHARES if share <= most), "nearly all"))


def air_sentence(air: CaseAir | None, state: AirState | None) -> tuple[str, str]:
    """Return where the air goes, and what follows from it."""
    if air is None:
        return tr("This rig does not say where its air goes."), tr("Places and ways belong to its card, as the field air.")
    if state is None and air.sensed:
        return tr("Where the air goes is not known yet."), tr("Three settled runs tell the places with a sensor.")
    if state is None:
        return tr("No sensor reads the air in the case."), tr("Its places are drawn as the rig describes them.")
    if state.returned:
        return _returned_words(state, max(state.returned, key=lambda one: one.share - one.half_width))
    return _through_words(state)


def _returned_words(state: AirState, back: Returned) -> tuple[str, str]:
    known = state.rise(back.place.name)
    if back.half_width > SURE_SHARE:
        where = ", ".join(place.title for place in state.air.places if not place.channel)
        more = tr("A sensor would tell; none reads: {places}.").format(places=where)
        return tr("Whether air comes back cannot be told."), more if where else tr("Runs at other fan speeds would tell.")
    sentence = tr("{place}: {share} of its air comes back.").format(place=back.place.title, share=share_words(back.share))
    if known is None or back.share < SHARES[0][0]:
        return sentence, tr("{share} ± {spread} % of what stands there.").format(**_percent(back))
    words = tr("{share} ± {spread} %; it warms every place behind by {rise} K.")
    return sentence, words.format(**_percent(back), rise=number_text(known.rise_k, 1))


def _percent(back: Returned) -> dict[str, str]:
    return {"share": number_text(100.0 * back.share, 0), "spread": number_text(100.0 * back.half_width, 0)}


def _through_words(state: AirState) -> tuple[str, str]:
    told = [one for one in state.streams if one.told and one.way.start == ROOM and one.flow_m3h > 0.0]
    taken = state.rise(state.air.taken_in)
    follows = ""
    if taken is not None and taken.told:
        follows = tr("The core's cooler takes in air {rise} K over the room.").format(rise=number_text(taken.rise_k, 1))
    if not told:
        return tr("How much air goes through cannot be told."), follows
    most = max(told, key=lambda one: one.flow_m3h)
    amount = f"{number_text(most.flow_m3h, 0)} ± {number_text(most.half_width_m3h, 0)}{NO_BREAK_SPACE}m³/h"
    return tr("{amount} of room air come in by the {way}.").format(
        amount=amount, way=most.way.opening or most.way.name
    ), follows


def place_margin(card: RigCard, state: AirState | None, place: CasePlace, room_c: float, runs: int) -> list[Block]:
    """Return what the margin says of a place."""
    known = state.rise(place.name) if state is not None else None
    value, spread = rise_words(known)
    blocks: list[Block] = [Title(tr("Place selected"), place.title)]
    lines = [Reading(tr("Over the room"), value.removesuffix(f"{NO_BREAK_SPACE}K"), spread, "K" if spread else "")]
    if known is not None and known.told:
        lines.append(
            Reading(
                tr("Reads in a {room} °C room").format(room=f"{room_c:g}"), number_text(room_c + known.rise_k, 1), unit="°C"
            )
        )
    if state is not None:
        lines += _streams_of(state, place)
        lines += [
            Reading(source_title(kind), number_text(state.watts[kind], 0), unit="W")
            for kind in sources_in(state.air, place)
            if kind in state.watts and (kind in (PACKAGE, OTHER) or state.watts[kind])
        ]
    blocks.append(Readings(tr("At this place"), tuple(lines), tr("now drawn")))
    blocks.append(Words(tr("How it is known"), _how_known(known, place, runs)))
    if state is not None:
        blocks.append(Words(tr("What cannot be told"), _not_told(state)))
    if any(not other.channel for other in (card.air.places if card.air is not None else ())):
        blocks.append(Words(tr("What would tell more"), _would_tell(card)))
    caution = tr("Mains off and unplugged before a hand or a probe goes in; keep cables clear of fans.")
    blocks += [Words(tr("Caution"), caution), Buttons(("plan.compare",))]
    return blocks


def _streams_of(state: AirState, place: CasePlace) -> list[Reading]:
    """Return how much air enters a place, by each way that is told."""
    found = []
    for one in state.streams:
        inwards = one.way.end == place.name if one.flow_m3h >= 0.0 else one.way.start == place.name
        if one.told and inwards:
            amount, spread = number_text(abs(one.flow_m3h), 0), f"±{number_text(one.half_width_m3h, 0)}"
            found.append(Reading(tr("In by: {way}").format(way=one.way.name), amount, spread, "m³/h"))
    return found


def _how_known(known: PlaceRise | None, place: CasePlace, runs: int) -> str:
    if known is None:
        return tr("Nothing has been measured yet.") if place.channel else tr("No sensor reads this air.")
    if known.measured:
        return tr("A sensor reads it; {n} settled runs tell how it goes with watts and fans.").format(n=runs)
    if known.told:
        return tr("No sensor reads it. It follows from the air that comes in and the heat that enters.")
    return tr("No sensor reads it, and what comes in and goes out leaves it open.")


def _not_told(state: AirState) -> str:
    open_ways = [one.way.name for one in state.streams if not one.told]
    if not open_ways:
        return tr("Every way's flow is told.")
    shown = ", ".join(open_ways[:4]) + (tr(" and {n} more").format(n=len(open_ways) - 4) if len(open_ways) > 4 else "")
    return tr("How much air takes these ways: {ways}. Together they carry what the others leave.").format(ways=shown)


def _would_tell(card: RigCard) -> str:
    assert card.air is not None
    unread = ", ".join(place.title for place in card.air.places if not place.channel)
    return tr("A sensor where none is: {places}. Then runs at two more fan settings.").format(places=unread)


def change_words(change: VariantChange) -> str:
    """Return how a variant's row is told: what it rests on."""
    if change.known:
        return tr("{n} runs").format(n=change.runs)
    return tr("too few runs") if change.runs else tr("not measured")


def change_figure(value: float, half_width: float = math.inf) -> tuple[str, str]:
    """Return a change in K as texts, with its interval."""
    if not math.isfinite(value):
        return "–", ""
    return signed_text(value, 1), f"±{number_text(half_width, 1)}" if math.isfinite(half_width) else ""
