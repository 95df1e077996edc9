"""The capacity ladder: how many watts the cooler carries, and its slope in kelvin a watt, for each setting of the fans."""

import math

import msgspec
import numpy as np

from niente.core.analysis.evidence import RunSummary
from niente.core.answers.framing import framed
from niente.core.answers.material import AnswerMaterial, load_card, noise_of_run, pooled_over
from niente.core.answers.wording import amount, bare, load_title
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
    Ruled,
    Table,
    TableRow,
    Value,
    value_of,
)
from niente.core.model.plan import Step
from niente.core.model.quantities import duration_text, quantity_of
from niente.core.science.statistics import Z95, FittedLine, fit_line

RATED_COOLANT_C = (40.0, 50.0)
"""A loop is rated where its coolant has settled at that, never before (common practice, no source)."""
MIN_RUNGS, NEAREST = 3, 5
COMMON = 0.5
"""How much of the doubt of where runs settle they share: the same slow warmth is behind all of them."""
EASES, BENDS = 0.1, 0.004
"""A cooler's slope eases with temperature, by this share of the watts beyond the last rung; between rungs it bends the
capacity by so much of itself (common practice, no source)."""
SENSOR_K = 0.1
"""What a rung's settled rise is never known better than."""


class _Ladder:
    """The rungs of one load at one setting of the fans."""

    def __init__(self, of: AnswerMaterial, step: Step, runs: list[RunSummary]) -> None:
        self.of, self.step = of, step
        self.every = runs
        self.free = [run for run in runs if run.settled.known and not run.heat_limited and math.isfinite(run.power_w)]
        self.ceiling_c = of.card.temperature_ceiling_c(step.setting)
        self.line = _fitted(self.free, [run.rise_k for run in self.free])
        self.carries = self.capacity(of.limits.design_room_c)
        """What it carries in the design room, W."""
        self.by_coolant = self._rested_coolant()

    @property
    def fans(self) -> str:
        """How the fans stood, in words."""
        if self.step.level_dba is not None:
            return f"all fans at {bare(self.step.level_dba, 1, 'dBA')}"
        if self.step.speed_rpm:
            return ", ".join(f"{group} {bare(rpm, 0, 'rpm')}" for group, rpm in self.step.speed_rpm.items())
        setting = self.step.setting.over(self.of.card.stock)
        if setting.fan_curve:
            return "fans on a curve"
        return ", ".join(f"{group} {bare(duty, 0, '%')}" for group, duty in setting.fan_duty.items()) or "no fan to set"

    @property
    def slope(self) -> Value:
        """Kelvin a watt."""
        if self.line is None:
            return Value()
        from scipy.stats import t

        return value_of(self.line.slope, float(t.ppf(0.975, max(self.line.degrees, 1))) * self._slope_se())

    def _slope_se(self) -> float:
        """Return the slope's standard error: by the scatter about the line, and never better than the rungs are known."""
        assert self.line is not None
        own = math.sqrt(sum(max(run.settled.half_width_k / Z95, SENSOR_K) ** 2 for run in self.free) / len(self.free))
        return max(self.line.slope_se, 0.5 * own / math.sqrt(self.line.spread_x))

    def capacity(self, room_c: float) -> Value:
        """Return the package watts at which the rungs nearest to the ceiling meet it in a room, on a line."""
        limit = self.ceiling_c - room_c
        near = sorted(self.free, key=lambda run: abs(run.rise_k - limit))[:NEAREST]
        line = _fitted(near, [run.rise_k for run in near])
        if line is None or line.slope <= 0.0:
            return Value()
        found = (limit - line.intercept) / line.slope
        if found <= 0.0:
            return Value()
        beyond = max(found - max(run.power_w for run in near), min(run.power_w for run in near) - found, 0.0)
        widths = [run.settled.half_width_k for run in near]
        own = math.hypot(math.sqrt(sum(width * width for width in widths)) / len(near), COMMON * sum(widths) / len(near))
        far = math.sqrt(1.0 + (found - line.mean_x) ** 2 * len(near) / line.spread_x)
        width = math.hypot(own * far / line.slope, EASES * beyond, BENDS * found)
        return value_of(found, width, forecast=found > max(run.power_w for run in self.free))

    @property
    def limited_at(self) -> float | None:
        """The least package power at which heat limited the clock; ``None`` where it never did."""
        held = [run.setting.sustained_power_w for run in self.every if run.heat_limited and run.setting.sustained_power_w]
        return min(held, default=None)

    def _rested_coolant(self) -> Value:
        """Return the package watts at which settled coolant stands in the middle of where loops are rated."""
        rise = [(run, self.of.settle(run, "coolant_temperature_c")) for run in self.free]
        known = [(run, value.value - run.settled.room_c, value) for run, value in rise if value.value is not None]
        if len(known) < MIN_RUNGS or len(known) != len(self.free):
            return Value()
        line = _fitted(self.free, [risen for _, risen, _ in known])
        if line is None or line.slope <= 0.0:
            return Value()
        middle = 0.5 * sum(RATED_COOLANT_C) - self.of.limits.design_room_c
        found = (middle - line.intercept) / line.slope
        highest = max(run.power_w for run in self.free)
        return value_of(found, line.at(found, of_mean=True)[1] / line.slope, forecast=not 0.0 < found <= highest)


