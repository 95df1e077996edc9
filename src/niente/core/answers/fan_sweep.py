"""The fan sweep: how loud each group of fans is over its duty and speed, and what a kelvin costs in decibels."""

import math
from collections.abc import Sequence

import numpy as np

from niente.core.analysis.evidence import RunSummary
from niente.core.analysis.models import Models
from niente.core.answers.fan_split import Split, quietest_splits
from niente.core.answers.framing import framed, known_figures
from niente.core.answers.material import (
    AnswerMaterial,
    by_load,
    load_card,
    minus,
    noise_of_run,
    pooled_over,
)
from niente.core.answers.wording import amount, bare, listed, load_title
from niente.core.model.answer_document import (
    AnswerCurve,
    AnswerDocument,
    AnswerFigure,
    Column,
    CurvePoint,
    Curves,
    Remark,
    Ruled,
    Table,
    TableRow,
    Value,
    value_of,
)
from niente.core.model.plan import Until
from niente.core.model.rig_card import LoadKind, RigCard
from niente.core.planning.ladder_ends import STANDS_RPM
from niente.core.planning.progress import RunStatus
from niente.core.science.acoustics import background_correction_db

MIN_POINTS = 6
"""So many duties tell a hump from the law that it stands on."""
STANDS_OUT_DB = 0.8
"""What stands out over its neighbours by this much is a resonance; common practice, no source: one decibel is about the least
difference that a side by side comparison tells."""


class _Group:
    """One group of fans alone: its readings by duty, where it starts to turn, and where its level climbs too steeply."""

    def __init__(self, of: AnswerMaterial, group: str) -> None:
        self.group = group
        self.runs = sorted(
            (
                run
                for run in (row.run for row in of.stage("noise"))
                if run is not None and run.load_kind == LoadKind.IDLE and _alone(of.card, run, group)
            ),
            key=lambda run: run.setting.fan_duty.get(group, 0.0),
        )
        self.stalls = self._turned_over(of, Until.STANDS)
        self.starts = self._turned_over(of, Until.TURNS)

    def _turned_over(self, of: AnswerMaterial, until: Until) -> Value:
        """Return between which duties the group went over from turning to a stand or back, on a ladder that was run for it: it
        is known no closer than its rungs lie apart. Where it turned or stood at all of them, one of the ends."""
        runs = [
            row.run
            for row in of.rows
            if row.run is not None
            and row.status == RunStatus.DONE
            and (row.step.watches, row.step.until) == (self.group, until)
        ]
        duties = {
            turns: [run.setting.fan_duty.get(self.group, 0.0) for run in runs if self._turns(run) == turns]
            for turns in (True, False)
        }
        low, high = max(duties[False], default=None), min(duties[True], default=None)
        if low is None or high is None:
            return Value(None, low, high)
        return Value((low + high) / 2.0, low, high)

    def _turns(self, run: RunSummary) -> bool:
        return not self.rpm(run) < STANDS_RPM

    def rpm(self, run: RunSummary) -> float:
        """Return how fast the group turned."""
        return run.fan_rpm.get(self.group, math.nan)

    @property
    def turning(self) -> list[RunSummary]:
        """The runs in which it turned."""
        return [run for run in self.runs if self._turns(run)]

    @property
    def starts_at(self) -> float | None:
        """The lowest duty at which it turned from a stand; ``None`` where it turned at all that were run."""
        if self.starts.high is not None:
            return self.starts.high
        if len(self.turning) == len(self.runs) or not self.turning:
            return None
        return self.turning[0].setting.fan_duty.get(self.group)

    def resonances(self, room: Value) -> list[tuple[float, float]]:
        """Return speeds between which the group is louder than its own law has it (rpm): where its level alone stands out, on
        both sides, over a straight line through all of them (Theil-Sen; levels over the logarithm of speed)."""
        from scipy.signal import find_peaks
        from scipy.stats import theilslopes

        if room.value is None:
            return []
        heard = [run for run in self.turning if math.isfinite(run.noise_dba) and self.rpm(run) > 0.0]
        alone = [(run, background_correction_db(run.noise_dba - room.value)) for run in heard]
        known = [(self.rpm(run), run.noise_dba - k1, run.noise_se_db) for run, k1 in alone if k1 is not None]
        if len(known) < MIN_POINTS:
            return []
        speeds, levels, errors = np.array(known).T
        line = theilslopes(levels, np.log10(speeds))
        over = levels - line.slope * np.log10(speeds) - line.intercept
        least_db = max(STANDS_OUT_DB, 4.0 * float(np.median(errors)))
        _, found = find_peaks(over, prominence=least_db, width=0.0, rel_height=0.5)
        at = np.arange(speeds.size)
        ends = (np.interp(found[side], at, speeds) for side in ("left_ips", "right_ips"))
        return list(zip(*(end.tolist() for end in ends), strict=True))


