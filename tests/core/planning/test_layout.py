"""Plans laid out, foreseen and compared: the same in a process of its own as here."""

import msgspec

from niente.core.analysis.evidence import Evidence
from niente.core.analysis.models import fit_models
from niente.core.planning.layout import BUDGET, TARGET, PlanLayout, PlanRequest
from niente.core.planning.templates import grid_project
from niente.core.selection.answer import Answer
from niente.core.selection.worker import Worker, WorkHere, WorkProcess


def test_a_process_lays_out_and_foresees_as_this_one_does(evidence: Evidence) -> None:
    answer = Answer(evidence, fit_models(evidence))
    question = msgspec.structs.replace(grid_project(evidence.card).question, budget_h=0.1)
    request = PlanRequest(evidence.card, question, None)
    workers: list[Worker[PlanLayout]] = [WorkHere(PlanLayout), WorkProcess(PlanLayout)]
    found = []
    for worker in workers:
        laid = worker.call(PlanLayout.lay_out, request, answer)
        outlook = worker.call(PlanLayout.look_ahead, laid, answer.models, 21.5)
        ways = [worker.call(PlanLayout.compare, what, laid, answer.models).ways for what in (TARGET, BUDGET)]
        found.append((laid, outlook, ways))
        worker.close()
    (here, outlook, ways), (there, outlook_there, ways_there) = found
    assert [row.step for row in here.rows] == [row.step for row in there.rows]
    assert here.cost == there.cost
    assert len(outlook.forecasts) == len(here.rows)
    assert repr(outlook) == repr(outlook_there)  # what is not foreseen is no number, and that equals nothing
    assert outlook.instead is not None  # six minutes are too little: what fits was looked for
    assert ways == ways_there
    assert ways[0]
