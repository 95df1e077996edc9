"""Where air comes from shows in the runs: a mixed load that nobody ran, and a fan that works against the stream."""

import json
from typing import Any

import msgspec
import numpy as np
import pytest

from niente.core.analysis.evidence import Evidence
from niente.core.analysis.grid import GridView
from niente.core.analysis.maps import MapRequest, make_map
from niente.core.analysis.models import Models, fit_models
from niente.core.analysis.prediction import predict_under_load
from niente.core.analysis.setting_batch import one_setting
from niente.core.model.limits import Limits
from niente.core.model.setting import Setting
from niente.core.rigs.simulated.machine_files import MachineFile, merged, shipped_file
from niente.core.rigs.simulated.rig import SimulatedRig
from niente.core.selection.pick import choose
from tests.core.analysis.making import evidence_at, evidence_of_runs

ROOM_C = 24.0


def passive(watts: float, duty: float) -> Setting:
    return Setting(sustained_power_w=watts, fan_duty={"case": duty}, temperature_cap_c=100.0)


PARTS = [
    *((passive(watts, duty), "vector", 100.0) for watts in (35.0, 55.0, 70.0) for duty in (0.0, 40.0, 80.0)),
    (passive(40.0, 80.0), "mixed", 100.0),
    (passive(60.0, 40.0), "mixed", 100.0),
    (passive(40.0, 0.0), "mixed", 100.0),
]
"""A processor's load at three watts and three duties; and three mixed loads."""


@pytest.fixture(scope="module")
def wren() -> Evidence:
    return evidence_of_runs("wren", PARTS)


@pytest.mark.parametrize(("watts", "duty"), [(60.0, 80.0), (50.0, 60.0), (45.0, 40.0), (50.0, 0.0)])
def test_a_mixed_load_that_was_not_run_is_foretold(wren: Evidence, watts: float, duty: float) -> None:
    """Within 1 K, and within its interval, at settings whose parts were run."""
    models = fit_models(wren)
    said = predict_under_load(models, one_setting(passive(watts, duty).over(wren.card.stock)), "mixed", ROOM_C)
    rig = SimulatedRig(shipped_file("wren"), seed=3)
    true = rig.true_settled(passive(watts, duty).over(wren.card.stock), "mixed", ROOM_C, 5.0)
    off = float(said.core_c[0]) - true.hottest_c
    assert abs(off) < 1.0
    assert abs(off) < float(said.core_hw[0])


def warmed_by_graphics(models: Models, duty: float) -> tuple[float, float]:
    """What 60 W of graphics add to the core at 50 W of package, in K, and the interval of the whole rise there."""
    rpm = np.array([[float(models.speeds["case"].at(np.array([duty]))[0][0])]])
    with_, half_width = models.heat.rise(np.array([50.0]), rpm, np.array([[60.0]]), "vector")
    without, _ = models.heat.rise(np.array([50.0]), rpm, np.zeros((1, 1)), "vector")
    return float(with_[0] - without[0]), float(half_width[0])


def test_a_watt_of_graphics_counts_more_where_less_air_moves(wren: Evidence) -> None:
    models = fit_models(wren)
    rig = SimulatedRig(shipped_file("wren"), seed=3)
    still, _ = warmed_by_graphics(models, 0.0)
    fast, _ = warmed_by_graphics(models, 80.0)
    assert still > fast > 0.0
    for duty, said in ((0.0, still), (80.0, fast)):
        alone, mixed = (
            rig.true_settled(passive(50.0, duty).over(wren.card.stock), load, 24.0, 5.0) for load in ("vector", "mixed")
        )
        assert said == pytest.approx(mixed.hottest_c - alone.hottest_c, abs=1.5)


def test_what_no_mixed_load_showed_widens_the_interval(wren: Evidence) -> None:
    """Without any mixed run a source's part is what it may be on any machine, and the interval says so."""
    told = fit_models(wren)
    _, known = warmed_by_graphics(told, 80.0)
    blind = msgspec.structs.replace(wren, runs=wren.runs[:9])
    untold = fit_models(blind)
    # a source that was never seen has no parameter: nothing is foretold of a load that draws on it
    assert untold.heat.sources == told.heat.sources
    _, wide = warmed_by_graphics(untold, 80.0)
    assert wide > 1.5 * known