def _alone(card: RigCard, run: RunSummary, group: str) -> bool:
    """Return whether only one group was set above its lowest duty; others may stand, too, and a pump goes on."""
    return run.setting.fan_duty.get(group, 0.0) > _lowest(card, group) and all(
        name == group or duty <= _lowest(card, name) or run.fan_rpm.get(name, math.nan) < STANDS_RPM
        for name, duty in run.setting.fan_duty.items()
    )


def _lowest(card: RigCard, group: str) -> float:
    control = card.control(f"fan_duty.{group}")
    return control.low if control is not None else 0.0


def fan_answer(of: AnswerMaterial) -> AnswerDocument:
    """Return how loud each group of fans is over its duty and speed, and what cooling costs in noise."""
    groups = [group for name in of.card.fan_groups() if (group := _Group(of, name)).runs]
    room = _background(of)
    trade = _trade(of)
    splits = quietest_splits(of.models, trade[0][1].runs) if trade and of.models is not None else []
    return framed(
        of,
        ["no load" if not trade else "under load too"],
        _fan_sentence(groups, room, trade),
        _fan_short(groups),
        consequence=_fan_consequence(groups, room, trade),
        figures=[*_fan_figures(groups, room), *_trade_figures(trade), *_split_figures(splits)],
        table=_fan_table(groups, room, of.models),
        picture=_fan_picture(groups, room, _room_words(of.card)),
        remarks=(*_split_remarks(of, trade, splits), *_fan_remarks(groups, of, room)),
        surer=None,
        cautions=("Never stop the fan of a processor or of a board's supply under load without a guard that watches it.",),
    )


def _background(of: AnswerMaterial) -> Value:
    """Return the level with every group at its lowest: the room, and a pump that goes on."""
    quiet = [
        row.run
        for row in of.stage("noise")
        if row.run is not None
        and all(
            not rpm > STANDS_RPM or row.run.setting.fan_duty.get(group, 0.0) <= _lowest(of.card, group)
            for group, rpm in row.run.fan_rpm.items()
        )
    ]
    return pooled_over(noise_of_run, quiet)


def _room_words(card: RigCard) -> str:
    """Return what is heard with every group at its lowest."""
    going = [f"{group} at {bare(low, 0, '%')}" for group in card.fan_groups() if (low := _lowest(card, group)) > 0.0]
    return f"the room, {listed(going)}" if going else "the room"


class _Trade:
    """All fans together under one load: rise over the room and level in it, from slow to fast."""

    def __init__(self, runs: Sequence[RunSummary]) -> None:
        known = [run for run in runs if run.settled.known and not run.heat_limited and math.isfinite(run.noise_dba)]
        self.runs = sorted(known, key=lambda run: run.noise_dba)

    def cost_db_per_k(self) -> list[tuple[RunSummary, RunSummary, float]]:
        """Return what a kelvin costs in decibels between neighbours."""
        return [
            (slow, fast, (fast.noise_dba - slow.noise_dba) / (slow.rise_k - fast.rise_k))
            for slow, fast in zip(self.runs, self.runs[1:], strict=False)
            if slow.rise_k - fast.rise_k > 0.1 and math.isfinite(fast.noise_dba - slow.noise_dba)
        ]


def _trade(of: AnswerMaterial) -> list[tuple[str, _Trade]]:
    found = [(load_title(load_card(of.card, load)), _Trade(runs)) for load, runs in by_load(of.stage("heat")).items()]
    return [(title, trade) for title, trade in found if len(trade.runs) > 1]


