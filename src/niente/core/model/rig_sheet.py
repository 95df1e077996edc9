"""A rig sheet: what a person says of a machine, over what its driver says: parts, room, limits, guards, trust in sensors.

A driver's card tells what can be read and set; the sheet narrows it and adds to it, and never widens it.
"""

from enum import StrEnum
from itertools import pairwise
from typing import Annotated, Any

import msgspec

from niente.core.model.errors import DocumentError
from niente.core.model.guard_rules import CORE, HUMIDITY, default_guards, problems_of
from niente.core.model.json_files import JsonError, converted, decoded_json, indented_json, json_schema
from niente.core.model.names import kind_of
from niente.core.model.plan import Guard
from niente.core.model.rig_card import Control, CountedTemperature, MakersLimits, Part, RigCard, SetBy, Trust, Variant
from niente.core.science.dynamics import MARKS, OVER_DB

FORMAT = "niente-rig/1"

READABLE = ("noise_dba", "wall_power_w")
"""What may be read off a meter by hand, once a run: nothing that guards or the settling of a run need."""

Dba = Annotated[float, msgspec.Meta(ge=-10, le=130)]
Hour = Annotated[float, msgspec.Meta(ge=0, le=24)]
Metres = Annotated[float, msgspec.Meta(gt=0, le=50)]


class MeterClass(StrEnum):
    """How far a sound meter may be off (IEC 61672-1 names the classes)."""

    ONE = "class 1"
    TWO = "class 2"
    NONE = "no class given"


class Room(msgspec.Struct, frozen=True):
    """The room: temperature, humidity, altitude, and its background at the meter by day and by night, where known."""

    temperature_c: Annotated[float, msgspec.Meta(ge=-20, le=50)] = 23.0
    humidity_percent: Annotated[float, msgspec.Meta(ge=1, le=100)] = 45.0
    altitude_m: Annotated[float, msgspec.Meta(ge=-500, le=6000)] = 0.0
    day_dba: Dba | None = None
    night_dba: Dba | None = None
    day_from_h: Hour = 7.0
    day_to_h: Hour = 21.0


class Listener(msgspec.Struct, frozen=True):
    """Where the machine is heard from: the place in words, its distance, and the background there."""

    place: str = ""
    distance_m: Metres = 1.0
    day_dba: Dba | None = None
    night_dba: Dba | None = None


class Meter(msgspec.Struct, frozen=True):
    """The sound meter: its class, its distance from the machine, and its place in words."""

    standard: MeterClass = MeterClass.NONE
    distance_m: Metres = 1.0
    place: str = ""


class RigSheet(msgspec.Struct, frozen=True):
    """What a person says of a machine. ``parts`` are those of the first variant; a variant names the parts that differ.

    ``guards`` are what Niente itself ends a run at; ``counts`` which temperature of the processor is the one that counts;
    ``marks_over_db`` the levels over the room's background at which one dynamic mark ends and the next begins; ``by_hand``
    the channels that are read off a meter by a person.
    """

    format: str
    rig: str
    title: str
    summary: str
    variant: str
    variants: tuple[Variant, ...]
    parts: tuple[Part, ...]
    limits: MakersLimits
    guards: tuple[Guard, ...]
    controls: tuple[Control, ...]
    room: Room = Room()
    listener: Listener = Listener()
    meter: Meter = Meter()
    counts: CountedTemperature = CountedTemperature.HOTTEST
    trust: tuple[Trust, ...] = ()
    marks_over_db: tuple[float, ...] = OVER_DB
    by_hand: tuple[str, ...] = ()

    def known(self, name: str) -> Variant | None:
        """Return a variant by name, or ``None``."""
        return next((variant for variant in self.variants if variant.name == name), None)


