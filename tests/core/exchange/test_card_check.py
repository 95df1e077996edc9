"""The check of a card tells a machine that behaves as then from one that does not."""

from pathlib import Path

import msgspec
import pytest

from niente.core.analysis.evidence import Evidence, evidence_in
from niente.core.answers.card_check import checked_card, plan_of_check, setting_of_card
from niente.core.answers.hand_over import hand_over_card
from niente.core.model.errors import DocumentError, NotEnoughError
from niente.core.model.hand_over_card import HandOverCard
from niente.core.model.limits import Limits
from niente.core.model.project import Project
from niente.core.science.settling import not_yet
from niente.core.selection.answer import choice_in, work_out
from tests.conftest import larkspur_rig
from tests.core.planning.plans import run

EARLIER, LATER = "2020-05-01T12:00:00+00:00", "2096-05-01T12:00:00+00:00"


@pytest.fixture(scope="module")
def card(sweep: tuple[Path, Project]) -> HandOverCard:
    return hand_over_card(sweep[0], work_out(sweep[0], Limits()), EARLIER, "0.1.0")


@pytest.fixture(scope="module")
def made_again(card: HandOverCard, tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Evidence]:
    """The check's own run, in a book of its own."""
    book = tmp_path_factory.mktemp("check") / "check.niente"
    rig = larkspur_rig(seed=77)
    run(plan_of_check(card, rig.describe()), rig, book)
    evidence = evidence_in(book)
    assert evidence is not None
    return book, evidence


def test_the_check_runs_the_card_s_setting_under_its_load(card: HandOverCard, evidence: Evidence) -> None:
    plan = plan_of_check(card, larkspur_rig().describe())
    (step,) = plan.steps
    assert card.check is not None
    assert step.load == card.check.load
    assert step.exposure.min_s >= 600.0
    assert step.setting == choice_in(evidence, Limits()).choice.pick.setting  # type: ignore[union-attr]
    assert plan.guards


def test_the_same_machine_behaves_as_then(card: HandOverCard, made_again: tuple[Path, Evidence]) -> None:
    """Another day's noise of the sensors (another seed) moves nothing beyond what may differ."""
    found = checked_card(*made_again, card)
    assert found.as_then, found.sentence
    assert "behaves as it did" in found.sentence
    assert not found.cause
    assert {one.then.name for one in found.figures} >= {"core_rise_k", "package_power_w", "noise_dba"}
    assert all("then" in one.text() and "now" in one.text() for one in found.figures)


@pytest.mark.parametrize(
    ("name", "change", "told"),
    [
        ("core_rise_k", 8.0, "its core settles elsewhere"),
        ("package_power_w", 9.0, "the card's entries again"),
        ("fan_speed_rpm.case", 120.0, "The fans do not turn as then"),
        ("noise_dba", 4.0, "Only its level"),
    ],
)
def test_what_moved_is_said_with_what_it_most_likely_comes_of(
    card: HandOverCard, made_again: tuple[Path, Evidence], name: str, change: float, told: str
) -> None:
    """The card said something else then."""
    assert card.check is not None
    figures = []
    for figure in card.check.figures:
        if figure.name == name:
            value = figure.value
            assert value.value is not None
            assert value.low is not None
            assert value.high is not None
            moved = msgspec.structs.replace(value, value=value.value + change, low=value.low + change, high=value.high + change)
            figure = msgspec.structs.replace(figure, value=moved)
        figures.append(figure)
    other = msgspec.structs.replace(card, check=msgspec.structs.replace(card.check, figures=tuple(figures)))
    found = checked_card(*made_again, other)
    assert [one.then.name for one in found.figures if one.moved] == [name]
    assert not found.as_then
    assert told in found.cause
    assert any("it moved" in one.text() for one in found.figures)


def test_a_machine_that_breathes_otherwise_is_found_out(card: HandOverCard, tmp_path: Path) -> None:
    """Larkspur with its top fan turned inwards is 5 K warmer at the same watts and speeds; half an hour tells that surely."""
    rig = larkspur_rig(seed=5)
    other = "top fan turned inwards"
    rig.become(other)
    run(plan_of_check(msgspec.structs.replace(card, variant=other), rig.describe(), 30.0), rig, tmp_path / "book.niente")
    evidence = evidence_in(tmp_path / "book.niente")
    assert evidence is not None
    found = checked_card(tmp_path / "book.niente", evidence, card)
    rise = next(one for one in found.figures if one.then.name == "core_rise_k")
    assert rise.moved
    assert rise.now_half_width < 2.5
    assert not found.as_then


def test_a_check_that_fails_says_so(card: HandOverCard, made_again: tuple[Path, Evidence]) -> None:
    book, evidence = made_again
    failed = tuple(msgspec.structs.replace(one, failures=1) for one in evidence.runs)
    found = checked_card(book, msgspec.structs.replace(evidence, runs=failed), card)
    assert found.failed
    assert not found.as_then
    assert "does not hold any more" in found.sentence


def test_without_a_run_since_nothing_is_said(card: HandOverCard, made_again: tuple[Path, Evidence]) -> None:
    with pytest.raises(NotEnoughError, match="was made since 2096"):
        checked_card(*made_again, msgspec.structs.replace(card, made_at=LATER))


def test_a_core_that_did_not_settle_is_not_read(card: HandOverCard, made_again: tuple[Path, Evidence]) -> None:
    """What the last minute reads is not where it settles, and says nothing."""
    book, evidence = made_again
    runs = tuple(msgspec.structs.replace(one, settled=not_yet("it still moves")) for one in evidence.runs)
    found = checked_card(book, msgspec.structs.replace(evidence, runs=runs), card)
    assert next(one for one in found.figures if one.then.name == "core_rise_k").now is None
    assert found.as_then


@pytest.mark.parametrize("made_at", ["yesterday", "", "9999-99-99"])
def test_a_card_made_at_no_moment_is_refused_in_words(
    card: HandOverCard, made_again: tuple[Path, Evidence], made_at: str
) -> None:
    with pytest.raises(DocumentError, match="which is no moment"):
        checked_card(*made_again, msgspec.structs.replace(card, made_at=made_at))


def test_a_card_of_another_machine_is_refused(card: HandOverCard, made_again: tuple[Path, Evidence]) -> None:
    rig = larkspur_rig().describe()
    with pytest.raises(DocumentError, match="The card is of"):
        checked_card(*made_again, msgspec.structs.replace(card, rig="wren"))
    with pytest.raises(DocumentError, match="has no check"):
        plan_of_check(msgspec.structs.replace(card, check=None), rig)
    step = msgspec.structs.replace(card.steps[0], control="mood")
    with pytest.raises(DocumentError, match="no control 'mood'"):
        setting_of_card(msgspec.structs.replace(card, steps=(step,)), rig)


def test_a_reading_that_is_gone_is_named(card: HandOverCard, made_again: tuple[Path, Evidence]) -> None:
    assert card.check is not None
    figures = (
        *card.check.figures,
        msgspec.structs.replace(card.check.figures[0], name="fan_speed_rpm.roof", title="Roof fans"),
    )
    other = msgspec.structs.replace(card, check=msgspec.structs.replace(card.check, figures=figures))
    found = checked_card(*made_again, other)
    assert found.as_then
    assert "Not read: Roof fans" in found.sentence
