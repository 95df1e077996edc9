"""Every question run to its end, and its answer: held against the stand-in's truth, and the same words everywhere."""

from pathlib import Path

import msgspec
import pytest
from benchmarks.answers_truth import Judge, answer_in

from niente.core.answers.answer_text import answer_as_text
from niente.core.model.answer_document import AnswerDocument, AnswerState
from niente.core.model.plan import Search
from niente.core.model.question import Question
from niente.core.planning.templates import first_question, plan_for
from niente.core.rigs.simulated.machine_files import shipped_file
from niente.core.rigs.simulated.rig import SimulatedRig
from tests.core.answers.to_their_end import JUDGED, OTHERS
from tests.core.planning.plans import run

SEED = 4
SEARCHES_S = 1500.0


def ran(rig: str, name: str, book: Path) -> tuple[AnswerDocument, Question]:
    """Run a question to its end and return its answer; searches are given less time than they would have."""
    machine = SimulatedRig(shipped_file(rig), seed=SEED)
    card = machine.describe()
    question = first_question(card, name)
    plan = plan_for(card, question)
    entries = tuple(
        msgspec.structs.replace(entry, budget_s=min(entry.budget_s, SEARCHES_S)) if isinstance(entry, Search) else entry
        for entry in plan.entries
    )
    watcher, _ = run(msgspec.structs.replace(plan, entries=entries), machine, book)
    assert watcher.end().complete, watcher.end()
    return answer_in(book, question), question


def reads_well(answer: AnswerDocument, picture: type) -> None:
    """What every answer has: a sentence, its table and picture, what it rests on, and the same words as text and as JSON."""
    assert isinstance(answer.picture, picture)
    assert answer.table is not None
    assert answer.table.rows
    assert all(len(row.values) == len(answer.table.columns) for row in answer.table.rows)
    text = answer_as_text(answer)
    for words in (answer.lead, answer.sentence, answer.consequence, *(remark.words for remark in answer.remarks)):
        assert words in text
        assert "nan" not in words
        assert "None" not in words
    assert msgspec.json.decode(answer.to_json(), type=AnswerDocument) == answer
    runs = {number for figure in answer.figures for number in figure.runs}
    assert runs or not answer.figures or answer.question == "hold-back"


@pytest.mark.parametrize(("rig", "name", "picture"), JUDGED)
def test_figures_lie_where_the_truth_is(rig: str, name: str, picture: type, tmp_path: Path) -> None:
    """Each within three standard errors, and most inside their 95 % intervals; a capacity within 2 %."""
    answer, _ = ran(rig, name, tmp_path / "book.niente")
    assert answer.state == AnswerState.COMPLETE
    reads_well(answer, picture)
    machines = {}
    for variant in SimulatedRig(shipped_file(rig), seed=SEED).describe().variants:
        machines[variant.name] = SimulatedRig(shipped_file(rig), seed=SEED)
        machines[variant.name].become(variant.name)
    misses = Judge(machines, tmp_path / "book.niente").misses(answer)
    assert misses
    assert [miss for miss in misses if abs(miss.off) > 3.0] == []
    assert len(misses) < 10 or sum(miss.inside for miss in misses) >= 0.85 * len(misses)
    for miss in misses:
        if miss.name.endswith("capacity_w"):
            assert abs(miss.value / miss.truth - 1.0) < 0.02


@pytest.mark.parametrize(("rig", "name", "picture"), OTHERS)
def test_every_other_question_ends_in_its_answer(rig: str, name: str, picture: type, tmp_path: Path) -> None:
    answer, _ = ran(rig, name, tmp_path / "book.niente")
    assert answer.state != AnswerState.NOTHING
    reads_well(answer, picture)
