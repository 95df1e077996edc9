"""The soak: hours without a failure, what they bound, and what was watched."""

import math

from niente.core.analysis.evidence import RunSummary
from niente.core.analysis.stability import shows_failures
from niente.core.answers.framing import framed
from niente.core.answers.material import AnswerMaterial, by_load, load_card
from niente.core.answers.wording import listed, load_title
from niente.core.model.answer_document import (
    AnswerCurve,
    AnswerDocument,
    AnswerFigure,
    Column,
    CurvePoint,
    Curves,
    MakesSurer,
    Remark,
    RestsOn,
    Table,
    TableRow,
    Value,
    value_of,
)
from niente.core.model.plan import Exposure, Step
from niente.core.model.quantities import duration_text, quantity_of
from niente.core.planning.progress import RunStatus
from niente.core.science.failure_rate import rate_upper_bound_per_s
from niente.core.selection.explanation import risk_text
from niente.core.selection.proof_words import CORRUPTS
from niente.core.selection.setting_words import brief_text, differing, values_text

NIGHT_S = 8.0 * 3600.0
STEPS = 24
"""Points at which the bound is drawn while it falls."""


def soak_answer(of: AnswerMaterial) -> AnswerDocument:
    """Return how long the machine held, and what that says of a failure within the horizon."""
    runs = [row.run for row in of.rows if row.run is not None and row.status != RunStatus.SKIPPED]
    checked = [run for run in runs if shows_failures(of.card.load(run.load))]
    seconds, failures = sum(run.seconds for run in checked), sum(run.failures > 0 for run in checked)
    goal = of.limits.failure
    at_most = _chance(failures, seconds, goal.sure, goal.horizon_s)
    ids = tuple(run.run_id for run in checked)
    horizon = duration_text(goal.horizon_s)
    bound = rate_upper_bound_per_s(failures, seconds, goal.sure) * 3600.0 if seconds > 0.0 else math.nan
    return framed(
        of,
        [_setting_words(of, runs)],
        _sentence(seconds, failures),
        f"{duration_text(seconds)}, {failures or 'none'} failed" if checked else "not run yet",
        consequence=_consequence(of, seconds, failures, at_most),
        figures=(
            AnswerFigure("clean_h", "Exposure", "h", 1, value_of(seconds / 3600.0), ids),
            AnswerFigure("failures", "Failures", "", 0, value_of(float(failures)), ids),
            AnswerFigure(
                "failures_per_h", "Failures an hour, at most", "1/h", 3, Value(bound, 0.0, bound) if seconds else Value(), ids
            ),
            AnswerFigure(
                "failure_chance_percent",
                f"Chance of a failure in {horizon}, at most",
                "%",
                1,
                Value(100.0 * at_most, 0.0, 100.0 * at_most) if seconds else Value(),
                ids,
            ),
        )
        if checked
        else (),
        table=_table(of),
        picture=_picture(checked, goal.sure, goal.horizon_s) if checked else None,
        rests_on=duration_text(seconds),
        basis=(RestsOn("Failures", f"{failures}"),),
        remarks=_remarks(of, runs),
        surer=_surer(of, seconds, failures),
        cautions=(CORRUPTS,),
    )


def _chance(failures: int, seconds: float, sure: float, horizon_s: float) -> float:
    if seconds <= 0.0:
        return 1.0
    return -math.expm1(-rate_upper_bound_per_s(failures, seconds, sure) * horizon_s)


def _setting_words(of: AnswerMaterial, runs: list[RunSummary]) -> str:
    """Return the settings that were soaked, by what differs from stock."""
    found = {tuple(values_text(differing(run.setting, of.card.stock), brief=True)) for run in runs}
    if len(found) != 1:
        return f"{len(found)} settings" if found else ""
    (one,) = found
    return ", ".join(one) or "the setting as found"


def _sentence(seconds: float, failures: int) -> str:
    if seconds <= 0.0:
        return "Nothing has run yet under a load that checks its results"
    if not failures:
        return f"{duration_text(seconds)} without a failure"
    return f"It failed {failures} {'time' if failures == 1 else 'times'} in {duration_text(seconds)}"


def _consequence(of: AnswerMaterial, seconds: float, failures: int, at_most: float) -> str:
    if seconds <= 0.0:
        return ""
    goal = of.limits.failure
    sure = f"({100.0 * goal.sure:g} % sure), by these hours alone."
    words = f"A failure within {duration_text(goal.horizon_s)} is at most {risk_text(at_most)} likely {sure}"
    if not failures:
        words += " That is little: hours bound a rate only by about three over themselves."
    return words


