"""What sensors beside the core see of its warming, held against the machines' own nodes."""

from pathlib import Path

import numpy as np
import pytest

from niente.core.analysis.evidence import Evidence, column
from niente.core.analysis.models import fit_models
from niente.core.analysis.sensor_shares import other_sensors, sensor_shares_in
from niente.core.analysis.warming import readings_of, response_in, told_runs
from niente.core.model.project import Project
from niente.core.storage.reader import BookReader


def test_case_air_sees_little_of_the_core_and_much_of_what_all_fans_work_on(
    sweep: tuple[Path, Project], evidence: Evidence
) -> None:
    """The shares stand where a run has settled too, against what its sensor read at the end."""
    models = fit_models(evidence)
    book = BookReader(sweep[0])
    try:
        response = response_in(book, models)
        assert response is not None
        shares = sensor_shares_in(book, models, response)
        record, warming = max(told_runs(book, models), key=lambda told: told[1].rise_k.shape[0])
        _, raw = readings_of(book, record, models.card)
    finally:
        book.close()
    assert set(shares) <= set(other_sensors(models.card))
    air = shares["case_air_temperature_c"]
    assert air.residual_sd_k < 1.5
    assert air.of_parts[0] == pytest.approx(0.0, abs=0.05)  # silicon's own kelvins end where the cooler begins
    assert sum(air.of_parts) > 0.3
    assert min((*air.of_parts, air.of_power_k_per_w, *air.k_per_w)) >= 0.0
    last = raw[-60:]
    read_k = float(
        np.mean(column(models.card, last, "case_air_temperature_c") - column(models.card, last, "room_temperature_c"))
    )
    power_w, sources = float(warming.power_w[-60:].mean()), np.array([warming.sources_w])
    parts = response.parts(models.heat, np.array([power_w]), np.array([warming.rpm]), sources, warming.load)[0]
    told_k = parts @ air.of_parts + air.of_power_k_per_w * power_w + float(sources[0] @ air.k_per_w)
    assert told_k == pytest.approx(read_k, abs=3.0)
