"""A machine at its pick, from Larkspur's sweep."""

from pathlib import Path
from typing import NamedTuple

import pytest

from niente.core.analysis.evidence import Evidence
from niente.core.analysis.models import Models, fit_models
from niente.core.fans.curve_trials import responses
from niente.core.fans.machine import MachineAtPoint, machine_at
from niente.core.model.limits import Limits
from niente.core.model.project import Project
from niente.core.science.heat.response import HeatResponse
from niente.core.selection.pick import choose

ROOM_C = 23.0


class AtPick(NamedTuple):
    models: Models
    response: HeatResponse
    machine: MachineAtPoint


@pytest.fixture(scope="session")
def at_pick(sweep: tuple[Path, Project], evidence: Evidence) -> AtPick:
    models = fit_models(evidence)
    response, _ = responses(sweep[0], models)
    pick = choose(models, Limits()).pick.setting
    return AtPick(models, response, machine_at(models, response, pick, ROOM_C))
