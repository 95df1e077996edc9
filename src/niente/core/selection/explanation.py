"""The reasons of a choice in words: short sentences, with figures and their units."""

import math

from niente.core.model.limits import Aim, Limits
from niente.core.model.quantities import NO_BREAK_SPACE, duration_text, number_text, quantity_of
from niente.core.selection.kept import CEILING_OF, Limit
from niente.core.selection.opening import noise_words
from niente.core.selection.pick import Candidate, Choice, Standing
from niente.core.selection.setting_words import follows_text, values_text

AIM_WORDS = {
    Aim.QUIETEST: "is the quietest",
    Aim.FASTEST: "is the fastest",
    Aim.LEAST_WATTS: "draws the fewest watts",
    Aim.COOLEST: "is the coolest",
    Aim.WEIGHED: "is the best as weighed",
}
WINS_WORDS = {
    Aim.QUIETEST: ("dB", "quieter in the room", "no quieter in the room"),
    Aim.FASTEST: ("%", "faster", "no faster"),
    Aim.LEAST_WATTS: ("W", "less", "no fewer watts"),
    Aim.COOLEST: ("K", "cooler", "no cooler"),
    Aim.WEIGHED: ("", "better as weighed", "no better as weighed"),
}
"""For each aim the unit of what is won, and the words for winning something and nothing."""


A_UNIT_LOOSER = {
    Limit.THROUGHPUT: f"1{NO_BREAK_SPACE}% less",
    Limit.HEADROOM: f"1{NO_BREAK_SPACE}K less",
    Limit.NOISE: f"1{NO_BREAK_SPACE}dB more",
    Limit.COOLANT: f"1{NO_BREAK_SPACE}K more",
    Limit.BOARD: f"1{NO_BREAK_SPACE}K more",
    Limit.GRAPHICS: f"1{NO_BREAK_SPACE}K more",
    Limit.WALL: f"1{NO_BREAK_SPACE}W more",
}
"""A limit that is a unit looser, in words."""


def candidate_text(candidate: Candidate) -> str:
    """Return a setting by its two axes and every other control that differs from stock: ``102 W, case fans 24 %, −45 mV``."""
    curves = candidate.setting.fan_curve
    lead = "on their curve" if candidate.group in curves else quantity_of("fan_duty").with_unit(candidate.duty)
    axes = f"{candidate.group}{NO_BREAK_SPACE}fans {lead}"
    if candidate.limit_w:
        axes = f"{quantity_of('sustained_power_w').with_unit(candidate.limit_w)}, {axes}"
    follow = [follows_text(group) for group in sorted(curves) if group != candidate.group]
    return ", ".join([axes, *values_text(candidate.others, brief=True), *follow])


def short_candidate_text(candidate: Candidate) -> str:
    """Return a setting as short as it can be said, every control in it: ``101 W, 24 %, −45 mV``."""
    if candidate.setting.fan_curve:
        return candidate_text(candidate)
    duty = quantity_of("fan_duty").with_unit(candidate.duty)
    axes = f"{quantity_of('sustained_power_w').with_unit(candidate.limit_w)}, {duty}" if candidate.limit_w else duty
    return ", ".join([axes, *values_text(candidate.others, brief=True)])


def pick_reason(choice: Choice) -> str:
    """Say why the pick is the pick."""
    pick = choice.pick
    noise = quantity_of("noise_dba").with_unit(pick.in_room_dba, pick.in_room_hw)
    throughput = quantity_of("throughput_percent").with_unit(pick.throughput_percent, pick.throughput_hw)
    headroom = quantity_of("headroom_k").with_unit(pick.headroom_k, pick.core_hw)
    room = quantity_of("room_temperature_c").with_unit(choice.limits.design_room_c)
    outside = "" if pick.inside else " It lies outside of what was measured: run it before relying on any of this."
    return (
        f"Of {choice.settings} settings {choice.eligible} keep all limits together, {100.0 * choice.limits.failure.sure:g}"
        f"{NO_BREAK_SPACE}% surely. "
        f"This one {AIM_WORDS[choice.limits.aim]} of them: {noise} in the room, {throughput} of stock, "
        f"{headroom} of headroom at {room}."
        f"{outside}"
    )


def confirmation_text(choice: Choice) -> str:
    """Say how the pick stands, and what is known of how surely it lasts."""
    pick, wanted = choice.pick, choice.limits.clean_minutes * 60.0
    run = duration_text(pick.clean_s)
    if choice.confirmed:
        words = {
            Standing.PROVEN: "proven",
            Standing.MAKERS: "confirmed, maker's voltage",
        }.get(choice.standing, "confirmed, not proven")
        return f"It ran the heaviest load for {run} without a wrong result: {words}. {reliability_text(pick, choice.limits)}"
    if pick.clean_s > 0:
        return (
            f"It has run the heaviest load for {run} of the {duration_text(wanted)} wanted: not yet confirmed, and not proven."
        )
    return (
        f"It is inferred and has not run yet: {duration_text(wanted)} of the heaviest load would confirm it. It is not proven."
    )


