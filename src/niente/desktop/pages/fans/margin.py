"""What the Fans page says in the margin: the selected point, the day in figures, what may go wrong, and what is not known."""

from collections.abc import Sequence

from niente.core.fans.told import DayFigures, GroupFacts, PointFacts, RehearsedDay, WorstCase
from niente.core.model.fan_curve import FanCurve
from niente.core.model.quantities import NO_BREAK_SPACE, number_text
from niente.core.science.dynamics import Scale
from niente.desktop.services.translation import tr
from niente.desktop.widgets.blocks import Block, Buttons, Columns, Reading, Readings, Title, Words

BOARD = "board_temperature_c"


def head(facts: PointFacts, group: GroupFacts, curve: FanCurve | None, point: str) -> tuple[str, str]:
    """Return the page's lead and title."""
    name = group.name.capitalize()
    if curve is None:
        lead = tr("A fixed duty; {point}, {setting}").format(point=point, setting=facts.setting.text())
        return lead, tr("{group} fans, {duty} %").format(group=name, duty=f"{group.fixed:g}")
    lead = tr("Duty over the {source}; made for {point}, {setting}")
    lead = lead.format(source=curve.source_words, point=point, setting=facts.setting.text())
    return lead, tr("{group} fans, curve for {point}").format(group=name, point=point)


def blocks(
    group: GroupFacts,
    point: tuple[FanCurve | None, int],
    scale: Scale,
    facts: PointFacts,
    days: Sequence[tuple[str, RehearsedDay]],
    worst: Sequence[WorstCase],
    *,
    drawing: bool,
) -> list[Block]:
    """Return the margin's blocks; ``point`` is the group's curve and its selected point, ``days`` are the day now and those
    beside it, with what they are called."""
    curve, selected = point
    found: list[Block] = [*_point(group, curve, selected, scale)]
    loop = days[0][1].loops.get(group.name, "") if days else ""
    if loop:
        found.append(Words(tr("Does it swing?"), loop))
    if days:
        found.append(_rehearsed(days))
    found += [Words(tr("Gaps"), _gaps_text(day)) for _, day in days[:1] if day.measured is not None and day.measured.gaps_s]
    if worst:
        rows = tuple((one.name, number_text(one.hottest_c, 0), f"{one.throttled_s}") for one in worst)
        found.append(Columns(tr("If something goes wrong"), ("°C", tr("s slowed")), rows))
    warnings = [one.warning for one in worst if one.warning]
    if warnings:
        found.append(Words(tr("Caution"), " ".join(warnings)))
    found.append(Buttons(("fans.stop_drawing",) if drawing else ("fans.draw",)))
    found.append(Buttons(("fans.take_off",) if curve is not None else ("fans.give",)))
    found.append(Words(tr("What it rests on"), " ".join(facts.doubts)))
    return found


def _gaps_text(day: RehearsedDay) -> str:
    """Return how much of a run was not read."""
    assert day.measured is not None
    words = tr("Gaps of {s} s together in what was read are bridged by straight lines.")
    return words.format(s=f"{day.measured.gaps_s:.0f}")


def _point(group: GroupFacts, curve: FanCurve | None, selected: int, scale: Scale) -> list[Block]:
    if curve is None:
        lead = tr("{group} fans, no curve").format(group=group.name.capitalize())
        return [Title(lead, f"{group.fixed:g}{NO_BREAK_SPACE}%"), _readings(group, group.fixed, scale)]
    celsius, duty = curve.points[selected]
    lead = tr("Point {k} of {n}").format(k=selected + 1, n=len(curve.points))
    text = f"{celsius:g}{NO_BREAK_SPACE}°C, {duty:g}{NO_BREAK_SPACE}%"
    return [Title(lead, text), _readings(group, max(duty, curve.floor_percent), scale)]


def _readings(group: GroupFacts, duty: float, scale: Scale) -> Readings:
    whole = round(min(max(duty, 0.0), 100.0))
    lines = [
        Reading(tr("Speed"), number_text(float(group.rpm[whole]), 0), unit="rpm"),
        Reading(tr("These fans alone"), number_text(float(group.level_dba[whole]), 1), unit="dBA"),
        Reading(
            tr("With the room"), number_text(float(group.in_room_dba[whole]), 1), unit="dBA",
            mark=scale.mark(float(group.in_room_dba[whole])),
        ),
    ]  # fmt: skip
    if group.start <= 100.0:
        lines.append(Reading(tr("Seen to turn from"), f"{group.start:g}", unit="%"))
    if group.stall > 0.0:
        lines.append(Reading(tr("Seen to stand at"), f"{group.stall:g}", unit="%"))
    return Readings(tr("At this duty"), tuple(lines))


def _rehearsed(days: Sequence[tuple[str, RehearsedDay]]) -> Columns:
    every = [day.figures for _, day in days]
    rows = (
        (tr("Changes heard"), *(f"{one.ramps}" for one in every)),
        (tr("Mean level, dBA"), *(number_text(one.mean_dba, 1) for one in every)),
        (tr("Loudest, dBA"), *(number_text(one.loudest_dba, 1) for one in every)),
        (tr("Hottest core, °C"), *(number_text(one.hottest_c, 1) for one in every)),
        *_board(every),
        (tr("Over the room, min"), *(f"{one.over_room_s / 60:.0f}" for one in every)),
        (tr("Slowed by heat, s"), *(f"{one.throttled_s}" for one in every)),
        (tr("Swings"), *(f"{one.hunts}" for one in every)),
    )
    return Columns(tr("Rehearsed"), tuple(name for name, _ in days), rows)


def _board(every: Sequence[DayFigures]) -> tuple[tuple[str, ...], ...]:
    """Return how hot the board's supply becomes, where a sensor tells."""
    read = [one.hottest_at.get(BOARD) for one in every]
    if any(one is None for one in read):
        return ()
    return ((tr("Board supply, °C"), *(number_text(one, 0) for one in read if one is not None)),)
