"""When a run answers what a plan wants: it lasted as long, or came to be known as well; one that failed answers at once."""

import math

import msgspec
import pytest

from niente.core.analysis.evidence import RunSummary
from niente.core.model.plan import Exposure
from niente.core.model.runs import RunOutcome
from niente.core.planning.progress import RunStatus, answers, status_of_row
from tests.core.analysis.making import evidence_from

SETTLING = Exposure(480.0, 2400.0, 1.0)
FIXED = Exposure(300.0, 300.0)


def run(seconds: float, half_width_k: float, **changes: object) -> RunSummary:
    one = next(run for run in evidence_from("larkspur").runs if run.load == "vector" and run.settled.known)
    settled = msgspec.structs.replace(one.settled, half_width_k=half_width_k)
    return msgspec.structs.replace(one, seconds=seconds, settled=settled, outcome=RunOutcome.DONE, failures=0, **changes)


@pytest.mark.parametrize(
    ("seconds", "half_width_k", "exposure", "expected"),
    [
        (479.0, 0.8, SETTLING, True),  # a sample and a half are given
        (470.0, 0.8, SETTLING, False),
        (900.0, 1.0, SETTLING, True),
        (900.0, 1.1, SETTLING, False),
        (2399.0, 3.0, SETTLING, True),
        (2390.0, 3.0, SETTLING, False),
        (299.0, math.inf, FIXED, True),
        (290.0, 0.1, FIXED, False),
    ],
)
def test_how_long_and_how_well(seconds: float, half_width_k: float, exposure: Exposure, expected: bool) -> None:
    assert answers(run(seconds, half_width_k), exposure, 1.0) is expected


@pytest.mark.parametrize(
    ("changes", "status"),
    [
        ({"failures": 1}, RunStatus.FAILED),
        ({"outcome": RunOutcome.FAILED}, RunStatus.FAILED),
        ({"outcome": RunOutcome.GUARD}, RunStatus.GUARD),
        ({"outcome": RunOutcome.SKIPPED}, RunStatus.SKIPPED),
    ],
)
def test_a_run_that_did_not_end_itself_answers(changes: dict[str, object], status: RunStatus) -> None:
    """However short: to run it again would only fail again."""
    short = msgspec.structs.replace(run(20.0, math.inf), **changes)
    assert answers(short, SETTLING, 1.0)
    assert status_of_row(short) == status
    assert status_of_row(run(20.0, math.inf)) == RunStatus.DONE