def sheet_of(card: RigCard) -> RigSheet:
    """Return the sheet that says what the driver says, and no more."""
    variants = card.variants or (Variant(card.variant),)
    if all(variant.name != card.variant for variant in variants):
        variants = (*variants, Variant(card.variant))
    return RigSheet(
        format=FORMAT,
        rig=card.name,
        title=card.title,
        summary=card.summary,
        variant=card.variant,
        variants=variants,
        parts=card.base_parts or card.parts,
        limits=card.limits,
        guards=default_guards(card),
        controls=card.controls,
        room=Room(**_given(card.room, Room)),
        meter=Meter(**_given(card.meter, Meter)),
        listener=Listener(**_given(card.listener or {"distance_m": card.meter.get("distance_m", 1.0)}, Listener)),
    )


def _given(values: dict[str, Any], kind: type[msgspec.Struct]) -> dict[str, Any]:
    """Return what a card tells of a part of the sheet, in the sheet's own types."""
    fields = {name: values[name] for name in kind.__struct_fields__ if name in values}
    return {name: MeterClass(value) if name == "standard" else value for name, value in fields.items()}


def parts_in(sheet: RigSheet, variant: str) -> tuple[Part, ...]:
    """Return the parts of a machine in one of its variants: those that differ in place of those of the first."""
    known = sheet.known(variant)
    differing = {part.name: part for part in known.parts} if known is not None else {}
    kept = [differing.pop(part.name, part) for part in sheet.parts]
    return (*kept, *differing.values())


def with_part(sheet: RigSheet, part: Part, variant: str, hands: str = "") -> RigSheet:
    """Return the sheet with a part changed: a new variant, in force, so that old runs keep what they were measured on.

    Raises ``DocumentError`` for a name that is taken or empty.
    """
    name = variant.strip()
    if not name or sheet.known(name) is not None:
        raise DocumentError(
            f"There is a variant {name!r} already." if name else "A new variant needs a name.",
            safe="The machine's sheet is unchanged.",
            remedy="Give the new one a name of its own.",
        )
    now = sheet.known(sheet.variant)
    others = tuple(one for one in (now.parts if now is not None else ()) if one.name != part.name)
    words = f"{part.name}: {part.words}" if part.words else part.name
    made = Variant(name, words, hands, (*others, part))
    return msgspec.structs.replace(sheet, variant=name, variants=(*sheet.variants, made))


def reworded(sheet: RigSheet, part: Part) -> RigSheet:
    """Return the sheet with a part described in other words, wherever it stands: the machine itself has not changed."""

    def corrected(parts: tuple[Part, ...]) -> tuple[Part, ...]:
        return tuple(part if one.name == part.name else one for one in parts)

    now = sheet.known(sheet.variant)
    if now is not None and any(one.name == part.name for one in now.parts):
        changed = msgspec.structs.replace(now, parts=corrected(now.parts))
        variants = tuple(changed if one.name == now.name else one for one in sheet.variants)
        return msgspec.structs.replace(sheet, variants=variants)
    if any(one.name == part.name for one in sheet.parts):
        return msgspec.structs.replace(sheet, parts=corrected(sheet.parts))
    return msgspec.structs.replace(sheet, parts=(*sheet.parts, part))


def applied(card: RigCard, sheet: RigSheet) -> RigCard:
    """Return a driver's card as the person's sheet has it. The sheet must have no problems."""
    narrowed = {control.name: control for control in sheet.controls}
    humidity = sheet.room.humidity_percent
    humid = {HUMIDITY: humidity} if HUMIDITY in card.room or humidity != Room().humidity_percent else {}
    return msgspec.structs.replace(
        card,
        title=sheet.title,
        summary=sheet.summary,
        variant=sheet.variant,
        variants=sheet.variants,
        parts=parts_in(sheet, sheet.variant),
        limits=sheet.limits,
        room={**card.room, **humid},
        controls=tuple(narrowed.get(control.name, control) for control in card.controls),
        counts=sheet.counts,
        trust=sheet.trust,
        marks_over_db=sheet.marks_over_db,
        channels=tuple(
            msgspec.structs.replace(channel, by=SetBy.HANDS) if channel.name in sheet.by_hand else channel
            for channel in card.channels
        ),
    )