def test_runs_that_did_not_read_a_source_are_taken_for_others_of_their_load(wren: Evidence) -> None:
    """A sensor lost in two runs, or a channel that the machine did not have then: what is foretold stays nearly the same."""
    (name,) = wren.runs[0].sources_w
    lost = tuple(
        msgspec.structs.replace(run, sources_w={name: float("nan")} if index == 10 else {} if index < 2 else run.sources_w)
        for index, run in enumerate(wren.runs)
    )
    whole, some = (fit_models(msgspec.structs.replace(wren, runs=runs)) for runs in (wren.runs, lost))
    at = one_setting(passive(50.0, 40.0).over(wren.card.stock))
    one, other = (float(predict_under_load(models, at, "mixed", ROOM_C).core_c[0]) for models in (whole, some))
    assert one == pytest.approx(other, abs=0.05)


def with_roof_fan() -> SimulatedRig:
    """Larkspur with a fan in the roof that blows in against the stream, on a header of its own."""
    document = json.loads(json.dumps(shipped_file("larkspur").document))
    patch = next(one["patch"] for one in document["variants"] if one["name"] == "fan added in the roof")
    roof: dict[str, Any] = {"fans": {"roof": {"group": "roof"}}, "variants": []}
    document = merged(merged(document, patch), roof)
    document["controls"].insert(1, {"name": "fan_duty.roof", "low": 0, "high": 100, "step": 1, "set_by": "software"})
    for at in ("stock", "safe"):
        document[at]["fan_duty"]["roof"] = 0
    return SimulatedRig(MachineFile(document, "larkspur with a roof fan"), seed=3)


def blown(watts: float, case: float, roof: float) -> Setting:
    return Setting(sustained_power_w=watts, fan_duty={"case": case, "cooler": 55.0, "roof": roof})


@pytest.fixture(scope="module")
def against() -> tuple[SimulatedRig, Models]:
    rig = with_roof_fan()
    duties = ((35.0, 0.0), (35.0, 90.0), (60.0, 0.0), (60.0, 50.0), (85.0, 90.0), (45.0, 25.0), (80.0, 45.0))
    runs = [(blown(watts, case, roof), "vector", 40.0) for watts in (75.0, 115.0) for case, roof in duties]
    return rig, fit_models(evidence_at(rig, [*runs, (Setting(), "vector", 40.0)]))


def test_more_of_a_group_may_be_hotter(against: tuple[SimulatedRig, Models]) -> None:
    """The map says so where the runs do, as far as the machine goes, and is within its interval."""
    rig, models = against
    stock = rig.describe().stock
    said, true = [], []
    for roof in (0.0, 30.0, 75.0):
        whole = blown(100.0, 50.0, roof).over(stock)
        point = predict_under_load(models, one_setting(whole), "vector", ROOM_C)
        settled = rig.true_settled(whole, "vector", ROOM_C).hottest_c
        assert abs(float(point.core_c[0]) - settled) < float(point.core_hw[0])
        said.append(float(point.core_c[0]))
        true.append(settled)
    assert true[0] < true[1] < true[2]
    assert said[0] < said[1] < said[2]
    assert said[2] - said[0] == pytest.approx(true[2] - true[0], abs=2.0)


def test_map_and_pick_follow(against: tuple[SimulatedRig, Models]) -> None:
    """The map over the roof fan's duty grows hotter upwards, and no pick wants more of it."""
    rig, models = against
    assert rig.describe().lead_group() == "roof"
    limits = Limits(design_room_c=28.0, min_throughput_percent=60.0)
    field = make_map(models, limits, MapRequest(view=GridView(up="fan_duty.roof"))).field
    core = field.as_grid(field.predicted.core_c)
    column = core[:, np.argmin(np.abs(field.x - 100.0))]
    assert column[-1] > column[0] + 2.0
    found = choose(models, limits)
    assert found.pick is not None
    assert found.pick.setting.fan_duty["roof"] < 10.0


def test_the_sign_is_not_assumed_for_fans_that_cool(against: tuple[SimulatedRig, Models]) -> None:
    rig, models = against
    slow, fast = (
        float(
            predict_under_load(
                models, one_setting(blown(100.0, case, 0.0).over(rig.describe().stock)), "vector", ROOM_C
            ).core_c[0]
        )
        for case in (40.0, 80.0)
    )
    assert fast < slow - 2.0
