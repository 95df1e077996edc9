"""What each run read against what the models say of it: the plainest look at how well they fit."""

import msgspec
import numpy as np

from niente.core.analysis.evidence import RunSummary
from niente.core.analysis.model_runs import drawn_w, heat_readings, model_runs, power_readings, speeds_of
from niente.core.analysis.models import Models
from niente.core.model.setting import Setting
from niente.core.science.arrays import Vector
from niente.core.science.statistics import Z95

HEAT, NOISE, POWER = "core_rise_k", "noise_dba", "package_power_w"


class Residual(msgspec.Struct, frozen=True):
    """One run: what it read and what the models say, in the unit of ``quantity``, with the 95 % half width of the two together.

    The models have seen the run: a residual says whether they can explain it, and not how well they foretell another.
    """

    quantity: str
    run_id: int
    setting: Setting
    load: str
    measured: float
    modelled: float
    half_width: float

    @property
    def left(self) -> float:
        """What the models leave over: measured less modelled."""
        return self.measured - self.modelled

    @property
    def fits(self) -> bool:
        """Whether that lies inside its interval."""
        return abs(self.left) <= self.half_width


def residuals_of(models: Models) -> tuple[Residual, ...]:
    """Return the residuals of the machine's runs as it is now, those that fit worst first in each quantity: of the runs that
    each model is fitted to, those among them that it could not believe too.

    Heat is compared at the power, speeds and heat sources that a run had; a run that its temperature cap limited only bounds
    its rise, and is left out. Noise is compared at its speeds, power at its clock and temperature.
    """
    heavy = models.card.load(models.heavy_load)
    assert heavy is not None
    runs = model_runs(models.evidence, heavy)
    found = [*_of_heat(models, runs.settled), *_of_noise(models, runs.heard), *_of_power(models, runs.drawn)]
    return tuple(sorted(found, key=lambda one: -abs(one.left) / max(one.half_width, 1e-9)))


def _of_heat(models: Models, runs: list[RunSummary]) -> list[Residual]:
    heat, found = models.heat, []
    for load in dict.fromkeys(run.load for run in runs):
        chosen = [run for run in runs if run.load == load]
        read = heat_readings([(run, "") for run in chosen], heat.groups, heat.sources)
        rise, half_width = heat.rise(read.power_w, read.rpm, read.sources_w, load)
        found += _together(HEAT, chosen, read.rise_k, rise, np.hypot(half_width, Z95 * read.rise_se_k))
    return found


def _of_noise(models: Models, runs: list[RunSummary]) -> list[Residual]:
    watts = np.array([drawn_w(run) for run in runs])
    level, half_width = models.noise.in_room(speeds_of(runs, models.noise.groups), watts)
    own = np.array([run.noise_hw_db for run in runs])
    return _together(NOISE, runs, np.array([run.noise_dba for run in runs]), level, np.hypot(half_width, own))


def _of_power(models: Models, runs: list[RunSummary]) -> list[Residual]:
    law, found = models.power, []
    for load in law.loads:
        chosen = [run for run in runs if run.load == load]
        if not chosen:
            continue
        read = power_readings(chosen)
        at = (read.clock_mhz, read.core_c, read.offset_mv, read.fixed_v)
        watts = law.power_w(load, *at)
        found += _together(POWER, chosen, read.power_w, watts, Z95 * watts * law.error(load, *at))
    return found


def _together(quantity: str, runs: list[RunSummary], measured: Vector, modelled: Vector, half_width: Vector) -> list[Residual]:
    return [
        Residual(quantity, run.run_id, run.setting, run.load, float(read), float(said), float(wide))
        for run, read, said, wide in zip(runs, measured, modelled, half_width, strict=True)
        if np.isfinite([read, said, wide]).all()
    ]
