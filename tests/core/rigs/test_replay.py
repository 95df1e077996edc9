"""A book played again reads what was read, and comes to what was come to."""

import threading
from pathlib import Path

import numpy as np
import pytest

from niente.core.acquisition.opening import open_bench
from niente.core.analysis.evidence import Evidence, gather
from niente.core.model.errors import BookError, RigError
from niente.core.model.plan import Plan
from niente.core.model.project import Project
from niente.core.model.setting import Setting
from niente.core.planning.progress import plan_rows
from niente.core.planning.templates import plan_for
from niente.core.rigs.registry import open_rig
from niente.core.rigs.replay import TAIL_SAMPLES, ReplayRig
from niente.core.storage.reader import BookReader
from tests.conftest import Watcher


@pytest.fixture
def replay(sweep: tuple[Path, Project]):  # type: ignore[no-untyped-def]
    rig = ReplayRig(sweep[0])
    yield rig
    rig.close()


def test_the_samples_are_the_recorded_ones(sweep: tuple[Path, Project], replay: ReplayRig) -> None:
    book = BookReader(sweep[0])
    runs = [run for run in book.runs() if run.load == "vector" and run.setting.sustained_power_w == 100.0]
    alike = [run.setting for run in runs]
    run = next(run for run in runs if alike.count(run.setting) == 1)  # of several at one setting the latest is played
    _, values = book.frames(run)
    book.close()
    replay.apply(run.setting)
    replay.start("vector")
    played = [replay.frame(1.0) for _ in range(values.shape[0])]
    assert np.array_equal(np.array([frame.values for frame in played if frame is not None]), values, equal_nan=True)
    times = np.array([frame.time_s for frame in played if frame is not None])
    assert np.allclose(np.diff(times), replay.describe().sample_period_s)


def test_past_its_end_a_run_stands_where_it_ended(sweep: tuple[Path, Project], replay: ReplayRig) -> None:
    replay.apply(Setting(sustained_power_w=100.0, fan_duty={"case": 52.0}))
    replay.start("vector")
    long = [replay.frame(1.0) for _ in range(6000)]
    last = np.array([frame.values for frame in long if frame is not None])
    assert np.array_equal(last[-1], last[-1 - TAIL_SAMPLES])
    assert np.ptp(last[-600:, 0]) < 4.0


def test_the_nearest_recorded_setting_answers(replay: ReplayRig) -> None:
    replay.apply(Setting(sustained_power_w=103.0, fan_duty={"case": 50.0, "cooler": 40.0}))
    replay.start("vector")
    assert replay._nearest("vector").setting.sustained_power_w == 100.0  # type: ignore[union-attr]
    assert replay._nearest("vector").setting.fan_duty["case"] == 52.0  # type: ignore[union-attr]


def test_its_readings_never_get_into_the_machines_own_book(sweep_copy: Path, watcher: Watcher) -> None:
    rig = open_rig(str(sweep_copy))
    assert rig.describe().serial == "3-replay"
    with pytest.raises(BookError):
        open_bench(rig, sweep_copy, watcher.hear)
    rig.close()


def test_a_replayed_plan_comes_to_the_same(
    sweep: tuple[Path, Project], evidence: Evidence, tmp_path: Path, watcher: Watcher
) -> None:
    rig = ReplayRig(sweep[0])
    plan = plan_for(rig.describe(), sweep[1].question)
    made = [row.step for row in plan_rows(plan, evidence.card, evidence) if row.run is not None and row.run.outcome == "done"]
    few = Plan(
        plan.format,
        plan.rig,
        plan.question,
        tuple(step for step in made if step.load == "vector" and step.exposure.known_to_k)[:4],
        plan.guards,
    )
    book = tmp_path / "again.niente"
    bench = open_bench(rig, book, watcher.hear)
    bench.start(few, sweep[1].limits)
    assert watcher.end().complete
    bench.close()
    reader = BookReader(book)
    again = gather(reader)
    reader.close()
    assert again is not None
    before = {(run.setting.key(), run.load): run for run in evidence.runs}
    for run in again.runs:
        known = before[run.setting.key(), run.load]
        both = run.settled.half_width_k + known.settled.half_width_k
        assert abs(run.settled.value_c - known.settled.value_c) < both
        assert run.power_w == pytest.approx(known.power_w, rel=0.02)


def test_what_cannot_be_played_is_said(sweep: tuple[Path, Project], replay: ReplayRig, tmp_path: Path) -> None:
    with pytest.raises(RigError, match="no recorded run of 'singing'"):
        replay.start("singing")
    with pytest.raises(RigError, match="refuses"):
        replay.apply(Setting(sustained_power_w=9000.0))
    with pytest.raises(BookError):
        open_rig(str(tmp_path / "nowhere.niente"))


def test_an_empty_book_is_no_rig(tmp_path: Path) -> None:
    from niente.core.storage.writer import BookWriter

    path = tmp_path / "empty.niente"
    BookWriter(path).close()
    with pytest.raises(BookError, match="no run that could be played again"):
        ReplayRig(path)


def test_make_safe_from_another_thread_leaves_the_book_usable(replay: ReplayRig) -> None:
    replay.start("vector")
    other = threading.Thread(target=replay.make_safe)
    other.start()
    other.join()
    assert replay.frame(1.0) is not None