def _fan_sentence(groups: Sequence[_Group], room: Value, trade: list[tuple[str, _Trade]]) -> str:
    if not groups:
        return "No group of fans has been heard alone yet"
    if trade:
        title, one = trade[0]
        costs = one.cost_db_per_k()
        if costs:
            quiet, loud = bare(costs[0][2], 2, "dB"), bare(costs[-1][2], 2, "dB")
            return f"Under {title.lower()} a kelvin costs {quiet} at the quiet end, {loud} at the loud one"
    heard = [group for group in groups if math.isfinite(group.runs[-1].noise_dba)]
    if not heard:
        return "No sound meter has heard the fans: their speeds are known, and nothing else"
    loudest = max(heard, key=lambda group: group.runs[-1].noise_dba)
    top = loudest.runs[-1]
    duty = bare(top.setting.fan_duty.get(loudest.group), 0, "%")
    return f"The {loudest.group} fans are the loudest: {amount(noise_of_run(top), 1, 'dBA')} at {duty}"


def _fan_short(groups: Sequence[_Group]) -> str:
    return f"{len(groups)} groups heard" if groups else "nothing heard yet"


def _fan_consequence(groups: Sequence[_Group], room: Value, trade: list[tuple[str, _Trade]]) -> str:
    words = []
    for group in groups:
        heard = next((run for run in group.turning if room.value is not None and run.noise_dba - room.value >= 1.5), None)
        if heard is not None:
            duty = heard.setting.fan_duty.get(group.group)
            words.append(
                f"The {group.group} fans rise out of the room from {bare(duty, 0, '%')} on, {bare(group.rpm(heard), 0, 'rpm')}."
            )
    return " ".join(words[:3])


def _fan_figures(groups: Sequence[_Group], room: Value) -> list[AnswerFigure]:
    found = [AnswerFigure("background_dba", "Heard with all fans at their lowest", "dBA", 1, room)] if room.known else []
    for group in groups:
        for run in group.runs:
            duty = run.setting.fan_duty.get(group.group, 0.0)
            name = f"{group.group}.{duty:g}"
            title = f"{group.group} at {duty:g} %"
            found.append(AnswerFigure(f"{name}.noise_dba", f"{title}: noise", "dBA", 1, noise_of_run(run), (run.run_id,)))
            found.append(
                AnswerFigure(f"{name}.fan_speed_rpm", f"{title}: speed", "rpm", 0, value_of(group.rpm(run)), (run.run_id,))
            )
        if group.starts_at is not None:
            starts = Value(group.starts_at, group.starts.low, group.starts.high)
            found.append(AnswerFigure(f"{group.group}.starts_at", f"{group.group} starts at", "%", 0, starts))
        if group.stalls.low is not None:
            stalls = Value(group.stalls.low, group.stalls.low, group.stalls.high)
            found.append(AnswerFigure(f"{group.group}.stalls_at", f"{group.group} stands still from", "%", 0, stalls))
    return [one for one in found if one.value.known]


def _trade_figures(trade: list[tuple[str, _Trade]]) -> list[AnswerFigure]:
    return [
        AnswerFigure(
            f"{title}.{slow.run_id}-{fast.run_id}.db_per_k",
            f"{title}: a kelvin costs",
            "dB",
            2,
            value_of(cost),
            (slow.run_id, fast.run_id),
        )
        for title, one in trade
        for slow, fast, cost in one.cost_db_per_k()
    ]


def _split_figures(splits: Sequence[Split]) -> list[AnswerFigure]:
    """Return for each run's cooling the level of the quietest split, and what it wins."""
    found = []
    for split in splits:
        name, title = f"split.{split.run.run_id}", f"As cool as run {split.run.run_id}"
        told = [("noise_dba", "the quietest split", "dBA", 1, value_of(split.level_dba, forecast=True))]
        told.append(("wins_db", "what it wins", "dB", 1, value_of(split.wins_db, forecast=True)))
        warmer = value_of(split.warmer_k, split.warmer_half_k, forecast=True)
        told.append(("warmer_k", "how much warmer it is", "K", 1, warmer))
        told += [
            (f"fan_duty.{group}", f"{group} fans", "%", 0, value_of(duty, forecast=True))
            for group, duty in split.duties.items()
        ]
        found += known_figures(name, title, told, (split.run.run_id,))
    return found


