"""What sensors beside the core see of its warming, held against the machines' own nodes."""

from pathlib import Path

import numpy as np
import pytest

from niente.core.analysis.evidence import Evidence
from niente.core.analysis.models import Models, fit_models
from niente.core.analysis.sensor_shares import sensor_shares
from niente.core.analysis.warming import ToldRun, other_sensors, told_runs
from niente.core.model.project import Project
from niente.core.science.heat.response import HeatResponse, fit_response
from niente.core.storage.reader import BookReader, RunRecord


@pytest.fixture(scope="module")
def fitted(sweep: tuple[Path, Project], evidence: Evidence) -> tuple[Models, list[ToldRun], HeatResponse]:
    models = fit_models(evidence)
    book = BookReader(sweep[0])
    told = told_runs(book, models)
    book.close()
    response = fit_response(models.heat, [run.warming for run in told])
    assert response is not None
    return models, told, response


def test_case_air_sees_little_of_the_core_and_much_of_what_all_fans_work_on(
    fitted: tuple[Models, list[ToldRun], HeatResponse],
) -> None:
    """The shares stand where a run has settled too, against what its sensor read at the end."""
    models, told, response = fitted
    shares = sensor_shares(models, response, told)
    assert set(shares) <= set(other_sensors(models.card))
    air = shares["case_air_temperature_c"]
    assert air.residual_sd_k < 1.5
    assert air.of_parts[0] == pytest.approx(0.0, abs=0.05)  # silicon's own kelvins end where the cooler begins
    assert sum(air.of_parts) > 0.3
    assert min((*air.of_parts, air.of_power_k_per_w, *air.k_per_w)) >= 0.0
    run = max(told, key=lambda one: one.warming.rise_k.shape[0])
    read_k = float(np.mean(run.sensors_k["case_air_temperature_c"][-60:]))
    power_w, sources = float(run.warming.power_w[-60:].mean()), np.array([run.warming.sources_w])
    parts = response.parts(models.heat, np.array([power_w]), np.array([run.warming.rpm]), sources, run.warming.load)[0]
    told_k = parts @ air.of_parts + air.of_power_k_per_w * power_w + float(sources[0] @ air.k_per_w)
    assert told_k == pytest.approx(read_k, abs=3.0)


@pytest.mark.parametrize("reading_k", [np.nan, 3.0])
def test_a_sensor_that_is_silent_or_stands_still_is_left_out(
    fitted: tuple[Models, list[ToldRun], HeatResponse], reading_k: float
) -> None:
    models, told, response = fitted
    air = "case_air_temperature_c"
    wrong = [ToldRun(one.warming, one.sensors_k | {air: np.full(one.warming.rise_k.shape, reading_k)}) for one in told]
    shares = sensor_shares(models, response, wrong)
    assert air not in shares
    assert "board_temperature_c" in shares
    assert sensor_shares(models, response, []) == {}


def test_a_run_whose_core_was_hardly_read_tells_nothing(
    fitted: tuple[Models, list[ToldRun], HeatResponse], sweep: tuple[Path, Project], monkeypatch: pytest.MonkeyPatch
) -> None:
    models, told, _ = fitted
    book, frames = BookReader(sweep[0]), BookReader.frames
    silent: list[int] = []

    def without_core(reader: BookReader, record: RunRecord, channels: list[str]) -> tuple[np.ndarray, np.ndarray]:
        time_s, read = frames(reader, record, channels)
        values = read.copy()
        silent[:] = silent or [record.id]
        if record.id in silent:
            values[20:, [name.startswith("core_temperature_c") for name in channels]] = np.nan
        return time_s, values

    monkeypatch.setattr(BookReader, "frames", without_core)
    left = told_runs(book, models)
    book.close()
    assert len(left) == len(told) - 1
    response = fit_response(models.heat, [run.warming for run in left])
    assert response is not None
    assert all(np.isfinite(share.of_parts).all() for share in sensor_shares(models, response, left).values())
