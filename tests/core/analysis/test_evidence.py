from pathlib import Path

import numpy as np

from niente.core.analysis.evidence import Evidence, column, gather, hottest_core
from niente.core.model.records import PlanEnded
from niente.core.model.rig_card import LoadKind, RigCard
from niente.core.storage.reader import BookReader


def test_the_hottest_core_is_the_maximum_of_means(card: RigCard) -> None:
    """Average each core first: one noisy spike must not make a core the hottest."""
    values = np.full((60, len(card.channels)), 60.0)
    values[:, 5] = 61.0
    values[30, 2] = 99.0
    assert hottest_core(card, values) == 5
    values[:, 5] = np.nan
    assert hottest_core(card, values) == 2
    values[:, list(card.indices("core_temperature_c"))] = np.nan
    assert hottest_core(card, values) is None
    assert hottest_core(card, values[:0]) is None
    assert np.isnan(column(card, values, "no_such_channel")).all()


def test_runs_are_summed_up(evidence: Evidence) -> None:
    assert {run.outcome for run in evidence.runs} <= {"done", "failed"}
    assert all((run.outcome == "failed") == bool(run.failures) for run in evidence.runs)
    quiet = evidence.runs[0]
    assert quiet.load_kind == LoadKind.IDLE
    assert not quiet.settled.known
    assert quiet.noise_dba < 25.0
    assert quiet.fan_rpm == {"case": 0.0, "cooler": 0.0} or max(quiet.fan_rpm.values()) < 60
    hot = [run for run in evidence.runs if run.heat_limited]
    assert hot  # the hot corner of the sweep is held by the cap
    assert all(not run.power_limited for run in hot)


def test_known_summaries_are_not_computed_again(evidence: Evidence, sweep: tuple[Path, PlanEnded]) -> None:
    book = BookReader(sweep[0])
    again = gather(book, evidence)
    book.close()
    assert again is not None
    assert all(one is two for one, two in zip(again.runs, evidence.runs, strict=True))
    assert again.slow_prior == evidence.slow_prior
