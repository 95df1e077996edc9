"""What all answers have in common: whose they are, how far they are, and what they rest on."""

from collections.abc import Sequence

from niente.core.answers.material import KWH_A_DAY, AnswerMaterial, load_card, times, wall_in
from niente.core.answers.wording import amount, lead_of, left_words, load_title
from niente.core.model.answer_document import (
    AnswerDocument,
    AnswerFigure,
    Bars,
    Curves,
    Depths,
    Differences,
    MakesSurer,
    Remark,
    RestsOn,
    Table,
    Value,
)

WALL = "At the wall"


def framed(
    of: AnswerMaterial,
    conditions: Sequence[str],
    sentence: str,
    short: str,
    *,
    title: str = "",
    consequence: str = "",
    tag: str = "",
    figures: Sequence[AnswerFigure] = (),
    table: Table | None = None,
    picture: Bars | Differences | Depths | Curves | None = None,
    rests_on: str = "",
    basis: Sequence[RestsOn] = (),
    remarks: Sequence[Remark] = (),
    surer: MakesSurer | None = None,
    cautions: Sequence[str] = (),
) -> AnswerDocument:
    """Return the answer to a question, with all that follows from how far its plan is."""
    waits = left_words(of.rows, of.state)
    return AnswerDocument(
        question=of.plan.question,
        title=of.title,
        rig=of.card.name,
        variant=of.card.variant,
        state=of.state,
        lead=lead_of(title or of.title, of.card, *conditions),
        sentence=sentence,
        consequence=consequence,
        short=short,
        tag=tag,
        done=of.done,
        of=len(of.rows),
        figures=tuple(figures),
        table=table,
        picture=picture,
        rests_on=rests_on or f"{of.done} of {len(of.rows)} runs",
        basis=of.basis(basis),
        remarks=(*((Remark("Still to come", waits),) if waits else ()), *remarks, *_at_the_wall(of, remarks)),
        surer=surer,
        cautions=tuple(cautions),
    )


def _at_the_wall(of: AnswerMaterial, remarks: Sequence[Remark]) -> tuple[Remark, ...]:
    """Return what the runs drew at the wall at most, and in a day, where there is a meter and nothing was said of it."""
    drawn = [(value.value, value, run) for run in of.runs if (value := wall_in(run)).value is not None]
    if not drawn or any(one.head == WALL for one in remarks):
        return ()
    _, most, run = max(drawn, key=lambda one: one[0] or 0.0)
    day = times(most, KWH_A_DAY)
    load = load_title(load_card(of.card, run.load)).lower()
    return (Remark(WALL, f"At most {amount(most, 0, 'W')}, under {load}: {amount(day, 2, 'kWh')} a day."),)


def known_figures(
    name: str, title: str, told: Sequence[tuple[str, str, str, int, Value]], runs: Sequence[int]
) -> list[AnswerFigure]:
    """Return figures under a common name and title, as far as they are known; each is told by its own name, title, unit,
    decimals and value."""
    return [
        AnswerFigure(f"{name}.{own}", f"{title}: {words}", unit, digits, value, tuple(runs))
        for own, words, unit, digits, value in told
        if value.known
    ]