def problems(sheet: RigSheet, card: RigCard) -> list[str]:
    """Return what cannot be about a sheet for a rig, each with the path of its field; ``card`` is the driver's own."""
    return [
        *_identity(sheet, card),
        *_limits(sheet, card),
        *_guards(sheet, card),
        *_controls(sheet, card),
        *_trust(sheet, card),
        *_place(sheet),
    ]


def _identity(sheet: RigSheet, card: RigCard) -> list[str]:
    found = []
    if sheet.format != FORMAT:
        found.append(f"format: {sheet.format!r}, and this Niente reads {FORMAT!r}")
    if sheet.rig != card.name:
        found.append(f"rig: it was written for {sheet.rig!r}, and this is {card.name!r}")
    names = [variant.name for variant in sheet.variants]
    if sheet.variant not in names:
        found.append(f"variant: {sheet.variant!r} is none of {', '.join(names) or 'no variants'}")
    found += [f"variants: {name!r} stands there twice" for name in sorted({n for n in names if names.count(n) > 1})]
    return found


def _limits(sheet: RigSheet, card: RigCard) -> list[str]:
    mine, makers, found = sheet.limits, card.limits, []
    for name in ("core_temperature_c", "shut_down_c"):
        if getattr(mine, name) > getattr(makers, name):
            found.append(f"limits.{name}: {getattr(mine, name):g} °C lies above the maker's {getattr(makers, name):g} °C")
    if mine.core_temperature_c >= mine.shut_down_c:
        found.append("limits.core_temperature_c: it does not lie below limits.shut_down_c")
    if mine.margin_k < 0:
        found.append("limits.margin_k: a margin is not negative")
    if mine.core_temperature_c - mine.margin_k <= sheet.room.temperature_c:
        found.append("limits.core_temperature_c: less its margin it does not lie above the room")
    return found


def _guards(sheet: RigSheet, card: RigCard) -> list[str]:
    found = []
    if all(guard.quantity != CORE for guard in sheet.guards):
        found.append("guards: there is none on the hottest core (core_temperature_c)")
    top = min(sheet.limits.core_temperature_c, card.limits.core_temperature_c)
    for index, guard in enumerate(sheet.guards):
        found += [f"guards[{index}].{field}: {why}" for field, why in problems_of(guard, card, top)]
    return found


def _controls(sheet: RigSheet, card: RigCard) -> list[str]:
    found = []
    for index, control in enumerate(sheet.controls):
        own, at = card.control(control.name), f"controls[{index}]"
        if own is None:
            found.append(f"{at}.name: this rig has no control {control.name!r}")
            continue
        if control.low < own.low or control.high > own.high:
            found.append(f"{at}: {control.low:g} to {control.high:g} goes beyond the rig's {own.range_text()}")
        if not control.low < control.high:
            found.append(f"{at}.low: {control.low:g} does not lie below its high of {control.high:g}")
        if control.step <= 0:
            found.append(f"{at}.step: a step is positive")
        for name, setting in (("stock", card.stock), ("safe", card.safe)):
            value = setting.value(control.name)
            if value is not None and not control.takes(value):
                found.append(
                    f"{at}: the rig's {name} setting, {value:g}, would lie outside {control.low:g} to {control.high:g}"
                )
    return found


def _trust(sheet: RigSheet, card: RigCard) -> list[str]:
    found = []
    for index, trust in enumerate(sheet.trust):
        if not card.indices(kind_of(trust.channel)):
            found.append(f"trust[{index}].channel: this rig does not read {trust.channel!r}")
        if trust.gain <= 0:
            found.append(f"trust[{index}].gain: a gain is positive")
    for index, name in enumerate(sheet.by_hand):
        if card.index(name) is None:
            found.append(f"by_hand[{index}]: this rig has no channel {name!r}")
        elif kind_of(name) not in READABLE:
            found.append(f"by_hand[{index}]: {name!r} is wanted at every sample, for guards and models")
        elif any(guard.quantity == kind_of(name) for guard in sheet.guards):
            found.append(f"by_hand[{index}]: a guard watches {name!r} at every sample")
    if sheet.counts not in counts_of(card):
        found.append(f"counts: this rig does not read a {sheet.counts.value} temperature")
    return found


