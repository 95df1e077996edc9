"""What the margin says of a plan: the field in focus, the run that is selected, the dry run, what could be asked instead."""

import math
from collections.abc import Callable, Sequence

from niente.core.analysis.evidence import RunSummary
from niente.core.model.quantities import NO_BREAK_SPACE, duration_text, number_text, quantity_of, sentence
from niente.core.model.rig_card import RigCard
from niente.core.planning.alternatives import Alternative
from niente.core.planning.dry_run import DryRun, hand_words
from niente.core.planning.forecast import StepForecast
from niente.core.planning.progress import Row, RunStatus
from niente.desktop.pages.plan.run_list import MIN_SHOWN
from niente.desktop.services.translation import tr
from niente.desktop.widgets.blocks import Block, Columns, Reading, Readings, Title, Words

STATUS_WORDS = {
    RunStatus.DONE: "done",
    RunStatus.FAILED: "failed",
    RunStatus.GUARD: "ended by a guard",
    RunStatus.SKIPPED: "left out",
    RunStatus.LEFT_OUT: "left out",
    RunStatus.AHEAD: "ahead",
    RunStatus.EXPECTED: "expected",
}
GUARDS_SHOWN = 4


def explain(
    index: int, row: Row, seen: StepForecast, card: RigCard, controls: tuple[str, ...], *, running: bool = False
) -> list[Block]:
    """Explain one run: what it sets, what it came to or is foreseen to come to, and why it is there."""
    step = row.step
    lines = _temperature_and_noise(row.run, seen) + _power_and_failures(row.run)
    whole = step.setting.over(card.stock)
    words = whole.text(controls) or step.load
    lead = tr("Run {n}, {stage}: {state}")
    lead = lead.format(n=index + 1, stage=tr(step.stage), state=tr("running") if running else tr(STATUS_WORDS[row.status]))
    blocks: list[Block] = [Title(lead, f"{words}, {step.variant}" if step.variant else words)]
    if lines:
        blocks.append(Readings(tr("What it says"), tuple(lines)))
    blocks.append(Words(tr("Why it is here"), " ".join(_reasons(row))))
    return blocks


def _temperature_and_noise(run: RunSummary | None, seen: StepForecast) -> list[Reading]:
    """Return what a run measured, or what is foreseen of it."""
    lines = []
    quantity = quantity_of("hottest_core_c")
    if run is not None and run.settled.known:
        lines.append(_reading(tr("Core, settled"), quantity.text(run.settled.value_c), run.settled.half_width_k, "°C"))
    elif math.isfinite(seen.core_c):
        lines.append(_reading(tr("Core, foreseen"), quantity.text(seen.core_c), seen.core_hw, "°C"))
    if run is not None and math.isfinite(run.noise_dba):
        lines.append(_reading(tr("Noise in the room"), number_text(run.noise_dba, 1), run.noise_hw_db, "dBA"))
    elif math.isfinite(seen.noise_dba):
        lines.append(_reading(tr("Noise, foreseen"), number_text(seen.noise_dba, 1), seen.noise_hw, "dBA"))
    return lines


def _power_and_failures(run: RunSummary | None) -> list[Reading]:
    """Return what only a run that was made can say."""
    lines: list[Reading] = []
    if run is None:
        return lines
    if math.isfinite(run.power_w):
        lines.append(Reading(tr("Package power"), number_text(run.power_w, 1), unit="W"))
    if run.failures:
        lines.append(Reading(tr("Wrong results"), f"{run.failures}"))
    return lines


def _reasons(row: Row) -> list[str]:
    """Say why a run is in the list, what it waits for, and when it ends."""
    step = row.step
    why = [sentence(step.reason)]
    if row.reason:
        why.append(tr("Left out: {reason}.").format(reason=row.reason))
    if row.waits:
        why.append(row.waits)
    if row.status == RunStatus.EXPECTED:
        why.append(tr("It is expected only: which runs come here follows from the results before them."))
    ends = step.exposure
    idle = tr("after {t} idle, ").format(t=duration_text(ends.idle_s)) if ends.idle_s else ""
    if ends.known_to_k is None:
        why.append(tr("It lasts {idle}{t}.").format(idle=idle, t=duration_text(ends.min_s)))
    else:
        known = tr("It ends, {idle}when its settled temperature is known to ±{k} K, at the latest after {t}.")
        why.append(known.format(idle=idle, k=f"{ends.known_to_k:g}", t=duration_text(ends.max_s)))
    return why