def reliability_text(candidate: Candidate, limits: Limits) -> str:
    """Say how likely a failure within the horizon is at most, and what that rests on."""
    goal = limits.failure
    horizon, sure = duration_text(goal.horizon_s), f"{100.0 * goal.sure:g}{NO_BREAK_SPACE}% sure"
    if not math.isfinite(candidate.risk):
        return f"How likely a failure within {horizon} is cannot be told here."
    at_most = f"{risk_text(candidate.risk)} within {horizon} ({sure})"
    if candidate.by_law:
        return f"A failure is at most {at_most} likely, by all exposures, clean and failed."
    return f"Nothing has failed yet: exposure alone leaves a failure up to {at_most} likely; that is what little it says."


def risk_text(chance: float) -> str:
    """Return a chance in per cent, small ones with what tells them apart: ``0.04 %``, ``12 %``."""
    percent = 100.0 * chance
    if percent < 0.001:
        return f"less than 0.001{NO_BREAK_SPACE}%"
    digits = 0 if percent >= 10.0 else 1 if percent >= 1.0 else 2 if percent >= 0.1 else 3
    return f"{number_text(percent, digits)}{NO_BREAK_SPACE}%"


def comparison_text(choice: Choice, other: Candidate) -> str:
    """Say what another setting would win and cost against the pick."""
    pick = choice.pick
    wins: list[str] = []
    costs: list[str] = []
    for amount, unit, digits in (
        (other.throughput_percent - pick.throughput_percent, "%", 1),
        (pick.in_room_dba - other.in_room_dba, "dB", 1),
        (other.headroom_k - pick.headroom_k, "K of headroom", 1),
    ):
        if abs(amount) >= 0.05:
            (wins if amount > 0 else costs).append(f"{number_text(abs(amount), digits)}{NO_BREAK_SPACE}{unit}")
    words = []
    if wins:
        words.append("wins " + ", ".join(wins))
    if costs:
        words.append("costs " + ", ".join(costs))
    text = "; ".join(words) or "is no different"
    return text[0].upper() + text[1:] + "."


def limit_cost_text(choice: Choice, limit: Limit) -> str:
    """Say what a limit costs."""
    cost = next(cost for cost in choice.costs if cost.limit == limit)
    if cost.instead is None:
        return "costs nothing: the pick is the same without it"
    instead = candidate_text(cost.instead)
    unit, better, no = WINS_WORDS[choice.limits.aim]
    wins = cost.wins_db if choice.limits.aim == Aim.QUIETEST else cost.wins
    without = f"without it {instead}, "
    without += no if wins < 0.05 else f"{number_text(wins, 1)}{NO_BREAK_SPACE}{unit} {better}"
    if cost.unit_wins is None or limit not in A_UNIT_LOOSER:
        return without
    bought = "nothing" if cost.unit_wins < 0.05 else f"{number_text(cost.unit_wins, 1)}{NO_BREAK_SPACE}{unit}"
    return f"{A_UNIT_LOOSER[limit]} buys {bought}; {without}"


def limit_text(choice: Choice, limit: Limit) -> str:
    """Return a limit with its value: ``Throughput, at least 90 % of stock``."""
    limits = choice.limits
    if limit in CEILING_OF:
        quantity = quantity_of(CEILING_OF[limit])
        return f"{quantity.title} at most {limits.ceilings[CEILING_OF[limit]]:g}{NO_BREAK_SPACE}{quantity.unit}"
    return {
        Limit.THROUGHPUT: f"Throughput at least {limits.min_throughput_percent:g}{NO_BREAK_SPACE}% of stock",
        Limit.HEADROOM: f"Headroom at least {limits.min_headroom_k:g}{NO_BREAK_SPACE}K "
        f"at {limits.design_room_c:g}{NO_BREAK_SPACE}°C",
        Limit.RESULTS: f"No wrong result in {limits.clean_minutes:g}{NO_BREAK_SPACE}min",
        Limit.FAILURES: f"A failure at most {100.0 * limits.failure.chance:g}{NO_BREAK_SPACE}% likely in "
        f"{duration_text(limits.failure.horizon_s)}",
        Limit.NOISE: f"Noise {noise_words(limits)}, {limits.noise_at}",
        Limit.FANS: "No fan stands",
        Limit.LOADS: each_load_text(limits),
    }[limit]


def each_load_text(limits: Limits) -> str:
    """Return what single loads must keep: ``vector at least 85 % and 10 K``."""
    found = []
    for load, wanted in limits.each_load.items():
        parts = []
        if wanted.min_throughput_percent is not None:
            parts.append(f"{wanted.min_throughput_percent:g}{NO_BREAK_SPACE}% of stock")
        if wanted.min_headroom_k is not None:
            parts.append(f"{wanted.min_headroom_k:g}{NO_BREAK_SPACE}K of headroom")
        found.append(f"{load} at least {' and '.join(parts)}")
    return "; ".join(found)


def unit_cost_text(choice: Choice, limit: Limit) -> str:
    """Say in a few words what a limit costs: what a unit of it buys, or that it costs nothing."""
    cost = next(cost for cost in choice.costs if cost.limit == limit)
    if cost.instead is None:
        return "costs nothing"
    unit = WINS_WORDS[choice.limits.aim][0]
    if cost.unit_wins is None or limit not in A_UNIT_LOOSER:
        return f"costs {number_text(max(cost.wins, 0.0), 1)}{NO_BREAK_SPACE}{unit}".rstrip()
    bought = "nothing" if cost.unit_wins < 0.05 else f"{number_text(cost.unit_wins, 1)}{NO_BREAK_SPACE}{unit}".rstrip()
    return f"{A_UNIT_LOOSER[limit]} buys {bought}"