def _table(of: AnswerMaterial) -> Table | None:
    rows = []
    for load, runs in by_load([row for row in of.rows if row.run is not None]).items():
        known = load_card(of.card, load)
        seconds, failed = sum(run.seconds for run in runs), [run for run in runs if run.failures]
        checks = shows_failures(known)
        bound = _chance(len(failed), seconds, of.limits.failure.sure, 3600.0)
        hottest = max((run.highest.get("core_temperature_c", math.nan) for run in runs), default=math.nan)
        rows.append(
            TableRow(
                load_title(known),
                (
                    value_of(seconds / 3600.0),
                    value_of(float(len(failed))),
                    Value(words=duration_text(min(run.seconds for run in failed))) if failed else Value(),
                    value_of(100.0 * bound) if checks else Value(words="checks nothing"),
                    value_of(hottest),
                ),
                runs=tuple(run.run_id for run in runs),
            )
        )
    columns = (
        Column("hours", "Exposure", "h", 1),
        Column("failures", "Failures", "", 0),
        Column("after", "First after"),
        Column("chance_an_hour_percent", "In an hour, at most", "%", 1),
        Column("peak_c", "Peak", "°C", 1),
    )
    return Table("Load by load", columns, tuple(rows)) if rows else None


def _picture(checked: list[RunSummary], sure: float, horizon_s: float) -> Curves:
    """Return the bound as it falls with the hours, and the failures on it."""
    points: list[CurvePoint] = []
    passed, failures = 0.0, 0
    for run in checked:
        pieces = max(1, round(STEPS * run.seconds / max(sum(one.seconds for one in checked), 1.0)))
        for piece in range(1, pieces + 1):
            last = piece == pieces
            failures += bool(run.failures) and last
            done = passed + run.seconds * piece / pieces
            chance = value_of(100.0 * _chance(failures, done, sure, horizon_s))
            points.append(CurvePoint(done / 3600.0, chance, run.load if last else "", bool(run.failures) and last))
        passed += run.seconds
    hours = duration_text(horizon_s)
    return Curves(
        Column("hours", "Exposure", "h", 1),
        Column("chance_percent", f"Chance of a failure in {hours}, at most", "%", 0),
        (AnswerCurve("At most", tuple(points), leads=True),),
    )


def _remarks(of: AnswerMaterial, runs: list[RunSummary]) -> tuple[Remark, ...]:
    watched = [
        f"{quantity.title.lower()} {'under' if guard.falling else 'over'} {quantity.with_unit(guard.trip)}"
        for guard in of.plan.guards
        if (quantity := quantity_of(guard.quantity))
    ]
    checks = [
        load_title(load).lower()
        for load in of.card.loads
        if any(run.load == load.name for run in runs) and shows_failures(load)
    ]
    found = []
    if checks:
        guards = f" Guards: {listed(watched)}." if watched else ""
        found.append(Remark("What was watched", f"Results of {listed(checks)}.{guards}"))
    blind = [
        load_title(load).lower()
        for load in of.card.loads
        if any(run.load == load.name for run in runs) and not shows_failures(load)
    ]
    if blind:
        found.append(
            Remark(
                "What says nothing",
                f"{listed(blind).capitalize()} checks no results: only a crash would show in it, and its hours do not count.",
            )
        )
    return tuple(found)


def _surer(of: AnswerMaterial, seconds: float, failures: int) -> MakesSurer | None:
    """Return a night of the pick under the heaviest load where there is a pick that was not soaked, or as many hours again."""
    choice, models = of.findings.choice, of.models
    soaked = {run.setting.key() for run in of.runs}
    if choice is not None and models is not None and choice.pick.setting.key() not in soaked:
        step = Step(choice.pick.setting, models.heavy_load, Exposure(NIGHT_S, NIGHT_S), "soak", "Does the pick last?")
        return MakesSurer(
            f"Soak the pick: {brief_text(choice.pick.setting)}, for {duration_text(NIGHT_S)}.", NIGHT_S / 3600.0, (step,)
        )
    if failures or seconds <= 0.0:
        return None
    heavy = next((run for run in of.runs if shows_failures(of.card.load(run.load))), None)
    if heavy is None:
        return None
    step = Step(heavy.setting, heavy.load, Exposure(seconds, seconds), "soak", "As long again")
    chance = _chance(0, 2.0 * seconds, of.limits.failure.sure, of.limits.failure.horizon_s)
    words = f"As long again, {duration_text(seconds)}: without a failure, then at most {risk_text(chance)}."
    return MakesSurer(words, seconds / 3600.0, (step,))
