"""Books that hold less than a question wants, or something else: an answer says what it can, and never nothing."""

from pathlib import Path

import msgspec
import numpy as np
import pytest
from benchmarks.answers_truth import answer_in
from click.testing import CliRunner

from niente.cli.answer import answer_command
from niente.core.analysis.evidence import evidence_in
from niente.core.analysis.screening import measuring
from niente.core.analysis.stability import exposures_in
from niente.core.model.answer_document import AnswerDocument, AnswerState
from niente.core.model.fan_curve import FanCurve
from niente.core.model.frame import Frame
from niente.core.model.plan import Exposure, Step
from niente.core.model.quantities import NO_BREAK_SPACE, TRUE_MINUS
from niente.core.model.question import Axis, Question, Span
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting
from niente.core.planning.templates import TEMPLATES, first_question, plan_for
from niente.core.rigs.registry import shipped
from niente.core.rigs.simulated.machine_files import shipped_file
from niente.core.rigs.simulated.rig import SimulatedRig
from tests.core.planning.plans import card_of, run, short

SEED = 6


def larkspur() -> SimulatedRig:
    return SimulatedRig(shipped_file("larkspur"), seed=SEED)


class Deaf(SimulatedRig):
    """Larkspur without its sound meter."""

    def __init__(self) -> None:
        super().__init__(shipped_file("larkspur"), seed=SEED)

    def describe(self) -> RigCard:
        card = super().describe()
        return msgspec.structs.replace(card, channels=tuple(one for one in card.channels if one.name != "noise_dba"))

    def frame(self, timeout_s: float) -> Frame | None:
        found = super().frame(timeout_s)
        if found is None:
            return None
        kept = [one.name != "noise_dba" for one in super().describe().channels]
        return Frame(found.time_s, found.values[np.array(kept)], found.events)


def some_of(question: Question, entries: slice, book: Path, rig: SimulatedRig | None = None) -> AnswerDocument:
    """Run a part of a question's plan as it is, and return the answer to the whole."""
    machine = rig or larkspur()
    plan = plan_for(machine.describe(), question)
    run(msgspec.structs.replace(plan, entries=plan.entries[entries]), machine, book)
    return answer_in(book, question)


@pytest.mark.parametrize("rig", shipped())
def test_a_book_with_nothing_but_an_idle_run_answers_every_question_in_words(rig: str, tmp_path: Path) -> None:
    card = card_of(rig)
    plan = plan_for(card, first_question(card, "free"))
    idle = msgspec.structs.replace(plan, entries=(Step(card.stock, "idle", Exposure(30.0, 30.0)),))
    run(idle, SimulatedRig(shipped_file(rig), seed=SEED), tmp_path / "idle.niente")
    for name in (kind.name for kind in TEMPLATES if kind.name != "free"):
        answer = answer_in(tmp_path / "idle.niente", first_question(card, name))
        assert answer.question == name
        assert len(answer.sentence) > 10
        assert answer.state in (AnswerState.NOTHING, AnswerState.GROWING)
        assert any("still to come" in one.words or "No run has been made" in one.words for one in answer.remarks), name


def test_a_plan_that_was_stopped_half_way_says_what_it_can(tmp_path: Path) -> None:
    question = first_question(card_of("larkspur"), "baseline")
    answer = some_of(question, slice(0, 2), tmp_path / "half.niente")
    assert answer.state == AnswerState.GROWING
    assert (answer.done, answer.of) == (2, 5)
    assert "settles at" in answer.sentence
    assert answer.rests_on == "2 of 5 loads"
    assert any("3 of 5 runs are still to come" in one.words for one in answer.remarks)


def test_runs_that_all_throttled_have_no_capacity_and_say_so(tmp_path: Path) -> None:
    card = card_of("larkspur")
    question = msgspec.structs.replace(
        first_question(card, "capacity-ladder"),
        axes=(Axis("sustained_power_w", (150.0, 160.0, 170.0)),),
        base=Setting(temperature_cap_c=60.0, fan_duty={"case": 30.0, "cooler": 30.0}),
        exposure=Exposure(400.0, 400.0),
    )
    answer = some_of(question, slice(0, 3), tmp_path / "hot.niente")
    assert "Heat limits every rung" in answer.sentence
    assert not any(figure.name.endswith("capacity_w") for figure in answer.figures)


