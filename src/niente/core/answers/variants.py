"""A/B of variants: whether a changed part helped, judged by pairs, by degrees or, where something holds both, by the clock."""

import math
from collections.abc import Callable, Sequence

import msgspec

from niente.core.analysis.evidence import RunSummary
from niente.core.answers.framing import framed
from niente.core.answers.material import (
    AnswerMaterial,
    clock_of,
    hottest_settled,
    mean_of_cores,
    minus,
    noise_of_run,
    pooled,
    pooled_over,
    power_in,
    settled_core,
    wall_in,
    work_of,
)
from niente.core.answers.path_parts import part_remark
from niente.core.answers.trial import MOUNTING_SD_K, TOO_SMALL_K, TOO_SMALL_MHZ, Trial, in_time, scatter, size_of
from niente.core.answers.wording import amount, bare, signed
from niente.core.model.answer_document import (
    AnswerDocument,
    AnswerFigure,
    Column,
    Differences,
    MakesSurer,
    Remark,
    RestsOn,
    Spreads,
    Table,
    TableRow,
    Value,
    value_of,
)
from niente.core.model.names import kind_of, part_of
from niente.core.model.plan import Step
from niente.core.model.quantities import duration_text, number_text
from niente.core.planning.progress import RunStatus

REMOUNTED = frozenset({"paste", "cooler", "processor", "heatsink", "water block", "spreader"})
"""Parts that cannot be changed without mounting the cooler again."""
COMPARED: tuple[tuple[str, str, int, Callable[[RunSummary], Value]], ...] = (
    ("Hottest core", "°C", 1, hottest_settled),
    ("Mean of cores", "°C", 1, mean_of_cores),
    ("Package power", "W", 1, power_in),
    ("Wall", "W", 0, wall_in),
    ("Clock", "MHz", 0, clock_of),
    ("Throughput", "1/s", 2, work_of),
    ("Noise in the room", "dBA", 1, noise_of_run),
)


def variants_answer(of: AnswerMaterial) -> AnswerDocument:
    """Return whether the second state of the machine is better than the first."""
    names = _states(of)
    trials = _trials(of, names)
    told = [one for one in trials if one.value.value is not None]
    first = next(iter(told), None)
    return framed(
        of,
        [f"{names[1]} against {names[0]}" if len(names) > 1 else ""],
        _sentence(of, names, first),
        first.verdict_words() if first is not None else "not measured in both",
        consequence=_consequence(told),
        figures=tuple(figure for one in told for figure in _figures(one)),
        table=_table(names, first) if first is not None else None,
        picture=_picture(names, told) if told else None,
        rests_on=f"{sum(len(one.each) for one in trials)} of {sum(_wanted(of, one, names) for one in trials)} pairs",
        basis=_basis(told),
        remarks=_remarks(of, names, told),
        surer=_surer(of, first),
        cautions=(
            "Mains off and unplugged before hands go in; let a heatsink cool. What two states differ by is this machine's own: "
            "mounted again, it may be another.",
        ),
    )


def _states(of: AnswerMaterial) -> tuple[str, ...]:
    """Return the two states, A first."""
    stages: dict[str, str] = {}
    for row in of.rows:
        if row.step.stage in ("A", "B") and row.step.variant:
            stages.setdefault(row.step.stage, row.step.variant)
    return tuple(stages[stage] for stage in ("A", "B") if stage in stages)


def _trials(of: AnswerMaterial, names: tuple[str, ...]) -> list[Trial]:
    """Return what was compared: every load and way of setting the fans, in the order of the plan."""
    found: dict[tuple[object, ...], tuple[Step, tuple[list[RunSummary], list[RunSummary]]]] = {}
    for row in of.rows:
        if row.step.stage not in ("A", "B"):
            continue
        step = of.asked(row)
        fans = step.level_dba, tuple(step.speed_rpm.items())
        key = (step.load, *fans, () if any(fans) else step.setting.key())
        sides = found.setdefault(key, (step, ([], [])))[1]
        if row.run is not None and row.status == RunStatus.DONE:
            sides["AB".index(step.stage)].append(row.run)
    mounted = len(names) > 1 and _mounts(of, names)
    return [Trial(of, step, (sorted(a, key=_when), sorted(b, key=_when)), mounted) for step, (a, b) in found.values()]


def _when(run: RunSummary) -> float:
    return run.opened_at


