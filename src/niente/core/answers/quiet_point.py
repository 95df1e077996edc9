"""The quiet point: the whole setting in the order of entry, what it wins and costs under every load, and how sure it stands."""

import math

from niente.core.analysis.models import Models
from niente.core.analysis.point_prediction import Figure, predict_point
from niente.core.answers.framing import framed, known_figures
from niente.core.answers.material import AnswerMaterial
from niente.core.answers.wording import amount, bare, load_title, title_rest
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
from niente.core.model.quantities import number_text, quantity_of
from niente.core.model.rig_card import Control, LoadKind, SetBy
from niente.core.model.setting import Setting
from niente.core.selection.explanation import candidate_text, confirmation_text, pick_reason
from niente.core.selection.pick import Choice, Standing, front, sound_settings
from niente.core.selection.proof_words import CORRUPTS, headline, more_sentence
from niente.core.selection.setting_words import differing

BY = {SetBy.FIRMWARE: "in the firmware", SetBy.SOFTWARE: "by software", SetBy.HANDS: "by hand"}
ENTRY = (SetBy.HANDS, SetBy.FIRMWARE, SetBy.SOFTWARE)
"""The order of entry: what needs the machine off and open, what needs its firmware, what is set while it runs."""
MOST_FRONT = 60


def quiet_answer(of: AnswerMaterial) -> AnswerDocument:
    """Return the pick: how it is entered, what it wins and costs, and how sure it is."""
    choice, models = of.findings.choice, of.models
    if choice is None or models is None:
        return framed(of, [], "There is no pick yet", "no pick yet", consequence=of.findings.problem)
    pick = choice.pick
    loads = _by_load(of, models, pick.setting)
    noise = value_of(pick.in_room_dba, pick.in_room_hw)
    return framed(
        of,
        [f"{choice.settings} settings", f"headroom judged in a {bare(of.limits.design_room_c, 0, '°C')} room"],
        candidate_text(pick),
        f"{number_text(pick.in_room_dba, 1)} dBA, {number_text(pick.throughput_percent, 0)} %",
        consequence=_consequence(of, choice, models),
        tag={Standing.PROVEN: "proven", Standing.PROPOSED: "proposal"}.get(
            choice.standing, f"{choice.standing.value}, not proven"
        ),
        figures=[
            *_entered(of, pick.setting),
            AnswerFigure("noise_dba", "Noise in the room", "dBA", 1, noise),
            AnswerFigure(
                "throughput_percent", "Throughput of stock", "%", 1, value_of(pick.throughput_percent, pick.throughput_hw)
            ),
            AnswerFigure("headroom_k", "Headroom in the design room", "K", 1, value_of(pick.headroom_k, pick.core_hw)),
            AnswerFigure("core_c", "Core in the design room", "°C", 1, value_of(pick.core_c, pick.core_hw)),
            AnswerFigure("failure_chance_percent", "Chance of a failure", "%", 2, _risk(choice)),
            *(figure for row in loads for figure in row.figures()),
        ],
        table=_table(of, loads),
        picture=_picture(of, choice),
        rests_on=choice.standing.value.capitalize(),
        basis=(
            RestsOn("Reliability over the horizon", number_text(pick.stable, 2) if math.isfinite(pick.stable) else "not known"),
        ),
        remarks=_remarks(of, choice),
        surer=_surer(of),
        cautions=(CORRUPTS, "A passed run is evidence, not a guarantee."),
    )


class _LoadAt:
    """What a load comes to at the pick and at stock, in the design room."""

    def __init__(self, of: AnswerMaterial, models: Models, load: str, pick: Setting) -> None:
        card = of.card.load(load)
        assert card is not None
        self.card = card
        room = of.limits.design_room_c
        self.there = predict_point(models, pick, load, room)
        self.stock = predict_point(models, of.card.stock, load, room)

    def gain(self, name: str) -> Value:
        """Return a figure at the pick less that at stock; what both share makes its interval no wider than either's."""
        here, before = getattr(self.there, name), getattr(self.stock, name)
        if here.value is None or before.value is None:
            return Value()
        widths = [one.half_width for one in (here, before) if one.half_width is not None]
        return value_of(here.value - before.value, math.hypot(*widths) if widths else None, forecast=True)

    def figures(self) -> list[AnswerFigure]:
        """Return gains and losses by public names."""
        told = (
            ("throughput_percent", "throughput of stock", "%", 1, _value(self.there.throughput_percent)),
            ("core_k", "core against stock", "K", 1, self.gain("core_c")),
            ("power_w", "package against stock", "W", 1, self.gain("power_w")),
            ("clock_mhz", "clock against stock", "MHz", 0, self.gain("clock_mhz")),
        )
        return known_figures(self.card.name, load_title(self.card), told, ())

    def row(self) -> TableRow:
        """Return the load's row."""
        return TableRow(
            load_title(self.card),
            (
                _value(self.there.throughput_percent),
                self.gain("clock_mhz"),
                self.gain("power_w"),
                self.gain("core_c"),
                _value(self.there.core_c),
                _value(self.there.in_room_dba),
                Value(words=self.there.limiter),
            ),
            title_rest(self.card),
            open=not self.there.inside,
        )


