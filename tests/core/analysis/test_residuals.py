"""What runs read against what the models say: honest runs lie inside their intervals, a spoilt one is the first to be named."""

import math

import msgspec
import numpy as np
import pytest

from niente.core.analysis.evidence import Evidence
from niente.core.analysis.models import fit_models
from niente.core.analysis.residuals import Residual, residuals_of
from niente.core.model.setting import Setting
from niente.core.selection.setting_words import told_apart
from tests.core.analysis.making import models_from

MACHINES = ("larkspur", "wren", "heron")


def of(found: tuple[Residual, ...], quantity: str) -> list[Residual]:
    return [one for one in found if one.quantity == quantity]


@pytest.mark.parametrize("name", MACHINES)
def test_honest_runs_lie_inside_their_intervals(name: str) -> None:
    found = residuals_of(models_from(name))
    assert {one.quantity for one in found} == {"core_rise_k", "noise_dba", "package_power_w"}
    for quantity in ("core_rise_k", "noise_dba", "package_power_w"):
        shown = of(found, quantity)
        assert len(shown) >= 8
        outside = sum(not one.fits for one in shown)
        assert outside <= max(2, 0.15 * len(shown))  # of 95 % intervals; few runs, so that 3 may lie outside by chance
        assert abs(np.mean([one.left / one.half_width for one in shown])) < 0.5  # they lean to neither side


def test_a_run_that_read_too_hot_is_named_first(evidence: Evidence) -> None:
    honest = sorted(of(residuals_of(fit_models(evidence)), "core_rise_k"), key=lambda one: one.measured)
    hot = honest[len(honest) // 2].run_id  # amid the others: at a corner of the plan it might as well be the machine
    spoilt = tuple(
        msgspec.structs.replace(run, settled=msgspec.structs.replace(run.settled, value_c=run.settled.value_c + 9.0))
        if run.run_id == hot
        else run
        for run in evidence.runs
    )
    found = of(residuals_of(fit_models(msgspec.structs.replace(evidence, runs=spoilt))), "core_rise_k")
    assert found[0].run_id == hot
    assert not found[0].fits
    assert found[0].left > 3.0


def test_worst_first_and_none_twice(evidence: Evidence) -> None:
    found = residuals_of(fit_models(evidence))
    for quantity in ("core_rise_k", "noise_dba", "package_power_w"):
        shown = of(found, quantity)
        shares = [abs(one.left) / one.half_width for one in shown]
        assert shares == sorted(shares, reverse=True)
        assert len({one.run_id for one in shown}) == len(shown)
        assert all(math.isfinite(one.half_width) and one.half_width > 0.0 for one in shown)
    measured = {run.run_id: run for run in evidence.runs}
    for one in of(found, "core_rise_k"):
        assert one.measured == pytest.approx(measured[one.run_id].rise_k)
        assert not measured[one.run_id].heat_limited  # the cap only bounds its rise


def test_a_run_without_a_speed_is_not_blamed_for_it(evidence: Evidence) -> None:
    """A lost sensor is no fan that stands: the fit passes such a run over, and so does what it is held against."""
    lost = of(residuals_of(fit_models(evidence)), "core_rise_k")[0].run_id
    runs = tuple(
        msgspec.structs.replace(run, fan_rpm=dict.fromkeys(run.fan_rpm, math.nan)) if run.run_id == lost else run
        for run in evidence.runs
    )
    found = residuals_of(fit_models(msgspec.structs.replace(evidence, runs=runs)))
    assert lost not in {one.run_id for one in found if one.quantity in ("core_rise_k", "noise_dba")}
    assert lost in {one.run_id for one in found if one.quantity == "package_power_w"}


def test_a_run_with_a_bent_curve_is_not_held_against_the_law_of_power(evidence: Evidence) -> None:
    bent = of(residuals_of(fit_models(evidence)), "package_power_w")[0].run_id
    runs = tuple(
        msgspec.structs.replace(run, setting=msgspec.structs.replace(run.setting, point_offset_mv={"1": -20.0}))
        if run.run_id == bent
        else run
        for run in evidence.runs
    )
    found = residuals_of(fit_models(msgspec.structs.replace(evidence, runs=runs)))
    assert bent not in {one.run_id for one in found if one.quantity == "package_power_w"}


def test_runs_are_told_apart_by_what_differs() -> None:
    settings = [Setting(sustained_power_w=watts, fan_duty={"case": 40.0}, clock_cap_mhz=4800.0) for watts in (80.0, 90.0)]
    assert told_apart(settings) == ["80\u00a0W", "90\u00a0W"]
    assert told_apart(settings[:1] * 2) == [settings[0].text()] * 2
    assert told_apart([]) == []
