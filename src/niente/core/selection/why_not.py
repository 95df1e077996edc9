"""Why another setting was not picked, in words."""

import math

from niente.core.model.limits import Aim
from niente.core.model.quantities import NO_BREAK_SPACE, number_text, quantity_of
from niente.core.selection.explanation import comparison_text, each_load_text, risk_text
from niente.core.selection.kept import CEILING_OF, Limit
from niente.core.selection.opening import noise_words
from niente.core.selection.pick import MATTERS_DB, TELLING_DB, Candidate, Choice


def why_not(choice: Choice, other: Candidate) -> str:
    """Say why a setting is not the pick: what it breaks, or in what the pick is better."""
    if other.setting == choice.pick.setting:
        return "It is the pick."
    if other.breaks:
        return " ".join(_broken(choice, other, limit) for limit in other.breaks)
    if not other.inside and choice.pick.inside:
        return "It lies outside of what was measured, and the pick does not: run something near it first."
    return f"It keeps every limit. {_worse(choice, other)} {comparison_text(choice, other)}"


def _broken(choice: Choice, other: Candidate, limit: Limit) -> str:
    limits, sure = choice.limits, f"{100.0 * choice.limits.failure.sure:g}{NO_BREAK_SPACE}% for all limits together"
    if limit in CEILING_OF:
        quantity = quantity_of(CEILING_OF[limit])
        most = quantity.with_unit(limits.ceilings[CEILING_OF[limit]])
        return f"Its {quantity.title.lower()} may come to more than {most}; {sure} are wanted."
    throughput = quantity_of("throughput_percent").with_unit(other.throughput_percent, other.throughput_hw)
    headroom = quantity_of("headroom_k").with_unit(other.headroom_k, other.core_hw)
    noise = quantity_of("noise_dba").with_unit(other.in_room_dba, other.in_room_hw)
    return {
        Limit.THROUGHPUT: f"It does {throughput} of stock; at least {limits.min_throughput_percent:g}{NO_BREAK_SPACE}% are "
        f"wanted, {sure}.",
        Limit.HEADROOM: f"It has {headroom} of headroom at {limits.design_room_c:g}{NO_BREAK_SPACE}°C; at least "
        f"{limits.min_headroom_k:g}{NO_BREAK_SPACE}K are wanted, {sure}.",
        Limit.NOISE: f"It is {noise} in the room; {noise_words(limits)} {limits.noise_at} is wanted.",
        Limit.RESULTS: "It gave a wrong result, or asks more than a setting that did.",
        Limit.FAILURES: f"A failure may be {_risk(other)} likely; {100.0 * limits.failure.chance:g}{NO_BREAK_SPACE}% are "
        "allowed.",
        Limit.FANS: "A fan group stands in it.",
        Limit.LOADS: f"A single load may fall short: {each_load_text(limits)}.",
    }[limit]


def _risk(other: Candidate) -> str:
    return risk_text(other.risk) if math.isfinite(other.risk) else "of unknown size"


def _worse(choice: Choice, other: Candidate) -> str:
    """Say in what the pick is better, by what the choice is for."""
    pick, aim = choice.pick, choice.limits.aim
    apart, unit, word = {
        Aim.QUIETEST: (other.in_room_dba - pick.in_room_dba, "dB", "louder in the room"),
        Aim.FASTEST: (pick.throughput_percent - other.throughput_percent, "%", "slower"),
        Aim.LEAST_WATTS: (other.power_w - pick.power_w, "W", "more"),
        Aim.COOLEST: (other.core_c - pick.core_c, "K", "warmer"),
        Aim.WEIGHED: (math.nan, "", ""),
    }[aim]
    if aim == Aim.WEIGHED:
        return "The pick is better, or as good, as weighed."
    if apart >= 0.05:
        return f"It is {number_text(apart, 1)}{NO_BREAK_SPACE}{unit} {word}."
    if choice.confirmed and apart > -MATTERS_DB:
        return "It is as good, and the pick has run already: that little is no reason to leave it."
    if aim == Aim.QUIETEST and other.alone_dba > pick.alone_dba + TELLING_DB:
        return "It is as quiet in the room, and louder by itself."
    return "It is as good; the pick ran longer, or leaves more controls as they were."