def _mounts(of: AnswerMaterial, names: Sequence[str]) -> bool:
    """Return whether the cooler has to be mounted again between two states."""
    parts = [
        {part.name.lower(): (part.words, part.tag) for part in variant.parts}
        for variant in of.card.variants
        if variant.name in names
    ]
    differ = {name for one in parts for name in one if any(other.get(name) != one[name] for other in parts)}
    return bool(differ & REMOUNTED)


def _sentence(of: AnswerMaterial, names: tuple[str, ...], first: Trial | None) -> str:
    if len(names) < 2:
        return "Two states of the machine are wanted, and the question names one"
    if first is None:
        return f"{names[1].capitalize()} and {names[0]} have not both been measured yet"
    name = names[1][0].upper() + names[1][1:]
    size = amount(size_of(first.value), first.digits, first.unit)
    way = ("faster" if first.better > 0 else "slower") if first.by_clock else "cooler" if first.better > 0 else "warmer"
    if first.verdict in ("Better", "Worse"):
        return f"{name} is {first.verdict.lower()}: {size} {way}"
    if first.verdict == "Too small to matter":
        return f"{name} is no different: {signed(first.value, first.digits, first.unit)}"
    if first.verdict == "No difference shown":
        return f"No difference shown: {signed(first.value, first.digits, first.unit)}"
    return f"One pair shows nothing yet: {signed(first.value, first.digits, first.unit)}"


def _consequence(told: list[Trial]) -> str:
    words = []
    if told and told[0].by_clock:
        words.append("The temperature cap holds it, so degrees cannot tell: it is judged by the clock.")
    if told:
        words.append(told[0].behind())
    for one in told[1:]:
        where = f"under {one.name.lower()}, {one.how}" if told[0].name != one.name else f"at {one.how}"
        if one.verdict in ("Better", "Worse"):
            words.append(f"{one.verdict_words()} {where}.")
        else:
            words.append(f"{one.verdict} {where}.")
    if told and told[0].mounted:
        words.append("The error of mounting again is in the interval.")
    return " ".join(words[:3])


def _figures(one: Trial) -> list[AnswerFigure]:
    ids = tuple(run.run_id for pair in one.pairs for run in pair)
    name = f"{one.step.load}.{'clock_mhz' if one.by_clock else 'rise_k'}.{one.how}"
    return [AnswerFigure(name, f"{one.name}, {one.how}: B − A", one.unit, one.digits, one.value, ids)]


def _table(names: tuple[str, ...], first: Trial) -> Table:
    """Return both states and their difference, quantity by quantity, for what the sentence speaks of."""
    rows = []
    read = [*COMPARED, *_further(first)]
    for title, unit, digits, reading in read:
        sides = [pooled_over(reading, side) for side in first.sides]
        if all(side.known for side in sides):
            differs = pooled([minus(reading(b), reading(a)) for a, b in first.pairs])
            rows.append(TableRow(title, (*sides, differs), unit=unit, digits=digits))
    columns = (Column("a", f"A, {names[0]}"), Column("b", f"B, {names[1]}"), Column("differs", "B − A"))
    return Table(f"{first.name}, {first.how}", columns, tuple(rows))


def _further(first: Trial) -> list[tuple[str, str, int, Callable[[RunSummary], Value]]]:
    """Return the fans' speeds and what else is read beside the processor."""
    read = {name for side in first.sides for run in side for name in run.channels}
    found: list[tuple[str, str, int, Callable[[RunSummary], Value]]] = []
    for name, title in (
        ("coolant_temperature_c", "Coolant"),
        ("case_air_temperature_c", "Case air"),
        ("board_temperature_c", "Board supply"),
        ("graphics_temperature_c", "Graphics"),
    ):
        if name in read:
            found.append((title, "°C", 1, lambda run, name=name: first.of.settle(run, name)))  # type: ignore[misc]
    for name in sorted(one for one in read if kind_of(one) == "fan_speed_rpm"):
        found.append((f"{part_of(name).capitalize()} fans", "rpm", 0, lambda run, name=name: _mean(run, name)))  # type: ignore[misc]
    return found


def _mean(run: RunSummary, name: str) -> Value:
    read = run.channels.get(name)
    return value_of(read.mean, read.half_width) if read is not None else Value()


