"""Bench cards as they are made: from a setting, a variant, a driver's words or readings; and what a book says of them."""

from collections.abc import Sequence

import msgspec

from niente.core.model.hand_cards import CardKind, CardLine, HandCard, ReadingRequest
from niente.core.model.names import kind_of
from niente.core.model.plan import Plan, Search
from niente.core.model.quantities import quantity_of
from niente.core.model.rig_card import Control, RigCard, SetBy
from niente.core.model.setting import OFF_AT_ZERO, Setting
from niente.core.storage.kinds import CARD_CONFIRMED, CARD_SHOWN, CARD_TICKED
from niente.core.storage.reader import BookEvent

FIRMWARE = "Restart into the firmware's setup; Niente may be closed meanwhile and goes on from this card."
MAINS = "Mains off and unplugged before hands go in, and let a heatsink cool; the maker's limits and local rules come first."
VOLTAGE = "Stay within the maker's voltage limits. An unstable processor corrupts files: work on data that can be lost."
METER = "Read it from where the meter stands, with the load running; let it settle for some seconds first."
COOL_C = 45.0
"""A metal surface may be touched at this: burns begin at 48 °C, for ten minutes of contact (ISO 13732-1, from memory). Idle
cores stand little over their heatsink."""
NOISE_ASIDE = "Nobody speaks or moves meanwhile."


def setting_card(card: RigCard, whole: Setting, by_hand: dict[str, float]) -> HandCard | None:
    """Return the card for what hands have to set before a whole setting is in force; ``None`` where that is nothing.

    ``by_hand`` is what hands have set already; what they never touched stands as found.
    """
    now = card.stock
    for name, so_far in by_hand.items():
        now = now.replaced(name, so_far)
    controls = card.set_by_hands(whole, now)
    lines = [_line(control, whole, now) for control in controls]
    sets = {control.name: value for control in controls if (value := whole.value(control.name)) is not None}
    if not lines:
        return None
    checks = ["Every figure reads back as it stands here."]
    if any(control.set_by == SetBy.FIRMWARE for control in controls):
        checks.append("Nothing else was changed, and the setup was left with saving.")
    cautions = _cautions(controls)
    cool = COOL_C if MAINS in cautions and _tells_heat(card) else None
    return HandCard(CardKind.SET, "Set by hand before the next run.", tuple(lines), (), tuple(checks), cautions, sets, cool)


def _tells_heat(card: RigCard) -> bool:
    """Return whether a rig reads how warm its heatsink is."""
    return bool(card.indices("core_temperature_c"))


def _cautions(controls: Sequence[Control]) -> tuple[str, ...]:
    """Return what to mind where these controls are set by hand."""
    found = []
    if any(control.set_by == SetBy.FIRMWARE for control in controls):
        found.append(FIRMWARE)
    if any(quantity_of(control.name).unit in ("mV", "V") for control in controls):
        found.append(VOLTAGE)
    if any(control.set_by == SetBy.HANDS for control in controls):
        found.append(MAINS)
    return tuple(found)


def _line(control: Control, whole: Setting, now: Setting) -> CardLine:
    where = "in the firmware's setup" if control.set_by == SetBy.FIRMWARE else "by hand"
    value, before = (_value(control.name, setting.value(control.name)) for setting in (whole, now))
    return CardLine(control.title, value, before, where)


def variant_card(card: RigCard, variant: str) -> HandCard:
    """Return the card for bringing the machine into another of its states."""
    known = next((one for one in card.variants if one.name == variant), None)
    lines = [CardLine(part.strip().rstrip(".")) for part in (known.hands if known else "").split(";") if part.strip()]
    if not lines:
        words = known.words if known is not None and known.words else variant
        lines = [CardLine(f"Bring the machine into this state: {words}")]
    checks = ("Every panel, fan and cable is where it belongs, and nothing touches a fan.",)
    title = f"The machine becomes {variant!r}."
    cool = COOL_C if _tells_heat(card) else None
    return HandCard(CardKind.VARIANT, title, tuple(lines), (), checks, (MAINS,), cool_below_c=cool)


