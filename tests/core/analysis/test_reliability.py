"""The chance of a day without a failure, from exposure alone."""

import msgspec
import numpy as np
import pytest

from niente.core.analysis.evidence import Evidence
from niente.core.analysis.models import Models, fit_models
from niente.core.analysis.reliability import reliability_over_a_day


@pytest.fixture(scope="module")
def models(evidence: Evidence) -> Models:
    return fit_models(evidence)


@pytest.mark.parametrize(
    ("days", "failures", "chance"), [(1.0, 0, 0.70711), (3.0, 0, 0.86603), (1.0, 1, 0.35355), (0.0, 0, 0.0)]
)
def test_a_gamma_posterior_with_half_a_failure_beforehand(models: Models, days: float, failures: int, chance: float) -> None:
    """(T/(T + 1 day))^(k + 1/2) (Jeffreys' prior of a Poisson rate; derived): a clean day leaves 1/sqrt(2) for the next."""
    one = next(run for run in models.evidence.usable() if run.load == "vector" and not run.failures)
    only = msgspec.structs.replace(one, seconds=86400.0 * days, failures=failures)
    alone = msgspec.structs.replace(models, evidence=msgspec.structs.replace(models.evidence, runs=(only,), elsewhere={}))
    depth = np.array([only.setting.voltage_offset_mv or 0.0])
    found, against = reliability_over_a_day(alone, np.array([only.clock_mhz]), depth)
    assert found[0] == pytest.approx(chance, abs=1e-4)
    assert against[0] == failures