def costs(heading: str, unit: str, ways: Sequence[Alternative], budget_h: float | None) -> list[Block]:
    """Show what each of several ways of asking costs; the present one is marked, and what lies over the budget."""
    rows = []
    over = []
    for way in ways:
        time = _hours(way.typical_s) if math.isfinite(way.typical_s) else "–"
        if budget_h is not None and way.typical_s > budget_h * 3600.0:
            over.append(way.words)
            time += " !"
        known = f"±{number_text(way.core_hw, 1)}{NO_BREAK_SPACE}K" if math.isfinite(way.core_hw) else "–"
        mark = "› " if way.is_now else ""
        name = f"{mark}{way.words}"
        if unit and way.words[-1].isdigit():
            name += f"{NO_BREAK_SPACE}{unit}"
        rows.append((name, f"{way.runs}", time, known))
    blocks: list[Block] = [Columns(heading, (tr("runs"), tr("time"), tr("core")), tuple(rows))]
    if over:
        words = tr("{what}: more than {h} h.")
        blocks.append(Words(tr("Over the budget"), words.format(what=", ".join(over), h=f"{budget_h:g}")))
    return blocks


def _hours(seconds: float) -> str:
    """Return a length of time as short as a column has room for: ``5:14 h``."""
    minutes = round(seconds / 60.0)
    return f"{minutes // 60}:{minutes % 60:02d}{NO_BREAK_SPACE}h"


def instead(ways: Sequence[Alternative], budget_s: float) -> list[Block]:
    """Say what fits into a budget that the question does not fit into."""
    if not ways:
        words = tr("Nothing fits into {t}. A fan sweep takes minutes; anything with heat takes longer than that.")
        return [Words(tr("What fits the budget"), words.format(t=duration_text(budget_s)))]
    rows = tuple((way.words, f"{way.runs}", _hours(way.typical_s)) for way in ways)
    return [Columns(tr("What fits the budget"), (tr("runs"), tr("time")), rows)]


def dry(run: DryRun, rows: Sequence[Row], seen: Callable[[Row], StepForecast], card: RigCard) -> list[Block]:
    """Say what the dry run came to: what is wrong, hottest step, hands, guards."""
    blocks: list[Block] = []
    if run.wrong:
        blocks.append(Words(tr("It cannot run"), ". ".join(one[0].upper() + one[1:] for one in run.wrong[:4]) + "."))
    if run.warnings:
        blocks.append(Words(tr("To know before it runs"), " ".join(run.warnings)))
    if run.cost.left_s <= 0:
        return [*blocks, Words(tr("Dry run"), tr("Nothing is left to run: every run has its answer."))]
    lines = []
    if run.hottest is not None:
        at = seen(rows[run.hottest])
        name = tr("Run {n}, foreseen").format(n=run.hottest + 1)
        lines.append(_reading(name, number_text(at.core_c, 1), at.core_hw, "°C"))
    text = tr("{t} ahead, {most} at the most.").format(t=duration_text(run.cost.left_s), most=duration_text(run.cost.max_s))
    times = _hands_words(len(run.hands))
    blocks.append(Words(tr("Dry run"), f"{text} {times}"))
    if lines:
        blocks.append(Readings(tr("Hottest"), tuple(lines)))
    if run.hands:
        blocks.append(Words(tr("By hand"), _first_hands(run.hands, rows, card)))
    near = _nearest(run)
    if near:
        blocks.append(Readings(tr("Nearest to a guard"), near, tr("left, run")))
    return blocks


def _first_hands(hands: Sequence[int], rows: Sequence[Row], card: RigCard) -> str:
    """Say where hands are first wanted, and the caution where they go into the machine."""
    words = tr("First before run {n}: {what}.").format(n=hands[0] + 1, what=hand_words(card, rows, hands[0]))
    if any(rows[index].step.variant for index in hands):
        words += " " + tr("Hands go in with the mains off and unplugged; the maker's limits and local rules come first.")
    return words


def _nearest(run: DryRun) -> tuple[Reading, ...]:
    """Return how near the plan is foreseen to come to its guards."""
    near = []
    for one in run.near[:GUARDS_SHOWN]:
        quantity = quantity_of(one.guard.quantity)
        name = f"{quantity.title}, {number_text(one.guard.trip, 0)}{NO_BREAK_SPACE}{quantity.unit}"
        if one.index is None:
            near.append(Reading(name, "–"))
        else:
            unit = "K" if quantity.unit == "°C" else quantity.unit
            near.append(Reading(name, number_text(one.gap, 1), unit=f"{unit}, {one.index + 1}"))
    return tuple(near)


def _reading(name: str, value: str, half_width: float, unit: str) -> Reading:
    interval = f"±{NO_BREAK_SPACE}{number_text(half_width, 1)}" if half_width >= MIN_SHOWN else ""
    return Reading(name, value, interval, unit)


def _hands_words(times: int) -> str:
    if not times:
        return tr("No hands are needed.")
    return tr("Hands are needed once.") if times == 1 else tr("Hands are needed {n} times.").format(n=times)