def words_card(words: str) -> HandCard:
    """Return the card for what a rig's driver says in its own words."""
    return HandCard(CardKind.SET, "By hand.", (CardLine(words.rstrip(".")),), (), (), (MAINS,))


def reading_card(card: RigCard) -> HandCard | None:
    """Return the card that asks for what hands read at the end of a run; ``None`` where everything is read by cable."""
    request = tuple(
        ReadingRequest(channel.name, channel.title, quantity_of(channel.name).low, quantity_of(channel.name).high)
        for channel in card.channels
        if channel.by == SetBy.HANDS
    )
    if not request:
        return None
    noise = any(one.channel == "noise_dba" for one in request)
    cautions = (METER, NOISE_ASIDE) if noise else (METER,)
    return HandCard(CardKind.READ, "Read by hand, with the load still on.", (), request, (), cautions)


def left_by_hand(card: RigCard, by_hand: dict[str, float]) -> list[str]:
    """Return in words what hands have set and software cannot set back: its value, and that of the safe setting."""
    safe = card.safe.over(card.stock)
    return [
        f"{control.title.lower()} {_value(control.name, by_hand[control.name])} (safe: {_value(control.name, wanted)})"
        for control in card.controls
        if control.name in by_hand and (wanted := safe.value(control.name)) not in (None, by_hand[control.name])
    ]


def hand_work(plan: Plan, card: RigCard) -> list[str]:
    """Return what a plan needs hands for on a rig, in words; empty where it needs none. Searches count with their ends."""
    variants = sorted({step.variant for step in plan.steps if step.variant} - {card.variant})
    moved = _moved_by_hand(plan, card)
    read = [channel.title.lower() for channel in card.channels if channel.by == SetBy.HANDS]
    work = {"the machine becomes": variants, "set": moved, "read": read}
    return [f"{what} {', '.join(names)}" for what, names in work.items() if names]


def _moved_by_hand(plan: Plan, card: RigCard) -> list[str]:
    """Return the titles of the controls that hands have to set for a plan, each once."""
    wholes = [step.setting.over(card.stock) for step in plan.steps]
    searched = {name for entry in plan.entries if isinstance(entry, Search) for name in entry.controls}
    moved = [control for whole in wholes for control in card.set_by_hands(whole, card.stock)]
    moved += [control for control in card.controls if control.name in searched and control.set_by != SetBy.SOFTWARE]
    return list(dict.fromkeys(control.title.lower() for control in moved))


def _value(control: str, value: float | None) -> str:
    """Return a control's value in words; what is off is said to be off."""
    if value is None:
        return ""
    if value == 0 and kind_of(control) in OFF_AT_ZERO and not control.endswith("_mv"):
        return "off"
    return quantity_of(control).with_unit(value)


def ticked_in(events: Sequence[BookEvent], card: HandCard) -> tuple[int, ...]:
    """Return the boxes of a card that are ticked, from what happened in a book, oldest first: those of the last time it was
    shown and not confirmed."""
    wanted = msgspec.json.decode(msgspec.json.encode(card))
    ticked: tuple[int, ...] = ()
    same = False
    for one in events:
        if one.kind == CARD_SHOWN:
            ticked, same = (ticked if one.body == wanted else ()), one.body == wanted
        elif one.kind == CARD_TICKED and same:
            ticked = tuple(one.body)
        elif one.kind == CARD_CONFIRMED:
            ticked, same = (), False
    return ticked


def by_hand_in(events: Sequence[dict[str, float]]) -> dict[str, float]:
    """Return what hands have set, from what confirmed cards say, oldest first."""
    found: dict[str, float] = {}
    for sets in events:
        found |= sets
    return found