def _picture(names: tuple[str, ...], told: list[Trial]) -> Differences:
    by_degrees = tuple(one.spread() for one in told if not one.by_clock)
    by_clock = tuple(one.spread() for one in told if one.by_clock)
    blocks = []
    if by_degrees:
        blocks.append(Spreads("Judged by degrees", "K", 1, by_degrees, TOO_SMALL_K, "B cooler by, K", "B warmer"))
    if by_clock:
        block = Spreads("Judged by clock", "MHz", 0, by_clock, TOO_SMALL_MHZ, "B faster by, MHz", "B slower", rises=True)
        blocks.append(block)
    first = told[0]
    turns = tuple(
        (side, core.value, run.settled.room_c)
        for run, side in in_time(first.sides)
        if (core := settled_core(run)).value is not None
    )
    return Differences(names[0], names[1], tuple(blocks), turns, f"{first.name}, {first.how}")


def _wanted(of: AnswerMaterial, one: Trial, names: tuple[str, ...]) -> int:
    """Return how many pairs the plan asks for of what was compared."""
    counts = [0, 0]
    for row in of.rows:
        same = row.step.stage in ("A", "B") and row.step.load == one.step.load
        if same and (of.asked(row).level_dba, of.asked(row).speed_rpm) == (one.step.level_dba, one.step.speed_rpm):
            counts["AB".index(row.step.stage)] += 1
    return min(counts)


def _basis(told: list[Trial]) -> tuple[RestsOn, ...]:
    pairs = [pair for one in told for pair in one.pairs]
    rooms = [abs(a.settled.room_c - b.settled.room_c) for a, b in pairs if a.settled.known and b.settled.known]
    found = []
    widths = [scatter([value.value or 0.0 for value in one.each]) for one in told if len(one.each) > 1 and not one.by_clock]
    if widths:
        found.append(RestsOn("Scatter of a pair", number_text(max(widths), 1), "K"))
    if rooms:
        found.append(RestsOn("Room within a pair", number_text(max(rooms), 1), "K"))
    return tuple(found)


def _remarks(of: AnswerMaterial, names: tuple[str, ...], told: list[Trial]) -> tuple[Remark, ...]:
    if not told:
        return ()
    rooms = [run.settled.room_c for one in told for pair in one.pairs for run in pair if run.settled.known]
    found = []
    if rooms:
        within = max(
            (
                abs(a.settled.room_c - b.settled.room_c)
                for one in told
                for a, b in one.pairs
                if a.settled.known and b.settled.known
            ),
            default=0.0,
        )
        moved = "No." if within < 0.5 else "It moved, and is taken out."
        whole, most = bare(max(rooms) - min(rooms), 1, "K"), bare(within, 1, "K")
        words = f"{moved} It moved by {whole} in all and at most {most} within a pair; rises are counted over it."
        found.append(Remark("Was it the room?", words))
    part = part_remark(told[0])
    if part is not None:
        found.append(part)
    if told[0].mounted:
        counts = told[0].mountings()
        found.append(
            Remark(
                "Was it the mounting?",
                f"{names[0]} was mounted {counts[0]} times, {names[1]} {counts[1]}. Mounting again moves a result by about "
                f"{bare(MOUNTING_SD_K, 0, 'K')} (common practice, no source); that is in the interval.",
            )
        )
    else:
        found.append(Remark("Was it the mounting?", "The cooler was not lifted between the two states."))
    held = [one for one in told if one.by_clock]
    if held:
        shares = [max((run.limiter_shares.get("temperature cap", 0.0) for run in side), default=0.0) for side in held[0].sides]
        times = f"A stands at the cap for {100 * shares[0]:.0f} % of the time, B for {100 * shares[1]:.0f} %"
        words = f"Under {held[0].name.lower()} {times}. What cools better shows as watts and clock."
        found.append(Remark("Why by clock", words))
    return tuple(found)


def _surer(of: AnswerMaterial, first: Trial | None) -> MakesSurer | None:
    if first is None or of.question is None:
        return None
    more = first.pairs_to_show()
    if first.verdict in ("Better", "Worse", "Too small to matter") or more is None:
        more = 2
    mirrored = math.ceil(more / 2)
    seconds = sum(run.seconds for pair in first.pairs for run in pair) / max(len(first.pairs), 1) * 2 * mirrored
    question = msgspec.structs.replace(of.question, repeats=of.question.repeats + mirrored)
    words = f"{2 * mirrored} more pairs, {duration_text(seconds)} with the load on, and the swaps."
    return MakesSurer(words, seconds / 3600.0, question=question)