def test_rungs_under_two_fan_curves_are_two_ladders(tmp_path: Path) -> None:
    card = card_of("larkspur")
    plan = plan_for(card, first_question(card, "capacity-ladder"))
    rung = next(entry for entry in plan.entries if isinstance(entry, Step))
    curves = [FanCurve("core_temperature_c", ((40.0, low), (80.0, low + 10.0))) for low in (25.0, 60.0)]
    steps = tuple(
        msgspec.structs.replace(
            rung,
            setting=Setting(sustained_power_w=watts, fan_curve={"case": curve, "cooler": curve}),
            exposure=Exposure(600.0, 600.0),
        )
        for curve in curves
        for watts in (60.0, 80.0, 100.0)
    )
    run(msgspec.structs.replace(plan, entries=steps), larkspur(), tmp_path / "curves.niente")
    answer = answer_in(tmp_path / "curves.niente", first_question(card, "capacity-ladder"))
    assert answer.table is not None
    told = [row for row in answer.table.rows if row.title == "fans on a curve"]
    assert [len(row.runs) for row in told] == [3, 3]


def test_an_undervolt_says_which_limits_it_was_made_under(tmp_path: Path) -> None:
    card = card_of("larkspur")
    for watts, words in ((None, "stock limits"), (95.0, "95\N{NO-BREAK SPACE}W")):
        question = first_question(card, "undervolt-ladder")
        if watts is not None:
            question = msgspec.structs.replace(question, base=question.base.replaced("sustained_power_w", watts))
        assert words in some_of(question, slice(0, 1), tmp_path / f"{watts}.niente").lead


def test_what_has_not_settled_is_not_said_to_be_cooler_or_warmer(tmp_path: Path) -> None:
    card = card_of("wren")
    question = msgspec.structs.replace(first_question(card, "cap-sweep"), exposure=Exposure(150.0, 150.0))
    answer = some_of(question, slice(0, 9), tmp_path / "short.niente", SimulatedRig(shipped_file("wren"), seed=SEED))
    assert "against stock" in answer.consequence
    assert "\N{NO-BREAK SPACE}K" not in answer.consequence


def test_fans_that_no_meter_heard_and_ways_without_decibels_say_so(tmp_path: Path) -> None:
    card = Deaf().describe()
    fans = some_of(first_question(card, "fan-sweep"), slice(0, 4), tmp_path / "fans.niente", Deaf())
    assert fans.sentence.startswith("No sound meter has heard the fans")
    question = msgspec.structs.replace(first_question(card, "hold-back"), exposure=Exposure(60.0, 60.0))
    limit = next(
        at for at, entry in enumerate(plan_for(card, question).entries) if getattr(entry, "stage", "") == "power limit"
    )
    ways = some_of(question, slice(limit, limit + 2), tmp_path / "ways.niente", Deaf())
    assert ways.sentence == "The ways have been run, and cannot be compared"
    assert "Run more of the plan" in ways.consequence


def test_without_a_baseline_nothing_is_compared_with(tmp_path: Path) -> None:
    card = card_of("larkspur")
    question = msgspec.structs.replace(first_question(card, "cap-sweep"), exposure=Exposure(60.0, 60.0))
    plan = plan_for(card, question)
    capped = [index for index, entry in enumerate(plan.entries) if isinstance(entry, Step) and entry.stage == "cap sweep"]
    answer = some_of(question, slice(capped[0], capped[0] + 2), tmp_path / "none.niente")
    assert "have not both been run" in answer.sentence


def test_one_pair_of_variants_is_no_win_and_a_deaf_one_has_no_decibels(tmp_path: Path) -> None:
    """Single runs that differ by 1 to 3 K are no win (common practice, no source)."""
    card = card_of("larkspur")
    question = msgspec.structs.replace(first_question(card, "variants"), exposure=Exposure(900.0, 900.0))
    answer = some_of(question, slice(0, 2), tmp_path / "pair.niente", Deaf())
    assert "shows nothing" in answer.sentence
    assert "Better" not in answer.sentence
    assert answer.table is not None
    assert all("Noise" not in row.title for row in answer.table.rows)
    assert "dB" not in answer.consequence
    one = some_of(question, slice(0, 1), tmp_path / "one.niente")
    assert "not both been measured" in one.sentence