def _value(figure: Figure) -> Value:
    return Value() if figure.value is None else value_of(figure.value, figure.half_width, forecast=True)


def _by_load(of: AnswerMaterial, models: Models, pick: Setting) -> list[_LoadAt]:
    return [
        _LoadAt(of, models, load.name, pick)
        for load in of.card.loads
        if load.name in models.power.loads and load.kind not in (LoadKind.IDLE, LoadKind.BURST)
    ]


def entry_order(controls: tuple[Control, ...], setting: Setting, stock: Setting) -> list[tuple[Control, float, float | None]]:
    """Return the controls that differ from stock in the order in which they are entered, each with its value and stock's."""
    differ = dict(differing(setting, stock))
    found = [(control, differ[control.name], stock.value(control.name)) for control in controls if control.name in differ]
    return sorted(found, key=lambda one: ENTRY.index(one[0].set_by))


def _entered(of: AnswerMaterial, setting: Setting) -> list[AnswerFigure]:
    return [
        AnswerFigure(
            control.name,
            f"Enter {control.title.lower()}",
            quantity_of(control.name).unit,
            quantity_of(control.name).digits,
            Value(value),
        )
        for control, value, _ in entry_order(of.card.controls, setting, of.card.stock)
    ]


def _risk(choice: Choice) -> Value:
    pick = choice.pick
    if not math.isfinite(pick.risk):
        return Value()
    expected = 100.0 * (1.0 - pick.stable) if math.isfinite(pick.stable) else 100.0 * pick.risk
    return Value(expected, 0.0, 100.0 * pick.risk)


def _consequence(of: AnswerMaterial, choice: Choice, models: Models) -> str:
    pick = choice.pick
    mark = models.scale.mark(pick.in_room_dba)
    noise = amount(value_of(pick.in_room_dba, pick.in_room_hw), 1, "dBA")
    work = amount(value_of(pick.throughput_percent, pick.throughput_hw), 1, "%")
    heard = f" ({mark})" if mark else ""
    where = "" if pick.inside else " It lies outside of what was measured."
    return f"{noise}{heard} in the room at {work} of throughput, with {bare(pick.headroom_k, 1, 'K')} of headroom.{where}"


def _table(of: AnswerMaterial, loads: list[_LoadAt]) -> Table | None:
    columns = (
        Column("throughput_percent", "Throughput", "%", 1),
        Column("clock_mhz", "Clock", "MHz", 0),
        Column("power_w", "Package", "W", 1),
        Column("core_k", "Core", "K", 1),
        Column("core_c", "In the design room", "°C", 1),
        Column("noise_dba", "Noise", "dBA", 1),
        Column("limiter", "What limits it"),
    )
    rows = [one.row() for one in loads]
    told = {one.card.name for one in loads}
    for load in of.card.loads:
        if load.kind == LoadKind.LIGHT and load.name not in told:
            none = (Value(),) * (len(columns) - 1)
            rows.append(
                TableRow(load_title(load), (*none, Value(words="not run for long enough to tell")), title_rest(load), open=True)
            )
    return Table("Against stock, load by load", columns, tuple(rows)) if loads else None


def _picture(of: AnswerMaterial, choice: Choice) -> Curves | None:
    reached = of.findings.reached
    if reached is None:
        return None
    level, work = front(*sound_settings(reached, of.limits))
    step = max(1, len(level) // MOST_FRONT)
    points = tuple(CurvePoint(float(w), value_of(float(one))) for one, w in zip(level[::step], work[::step], strict=True))
    pick = choice.pick
    picked = (CurvePoint(pick.throughput_percent, value_of(pick.in_room_dba, pick.in_room_hw), "the pick"),)
    return Curves(
        Column("throughput_percent", "Throughput of stock", "%", 0),
        Column("noise_dba", "Noise in the room", "dBA", 0),
        (AnswerCurve("the front", points), AnswerCurve("the pick", picked, joined=False, leads=True)),
        (Ruled("wanted", x=of.limits.min_throughput_percent),),
    )


def _remarks(of: AnswerMaterial, choice: Choice) -> tuple[Remark, ...]:
    pick = choice.pick
    steps = []
    for control, value, before in entry_order(of.card.controls, pick.setting, of.card.stock):
        quantity = quantity_of(control.name)
        sign = "+" if quantity.unit == "mV" and value > 0 else ""
        was = f" (stock {quantity.with_unit(before)})" if before is not None else ""
        steps.append(f"{control.title} {sign}{quantity.with_unit(value)} {BY[control.set_by]}{was}")
    found = [Remark("Enter it", f"{'; '.join(steps)}." if steps else "It is the setting as found.")]
    found.append(Remark("Why this one", pick_reason(choice)))
    found.append(Remark("Does it hold?", confirmation_text(choice)))
    proof = of.findings.proof
    if proof is not None:
        found.append(Remark("How surely it lasts", headline(proof)))
    if not pick.inside:
        found.append(Remark("Outside", "No run encloses it: what is said of it is carried on from those that there are."))
    return tuple(found)


def _surer(of: AnswerMaterial) -> MakesSurer | None:
    proof = of.findings.proof
    if proof is None or not proof.more or proof.proven:
        return None
    return MakesSurer(more_sentence(proof, proof.more[0]), proof.more[0].hours, (proof.more[0].step,))
