"""Fits and maps in a process of their own: the same answers, errors in words, and an end that waits for nothing."""

import os
import signal
import threading
from pathlib import Path

import pytest

from niente.core.analysis.evidence import Evidence
from niente.core.analysis.maps import MapRequest
from niente.core.analysis.models import fit_models
from niente.core.model.errors import NienteError
from niente.core.model.limits import Limits
from niente.core.model.project import Project
from niente.core.selection.answer import Analysis, Answer, work_out
from niente.core.selection.worker import WorkProcess
from tests.waiting import PATIENCE_S


def test_it_answers_as_this_process_would(sweep: tuple[Path, Project], evidence: Evidence, limits: Limits) -> None:
    worker = WorkProcess(Analysis)
    try:
        found, here = worker.call(Analysis.answer, sweep[0], limits), work_out(sweep[0], limits, evidence)
        assert found.choice == here.choice
        assert found.method_steps == here.method_steps
        assert found.evidence is not None
        assert len(found.evidence.runs) == len(evidence.runs)
        again = worker.call(Analysis.answer, sweep[0], limits)  # from what is summed up already
        assert again.choice == here.choice
        mapped = worker.call(Analysis.map, fit_models(evidence), limits, MapRequest(), None)
        assert here.mapped is not None
        assert mapped.request == here.mapped.request
        with pytest.raises(NienteError):
            worker.call(Analysis.map, fit_models(evidence), limits, MapRequest(against="nowhere"), None)
        with pytest.raises(RuntimeError, match="Traceback"):
            worker.call(Analysis.map, "no models", limits, MapRequest(), None)  # type: ignore[arg-type]
        assert worker.call(Analysis.answer, sweep[0], limits).choice == here.choice  # a bug there ends nothing
    finally:
        worker.close()


def test_a_book_without_runs_has_no_answer_yet(tmp_path: Path, limits: Limits) -> None:
    worker = WorkProcess(Analysis)
    assert "There is no book" in worker.call(Analysis.answer, tmp_path / "none.niente", limits).problem
    worker.close()


def test_one_that_was_ended_is_started_again(sweep: tuple[Path, Project], limits: Limits) -> None:
    worker = WorkProcess(Analysis)
    assert isinstance(worker.call(Analysis.answer, sweep[0], limits), Answer)
    assert worker._process is not None
    os.kill(worker._process.pid, signal.SIGKILL)
    worker._process.wait()
    assert worker.call(Analysis.answer, sweep[0], limits).choice is not None
    worker.close()


def test_closing_waits_for_no_answer(sweep: tuple[Path, Project], limits: Limits) -> None:
    worker, said = WorkProcess(Analysis), []

    def work() -> None:
        try:
            worker.call(Analysis.answer, sweep[0], limits)
        except RuntimeError as error:
            said.append(str(error))

    thread = threading.Thread(target=work)
    thread.start()
    while worker._process is None:
        threading.Event().wait(0.01)
    worker.close()
    thread.join(PATIENCE_S)
    assert not thread.is_alive()
    assert said == ["the process that works things out has ended"]