def test_a_book_keeps_the_answers_to_mixed_questions_and_a_wrong_name_is_refused(tmp_path: Path) -> None:
    book, card = tmp_path / "mixed.niente", card_of("larkspur")
    for name in ("fan-sweep", "burst"):
        run(short(plan_for(card, first_question(card, name)), 30.0), larkspur(), book)
    told = CliRunner().invoke(answer_command, [str(book)])
    assert told.exit_code == 0
    assert told.output.index("Quiet point") < told.output.index("Burst:")  # the book's own project asks for a quiet point
    assert "Fan sweep:" in told.output
    one = CliRunner().invoke(answer_command, [str(book), "--question", "fan-sweep", "--json"])
    assert msgspec.json.decode(one.output, type=AnswerDocument).question == "fan-sweep"
    missing = CliRunner().invoke(answer_command, [str(book), "--question", "soak"])
    assert missing.exit_code != 0
    assert "holds no soak question" in str(missing.exception)


# -- loads of a size --------------------------------------------------------------------------------------------------


def wren() -> SimulatedRig:
    return SimulatedRig(shipped_file("wren"), seed=SEED)


def sizes(low: float, high: float, **changed: object) -> Question:
    """How many voices fit at a cap of 65 °C, among some sizes."""
    axes = (Axis("temperature_cap_c", (65.0,)), Axis("load_size.voices", span=Span(low, high, 10.0)))
    question = first_question(card_of("wren"), "real-time")
    return msgspec.structs.replace(question, axes=axes, exposure=Exposure(300.0, 300.0), **changed)


def test_sizes_that_are_all_too_large_say_so_and_those_that_all_fit_too(tmp_path: Path) -> None:
    none = some_of(sizes(110.0, 130.0), slice(1, None), tmp_path / "none.niente", wren())
    assert none.sentence == f"Not even 110{NO_BREAK_SPACE}voices fit"
    assert none.table is not None
    assert none.table.rows[0].values[0].words == "none"
    all_fit = some_of(sizes(20.0, 40.0), slice(1, None), tmp_path / "all.niente", wren())
    assert all_fit.sentence.startswith("At least 40")
    assert any(one.head == "More may fit" for one in all_fit.remarks)
    assert all_fit.figure("voices.65.fits").value.high is None


def test_a_search_that_was_stopped_before_its_first_pass_has_no_size_yet(tmp_path: Path) -> None:
    answer = some_of(sizes(50.0, 130.0), slice(0, 1), tmp_path / "stopped.niente", wren())
    assert answer.state == AnswerState.GROWING
    assert answer.sentence == "No size has come through its time yet"
    assert answer.figure("voices.65.all_it_gets").value.known


def test_a_voltage_that_is_too_shallow_is_told_from_a_clock_that_is_too_low(tmp_path: Path) -> None:
    base = Setting(voltage_offset_mv=-100.0, fan_duty={"case": 0.0})
    answer = some_of(sizes(40.0, 60.0, base=base), slice(None), tmp_path / "deep.niente", wren())
    offset = f"{TRUE_MINUS}100{NO_BREAK_SPACE}mV"
    assert (
        answer.sentence
        == f"Nothing fits at {offset}, temperature cap 65{NO_BREAK_SPACE}°C: it failed with what it got by itself"
    )
    assert any(one.head == "Not the clock" and "the voltage's doing" in one.words for one in answer.remarks)
    assert answer.table is not None
    assert answer.table.rows[0].values[0].words == "none"


def test_loads_of_a_size_teach_the_models_nothing_of_the_load(tmp_path: Path) -> None:
    """Their power and throughput follow from the size; a drop-out may as well come from the clock as from the voltage."""
    some_of(sizes(50.0, 130.0), slice(1, None), tmp_path / "sized.niente", wren())
    evidence = evidence_in(tmp_path / "sized.niente")
    assert evidence is not None
    assert any(one.failures for one in evidence.runs)
    assert measuring(evidence).runs == ()
    assert exposures_in(evidence.runs, evidence.card) == ()