def _fitted(runs: list[RunSummary], rises: list[float]) -> FittedLine | None:
    """Return the line of rises over package watts; ``None`` for fewer than three rungs, or rungs at one power."""
    watts = np.array([run.power_w for run in runs])
    return fit_line(watts, np.array(rises)) if len(runs) >= MIN_RUNGS and np.ptp(watts) > 0.0 else None


def capacity_answer(of: AnswerMaterial) -> AnswerDocument:
    """Return what the cooler carries at each setting of the fans."""
    ladders = _ladders(of)
    room = of.limits.design_room_c
    told = sorted((one for one in ladders if one.line is not None), key=lambda one: -(one.carries.value or 0.0))
    return framed(
        of,
        [f"{bare(room, 0, '°C')} design room"],
        _sentence(of, told, ladders),
        amount(told[0].carries, 0, "W") if told else "no line yet",
        consequence=_consequence(of, told),
        figures=tuple(figure for one in told for figure in _figures(of, one)),
        table=_table(of, ladders),
        picture=_picture(of, ladders),
        rests_on=f"{sum(len(one.free) for one in ladders)} rungs",
        basis=[RestsOn("Free of the cap", f"{sum(len(one.free) for one in ladders)}", "runs")],
        remarks=_remarks(told),
        surer=_surer(of, told),
        cautions=("Capacity is this cooler's in this case, mounted as it is: mounted again, it may be another.",),
    )


def _ladders(of: AnswerMaterial) -> list[_Ladder]:
    found: dict[tuple[object, ...], tuple[Step, list[RunSummary]]] = {}
    for row in of.rows:
        step = of.asked(row)
        fans = step.setting.over(of.card.stock)
        key = (
            step.load,
            step.level_dba,
            tuple(step.speed_rpm.items()),
            tuple(sorted(fans.fan_duty.items())),
            tuple(sorted(fans.fan_curve.items())),
        )
        runs = found.setdefault(key, (step, []))[1]
        if row.run is not None and not row.run.failures:
            runs.append(row.run)
    return [_Ladder(of, step, runs) for step, runs in found.values() if runs]


def _sentence(of: AnswerMaterial, told: list[_Ladder], ladders: list[_Ladder]) -> str:
    room = of.limits.design_room_c
    if not told:
        held = [one for one in ladders if one.every and all(run.heat_limited for run in one.every)]
        if held:
            return "Heat limits every rung: the cooler carries less than the lowest of them"
        return "Three settled rungs make a line; there are not so many yet"
    value = told[0].carries
    if not value.known:
        return f"{amount(told[0].slope, 3, 'K/W')}: no power that was run comes near the limit"
    return f"It carries {amount(value, 0, 'W')} in a {bare(room, 0, '°C')} room"


def _consequence(of: AnswerMaterial, told: list[_Ladder]) -> str:
    if not told:
        return ""
    top = told[0]
    words = [f"{amount(top.slope, 3, 'K/W')} with {top.fans}."]
    if top.carries.forecast:
        words.append("That lies beyond every power that was run: it is inferred.")
    if top.limited_at is not None:
        words.append(f"In the room as it was, heat limited the clock from a limit of {bare(top.limited_at, 0, 'W')} on.")
    if top.by_coolant.known:
        words.append(f"By settled coolant of 45 °C it carries {amount(top.by_coolant, 0, 'W')}.")
    return " ".join(words)


def _figures(of: AnswerMaterial, one: _Ladder) -> list[AnswerFigure]:
    ids = tuple(run.run_id for run in one.free)
    name = f"{one.step.load}.{one.fans}"
    found = [AnswerFigure(f"{name}.resistance_kpw", f"{one.fans}: slope", "K/W", 3, one.slope, ids)]
    if one.carries.known:
        found.append(AnswerFigure(f"{name}.capacity_w", f"{one.fans}: capacity", "W", 0, one.carries, ids))
    if one.by_coolant.known:
        found.append(AnswerFigure(f"{name}.by_coolant_w", f"{one.fans}: by settled coolant", "W", 0, one.by_coolant, ids))
    return found