def _split_remarks(of: AnswerMaterial, trade: list[tuple[str, _Trade]], splits: Sequence[Split]) -> tuple[Remark, ...]:
    """Say which split is quietest for the cooling that was run, or what would tell."""
    if not trade:
        words = "Which split is quietest for the same cooling shows once heat is measured too: put a load into the question."
        return (Remark("Quietest split", words),)
    if not splits:
        return ()
    best = max(splits, key=lambda split: split.wins_db)
    duties = listed([f"{group} {bare(duty, 0, '%')}" for group, duty in best.duties.items()])
    if best.wins_db < 0.2:
        return (Remark("Quietest split", "All fans together as they were run are as quiet as any split that cools as well."),)
    rise, louder = bare(best.run.rise_k, 1, "K"), bare(best.wins_db, 1, "dB")
    words = f"For a rise of {rise}: {duties}, {bare(best.level_dba, 1, 'dBA')}; together they are {louder} louder."
    doubt = bare(best.warmer_half_k, 1, "K")
    return (Remark("Quietest split", f"{words} By the models, as cool within {doubt}; run it."),)


def _fan_table(groups: Sequence[_Group], room: Value, models: Models | None) -> Table | None:
    rows = []
    for group in groups:
        for run in group.runs:
            duty = run.setting.fan_duty.get(group.group, 0.0)
            own = Value()
            if models is not None and group.group in models.noise.groups:
                rpm = np.array([[group.rpm(run) if name == group.group else 0.0 for name in models.noise.groups]])
                own = value_of(float(models.noise.machine_alone(rpm)[0]), forecast=True)
            over = minus(noise_of_run(run), room)
            rows.append(
                TableRow(
                    f"{group.group} {duty:g} %",
                    (value_of(group.rpm(run)), noise_of_run(run), over, own),
                    "" if not group.rpm(run) < STANDS_RPM else "stands still",
                    (run.run_id,),
                )
            )
    columns = (
        Column("fan_speed_rpm", "Speed", "rpm", 0),
        Column("noise_dba", "In the room", "dBA", 1),
        Column("over_db", "Over the room", "dB", 1),
        Column("alone_dba", "Alone, by model", "dBA", 1),
    )
    return Table("Group by group", columns, tuple(rows)) if rows else None


def _fan_picture(groups: Sequence[_Group], room: Value, room_words: str) -> Curves | None:
    curves = tuple(
        AnswerCurve(
            f"{group.group} fans",
            tuple(
                CurvePoint(
                    run.setting.fan_duty.get(group.group, 0.0),
                    noise_of_run(run),
                    "" if not group.rpm(run) < STANDS_RPM else "stands still",
                )
                for run in group.runs
                if math.isfinite(run.noise_dba)
            ),
        )
        for group in groups
    )
    ruled = (Ruled(room_words, y=room.value),) if room.value is not None else ()
    x, y = Column("fan_duty", "Duty", "%", 0), Column("noise_dba", "Noise in the room", "dBA", 0)
    return Curves(x, y, curves, ruled) if any(curve.points for curve in curves) else None


def _start_words(group: _Group) -> str:
    """Say where a group starts from a stand and where it stalls; empty where neither was seen."""
    starts, stalls = group.starts, group.stalls
    words = []
    if starts.low is not None and starts.high is not None:
        words.append(f"starts between {starts.low:g} and {bare(starts.high, 0, '%')}")
    elif group.starts_at is not None:
        words.append(f"turns from {bare(group.starts_at, 0, '%')} on, of the duties that were run")
    if stalls.low is not None and stalls.high is not None:
        words.append(f"stalls between {stalls.high:g} and {bare(stalls.low, 0, '%')}")
    elif stalls.high is not None:
        words.append(f"still turns at {bare(stalls.high, 0, '%')}")
    return f"{group.group.capitalize()} {listed(words)}." if words else ""


def _fan_remarks(groups: Sequence[_Group], of: AnswerMaterial, room: Value) -> tuple[Remark, ...]:
    found = []
    still = [words for group in groups if (words := _start_words(group))]
    if still:
        found.append(Remark("Where they start", " ".join(still)))
    humps = [
        f"{group.group} between {bare(low, 0, 'rpm')} and {bare(high, 0, 'rpm')}"
        for group in groups
        for low, high in group.resonances(room)
    ]
    if humps:
        found.append(Remark("Where it hums", f"{listed(humps)}: it is louder there than its speed explains. Cross it quickly."))
    two = [group for group in groups if len(group.turning) > 1]
    if two and of.models is not None:
        laws = [
            f"{group.group} {bare(of.models.noise.law_of(group.group)[0], 0, 'dB')}"
            for group in two
            if group.group in of.models.noise.groups
        ]
        if laws:
            found.append(
                Remark("Ten times the speed", f"{listed(laws)}. Two equal fans are 3 dB louder than one (sum of energies).")
            )
    return tuple(found)
