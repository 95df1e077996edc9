"""The quiet point: the whole setting in the order of entry, what it wins and costs under every load, and how sure it stands."""

import math

from niente.core.analysis.models import Models
from niente.core.answers.against_stock import BY, against_stock, entry_order, loads_against_stock
from niente.core.answers.framing import framed
from niente.core.answers.material import AnswerMaterial
from niente.core.answers.wording import amount, bare
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
    Value,
    value_of,
)
from niente.core.model.quantities import duration_text, number_text, quantity_of
from niente.core.model.setting import Setting
from niente.core.planning.confirmation import confirming
from niente.core.selection.explanation import candidate_text, confirmation_text, pick_reason
from niente.core.selection.pick import Choice, Standing, front, sound_settings
from niente.core.selection.proof_words import CORRUPTS, headline, more_sentence

MOST_FRONT = 60


def quiet_answer(of: AnswerMaterial) -> AnswerDocument:
    """Return the pick: how it is entered, what it wins and costs, and how sure it is."""
    choice, models = of.findings.choice, of.models
    if choice is None or models is None:
        return framed(of, [], "There is no pick yet", "no pick yet", consequence=of.findings.problem)
    pick = choice.pick
    loads = loads_against_stock(models, pick.setting, of.limits.design_room_c)
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
        table=against_stock(of.card, loads),
        picture=_picture(of, choice),
        rests_on=choice.standing.value.capitalize(),
        basis=(
            RestsOn("Reliability over the horizon", number_text(pick.stable, 2) if math.isfinite(pick.stable) else "not known"),
        ),
        remarks=_remarks(of, choice),
        surer=_surer(of),
        cautions=(CORRUPTS, "A passed run is evidence, not a guarantee."),
    )


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
    """Return the run that confirms the pick; where it is confirmed, what would prove it."""
    proof, choice = of.findings.proof, of.findings.choice
    if choice is not None and of.models is not None:
        step = confirming(of.limits.clean_minutes * 60.0, choice, of.models.heavy_load)
        if step is not None:
            words = f"{duration_text(step.exposure.max_s)} of the heaviest load at the pick confirm it, or show that it fails."
            return MakesSurer(words, step.exposure.max_s / 3600.0, (step,))
    if proof is None or not proof.more or proof.proven:
        return None
    return MakesSurer(more_sentence(proof, proof.more[0]), proof.more[0].hours, (proof.more[0].step,))