def _table(of: AnswerMaterial, ladders: list[_Ladder]) -> Table | None:
    rows = []
    rooms = [run.settled.room_c for one in ladders for run in one.free]
    here = sum(rooms) / len(rooms) if rooms else math.nan
    for one in ladders:
        rows.append(
            TableRow(
                one.fans,
                (
                    one.slope,
                    value_of(one.line.intercept) if one.line is not None else Value(),
                    one.carries,
                    one.capacity(here) if math.isfinite(here) else Value(),
                    one.by_coolant,
                    pooled_over(noise_of_run, one.every),
                    value_of(float(len(one.free))),
                    Value(one.limited_at) if one.limited_at is not None else Value(words="never"),
                ),
                load_title(load_card(of.card, one.step.load)),
                tuple(run.run_id for run in one.every),
            )
        )
    columns = (
        Column("resistance_kpw", "Slope", "K/W", 3),
        Column("still_k", "At no watts", "K", 1),
        Column("capacity_w", f"In {of.limits.design_room_c:g} °C", "W", 0),
        Column("capacity_here_w", "In this room", "W", 0),
        Column("by_coolant_w", "Coolant 45 °C", "W", 0),
        Column("noise_dba", "Noise", "dBA", 1),
        Column("rungs", "Rungs", "", 0),
        Column("limited_w", "Heat limits from", "W", 0),
    )
    kept = [
        index
        for index, column in enumerate(columns)
        if column.name != "by_coolant_w" or any(row.values[index].known for row in rows)
    ]
    rows = [msgspec.structs.replace(row, values=tuple(row.values[index] for index in kept)) for row in rows]
    return Table("Fans by fans", tuple(columns[index] for index in kept), tuple(rows)) if rows else None


def _picture(of: AnswerMaterial, ladders: list[_Ladder]) -> Curves | None:
    curves: list[AnswerCurve] = []
    for one in ladders:
        points = tuple(
            CurvePoint(
                run.power_w, value_of(run.rise_k, run.settled.half_width_k), "the cap holds it" if run.heat_limited else ""
            )
            for run in sorted(one.every, key=lambda run: run.power_w)
            if run.settled.known and math.isfinite(run.power_w)
        )
        curves.append(AnswerCurve(one.fans, points, leads=not curves))
    if not any(curve.points for curve in curves):
        return None
    limit = ladders[0].ceiling_c - of.limits.design_room_c
    ruled = (Ruled(f"limit in {of.limits.design_room_c:g} °C", y=limit, holds=True),)
    return Curves(
        Column("power_w", "Package power", "W", 0), Column("rise_k", "Rise over the room", "K", 0), tuple(curves), ruled
    )


def _remarks(told: list[_Ladder]) -> tuple[Remark, ...]:
    found = []
    if told and told[0].line is not None:
        still = told[0].line.intercept
        found.append(
            Remark(
                "Where the line starts",
                f"At no watts it stands {bare(still, 0, 'K')} over the room: other heat in the case, and a slope that "
                "eases with temperature.",
            )
        )
    if any(one.by_coolant.known for one in told):
        found.append(Remark("By coolant", "Only settled coolant counts, 40 to 50 °C: a rating from before that is too high."))
    return tuple(found)


def _surer(of: AnswerMaterial, told: list[_Ladder]) -> MakesSurer | None:
    """Return a rung where the line meets the ceiling, as far as the rig takes it."""
    control = of.card.control("sustained_power_w")
    if not told or control is None:
        return None
    top = told[0]
    value = top.carries
    if value.value is None:
        return None
    watts = min(max(round(value.value / control.step) * control.step, control.low), control.high)
    done = {run.setting.sustained_power_w for run in top.every}
    if watts in done:
        watts = max((run.setting.sustained_power_w or control.low) for run in top.free)
    seconds = max((run.seconds for run in top.free), default=1800.0)
    step = Step(
        top.step.setting.replaced("sustained_power_w", watts),
        top.step.load,
        top.step.exposure,
        "ladder",
        "Where the line meets the limit",
    )
    words = f"A rung at {quantity_of('sustained_power_w').with_unit(watts)}, {duration_text(seconds)}."
    return MakesSurer(words, seconds / 3600.0, (step,))