def _place(sheet: RigSheet) -> list[str]:
    found = []
    if sheet.room.day_from_h >= sheet.room.day_to_h:
        found.append("room.day_from_h: the day begins after room.day_to_h")
    if len(sheet.marks_over_db) != len(MARKS) - 1 or any(b <= a for a, b in pairwise(sheet.marks_over_db)):
        found.append(f"marks_over_db: wanted {len(MARKS) - 1} rising levels")
    return found


def counts_of(card: RigCard) -> tuple[CountedTemperature, ...]:
    """Return which temperatures of the processor a rig can count by."""
    found = [CountedTemperature.HOTTEST, CountedTemperature.MEAN] if card.indices("core_temperature_c") else []
    return (*found, CountedTemperature.PACKAGE) if card.indices("package_temperature_c") else tuple(found)


def read_sheet(text: bytes, source: str, card: RigCard) -> tuple[RigSheet, dict[str, Any]]:
    """Return the sheet in a JSON text, and the whole document, whose unknown fields are kept.

    Raises ``DocumentError`` that names every field that is wrong for this rig, and the reason.
    """
    try:
        document = decoded_json(text)
        sheet = converted(_without_unknown_of_guards(document), RigSheet)
    except JsonError as error:
        raise _refused(source, [str(error)]) from None
    found = problems(sheet, card)
    if found:
        raise _refused(source, found)
    return sheet, document


def _without_unknown_of_guards(document: Any) -> Any:
    """Return the document with guards as a plan takes them, which refuses what it does not know; a sheet keeps it."""
    guards = document.get("guards") if isinstance(document, dict) else None
    if not isinstance(guards, list):
        return document
    known = Guard.__struct_encode_fields__
    plain = [{k: v for k, v in guard.items() if k in known} if isinstance(guard, dict) else guard for guard in guards]
    return {**document, "guards": plain}


def _refused(source: str, found: list[str]) -> DocumentError:
    return DocumentError(
        f"The rig sheet {source} is refused: {'; '.join(found)}.",
        safe="The file is untouched, and the machine's sheet is as it was.",
        remedy="Correct these fields.",
    )


def sheet_text(sheet: RigSheet, kept: dict[str, Any] | None = None) -> bytes:
    """Return a sheet as indented JSON, UTF-8, with the unknown fields of the document it came from."""
    whole = with_unknown(kept or {}, msgspec.json.decode(msgspec.json.encode(sheet)))
    return indented_json(whole)


def with_unknown(old: Any, new: Any) -> Any:
    """Return ``new`` with what only ``old`` has: members of maps, and of the entries of lists that have the same name."""
    if isinstance(old, dict) and isinstance(new, dict):
        only_old = {key: value for key, value in old.items() if key not in new}
        return only_old | {key: with_unknown(old.get(key), value) for key, value in new.items()}
    if isinstance(old, list) and isinstance(new, list):
        named = {_name(entry): entry for entry in old if _name(entry)}
        return [with_unknown(named.get(_name(entry)), entry) if _name(entry) else entry for entry in new]
    return new


def _name(entry: Any) -> str:
    """Return what an entry of a list is known by; ``""`` where it has no name."""
    if not isinstance(entry, dict):
        return ""
    return str(next((entry[key] for key in ("name", "quantity", "channel") if key in entry), ""))


def sheet_schema() -> bytes:
    """Return the JSON Schema of rig sheets, indented, UTF-8; it stands in docs/reference."""
    return json_schema(RigSheet)
