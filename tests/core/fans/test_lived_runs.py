"""A run on curves beside its rehearsal, where its readings are not what one would wish."""

from pathlib import Path

import numpy as np
import pytest

from niente.core.fans.lived_runs import lived_run
from niente.core.model.errors import NotEnoughError
from niente.core.model.project import Project
from niente.core.storage.reader import BookReader, RunRecord
from tests.core.fans.conftest import AtPick

Frames = tuple[np.ndarray, np.ndarray]


@pytest.fixture
def run(sweep: tuple[Path, Project]) -> tuple[RunRecord, Frames, list[str]]:
    """A run under a load, with its frames and their channels; its fans are at fixed duties."""
    book = BookReader(sweep[0])
    record = max((one for one in book.runs() if one.load), key=lambda one: (one.closed_rig_time_s or 0.0) - one.rig_time_s)
    frames = book.frames(record)
    book.close()
    return record, frames, list(record.channels)


def with_frames(monkeypatch: pytest.MonkeyPatch, time_s: np.ndarray, values: np.ndarray) -> None:
    monkeypatch.setattr(BookReader, "frames", lambda *_: (time_s, values))


def test_a_run_at_fixed_duties_is_near_its_rehearsal(
    at_pick: AtPick, sweep: tuple[Path, Project], run: tuple[RunRecord, Frames, list[str]]
) -> None:
    record, (time_s, _), _ = run
    day = lived_run(sweep[0], at_pick.models.card, at_pick.machine, record.id)
    assert day.measured is not None
    assert day.measured.gaps_s == 0.0
    assert day.trace.hour[-1] <= (time_s[-1] - time_s[0]) / 3600.0 + 0.01


def test_a_gap_is_bridged_and_counted_and_one_of_weeks_ends_the_run(
    at_pick: AtPick,
    sweep: tuple[Path, Project],
    run: tuple[RunRecord, Frames, list[str]],
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    record, (time_s, values), _ = run
    late = np.where(np.arange(time_s.shape[0]) > 100, time_s + 300.0, time_s)
    with_frames(monkeypatch, late, values)
    day = lived_run(sweep[0], at_pick.models.card, at_pick.machine, record.id)
    assert day.measured is not None
    assert day.measured.gaps_s == pytest.approx(301.0, abs=2.0)
    with_frames(monkeypatch, np.where(np.arange(time_s.shape[0]) > 100, time_s + 1e9, time_s), values)
    weeks = lived_run(sweep[0], at_pick.models.card, at_pick.machine, record.id)
    assert weeks.trace.hour[-1] < 24.0


@pytest.mark.parametrize("channel", ["package_power_w", "room_temperature_c", "core_temperature_c"])
def test_a_run_without_a_reading_is_refused(
    at_pick: AtPick,
    sweep: tuple[Path, Project],
    run: tuple[RunRecord, Frames, list[str]],
    monkeypatch: pytest.MonkeyPatch,
    channel: str,
) -> None:
    record, (time_s, values), channels = run
    silent = values.copy()
    silent[:, [name.startswith(channel) for name in channels]] = np.nan
    with_frames(monkeypatch, time_s, silent)
    with pytest.raises(NotEnoughError, match="readings"):
        lived_run(sweep[0], at_pick.models.card, at_pick.machine, record.id)


def test_a_short_run_is_refused(
    at_pick: AtPick,
    sweep: tuple[Path, Project],
    run: tuple[RunRecord, Frames, list[str]],
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    record, (time_s, values), _ = run
    with_frames(monkeypatch, time_s[:20], values[:20])
    with pytest.raises(NotEnoughError, match="too few"):
        lived_run(sweep[0], at_pick.models.card, at_pick.machine, record.id)
