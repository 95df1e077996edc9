"""What a guard can watch, where it stands before anybody moves it, and what is wrong with one."""

import math

import msgspec

from niente.core.model.names import kind_of
from niente.core.model.plan import Guard, GuardAction
from niente.core.model.quantities import quantity_of
from niente.core.model.rig_card import RigCard, SetBy

CORE = "core_temperature_c"
RISE_RATE = "rise_rate_k_per_min"
"""How fast the hottest core rises, over a minute, once a load has run for as long."""
DEW_MARGIN = "dew_margin_k"
"""How far the coldest reading stands over the dew point of the room; it trips below its level."""
ROOM_MOVED = "room_moved_k"
"""How far the room has moved from where it was when the plan began."""
HUMIDITY = "humidity_percent"

_LEVELS = {
    "board_temperature_c": (100.0, 85.0),
    "graphics_temperature_c": (95.0, 85.0),
    "coolant_temperature_c": (60.0, 50.0),
    "case_air_temperature_c": (60.0, 50.0),
    "room_temperature_c": (35.0, 32.0),
    RISE_RATE: (25.0, 10.0),
    DEW_MARGIN: (2.0, 4.0),
    ROOM_MOVED: (1.5, 1.0),
}
"""Where a new guard stands: trip and clear, in its quantity's unit. Common practice, no source."""
_REASONS = {
    CORE: "The hottest core has reached the maker's limit.",
    "board_temperature_c": "The board's supply is too hot.",
    "graphics_temperature_c": "The graphics card is too hot.",
    "coolant_temperature_c": "The coolant is too hot for the pump.",
    "wall_power_w": "The supply gives more than it should.",
    RISE_RATE: "The hottest core rises as it does when a pump stands or a cooler has come loose.",
    DEW_MARGIN: "The coldest part is near the dew point: water would form on it.",
    ROOM_MOVED: "The room has moved since the plan began, so that its runs are harder to compare.",
}
_DWELLS_S = {RISE_RATE: 5.0, ROOM_MOVED: 60.0}
_MILD = {ROOM_MOVED: GuardAction.WARN}


def calm_level(quantity: str) -> float:
    """Return the level under which a new guard on a quantity is calm, in its unit; infinite for one that is guarded above
    nothing."""
    return _LEVELS.get(kind_of(quantity), (math.inf, math.inf))[1]


def can_watch(card: RigCard, quantity: str) -> bool:
    """Return whether a rig reads what a guard on a quantity needs."""
    if quantity == RISE_RATE:
        return bool(card.indices(CORE))
    if quantity == DEW_MARGIN:
        return card.index("room_temperature_c") is not None and (
            card.index(HUMIDITY) is not None or float(card.room.get(HUMIDITY, 0.0)) > 0.0
        )
    if quantity == ROOM_MOVED:
        return card.index("room_temperature_c") is not None
    return any(card.channels[index].by != SetBy.HANDS for index in card.indices(quantity))


def guardable(card: RigCard) -> tuple[str, ...]:
    """Return the quantities of a rig that a guard can watch: its temperatures and powers, and what follows from them."""
    read = dict.fromkeys(kind_of(channel.name) for channel in card.channels)
    plain = [name for name in read if name.endswith(("temperature_c", "power_w"))]
    return (*plain, *(name for name in (RISE_RATE, DEW_MARGIN, ROOM_MOVED) if can_watch(card, name)))


def guard_on(card: RigCard, quantity: str) -> Guard:
    """Return a new guard on a quantity, at a level that is safe for most machines; a person moves it where it belongs."""
    top = card.limits.core_temperature_c
    if quantity.endswith("power_w"):
        most = card.control("sustained_power_w")
        trip = float(round(1.5 * (most.high if most is not None else 300.0)))
        clear = trip - 20.0
    else:
        trip, clear = _LEVELS.get(quantity, (top, top - 15.0))
    reason = _REASONS.get(quantity, f"{quantity_of(quantity).title}: the guard that was set.")
    return Guard(quantity, trip, clear, _DWELLS_S.get(quantity, 3.0), _MILD.get(quantity, GuardAction.STOP), reason)


def default_guards(card: RigCard) -> tuple[Guard, ...]:
    """Return guards that keep to what the maker allows, and to what a machine does while its cooling is whole."""
    usual = [CORE, "board_temperature_c", "graphics_temperature_c", "coolant_temperature_c", RISE_RATE]
    if card.indices("coolant_temperature_c"):
        usual.append(DEW_MARGIN)
    watched = [name for name in usual if can_watch(card, name)]
    return tuple(guard_on(card, name) for name in dict.fromkeys([CORE, *watched]))


def with_room_watched(card: RigCard, guards: tuple[Guard, ...]) -> tuple[Guard, ...]:
    """Return guards with one that warns when the room moves: what a comparison wants, unless it has one."""
    if not can_watch(card, ROOM_MOVED) or any(guard.quantity == ROOM_MOVED for guard in guards):
        return guards
    return (*guards, guard_on(card, ROOM_MOVED))


def moved(guard: Guard, trip: float) -> Guard:
    """Return a guard with its trip elsewhere, and its clear level kept on its side."""
    gap = abs(guard.trip - guard.clear) or 5.0
    wrong = guard.clear <= trip if guard.falling else guard.clear >= trip
    clear = (trip + gap if guard.falling else trip - gap) if wrong else guard.clear
    return msgspec.structs.replace(guard, trip=trip, clear=clear)


def under_limit(guard: Guard, before_c: float, top_c: float, usual: Guard) -> Guard:
    """Return a guard once the maker's limit in force has gone from one temperature to another: one on the cores never stands
    over it, and one that stood at it goes along, up to where it usually stands."""
    if guard.quantity != CORE:
        return guard
    if guard.trip > top_c:
        return moved(guard, top_c)
    if guard.trip == before_c < top_c:
        return moved(guard, min(top_c, max(usual.trip, before_c)))
    return guard


def problems_of(guard: Guard, card: RigCard, top_c: float) -> list[tuple[str, str]]:
    """Return what is wrong with a guard on a rig: the field, and why, in words. ``top_c`` is the maker's limit in force."""
    found = []
    if not can_watch(card, guard.quantity):
        found.append(("quantity", f"this rig does not read {guard.quantity!r}"))
    falls = guard.quantity == DEW_MARGIN
    if guard.clear == guard.trip or guard.falling != falls:
        side = "above" if falls else "below"
        found.append(("clear", f"{guard.clear:g} does not lie {side} its trip at {guard.trip:g}"))
    if guard.dwell_s < 0:
        found.append(("hold_s", "a time is not negative"))
    if guard.quantity == CORE and guard.trip > top_c:
        found.append(("trip", f"{guard.trip:g} °C lies above the maker's limit of {top_c:g} °C"))
    if guard.quantity == CORE and guard.action not in (GuardAction.STOP, GuardAction.SKIP):
        found.append(("action", "the guard on the hottest core has to end the load"))
    return found
