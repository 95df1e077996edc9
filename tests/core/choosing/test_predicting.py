"""What the models say of one setting: held against the truth of the stand-in, with hull, room and refusals."""

import math

import msgspec
import numpy as np
import pytest

from niente.core.choosing.models import Models, fit_models
from niente.core.choosing.predicting import in_hull, misfits, parameters, say
from niente.core.errors import DocumentError
from niente.core.evidence import Evidence
from niente.core.setting import Setting
from tests.conftest import larkspur_rig


@pytest.fixture(scope="module")
def models(evidence: Evidence) -> Models:
    return fit_models(evidence)


def at(watts: float, duty: float) -> Setting:
    return Setting(sustained_power_w=watts, fan_duty={"case": duty})


@pytest.mark.parametrize(("watts", "duty"), [(90.0, 30.0), (97.0, 45.0), (112.0, 60.0), (120.0, 38.0)])
def test_settings_that_were_not_run_come_out_as_they_are(models: Models, watts: float, duty: float) -> None:
    """Against the plant's own truth, which the models do not know: within the interval, and a kelvin and a half."""
    said = say(models, at(watts, duty), "vector", 23.0)
    truth = larkspur_rig().true_settled(at(watts, duty).over(models.base), "vector", 23.0)
    assert said.core_c.value == pytest.approx(truth.hottest_c, abs=1.5)
    assert said.clock_mhz.value == pytest.approx(truth.readings["effective_clock_mhz"], rel=0.01)
    assert said.power_w.value == pytest.approx(truth.readings["package_power_w"], rel=0.03)
    level = larkspur_rig().true_level_dba(at(watts, duty).over(models.base).fan_duty)
    assert said.in_room_dba.value == pytest.approx(level, abs=1.5)  # the law of one slope knows no resonances
    assert said.inside


def test_a_hotter_room_is_felt_a_little_more_than_one_for_one(models: Models) -> None:
    """P12: 1.03 to 1.07 K of core for a kelvin of room, fans fixed (common practice, no source)."""
    cool, warm = (say(models, at(100.0, 40.0), "vector", room).core_c.value for room in (22.0, 32.0))
    assert cool is not None
    assert warm is not None
    assert 1.03 <= (warm - cool) / 10.0 <= 1.07


def test_outside_is_said_in_words(models: Models) -> None:
    assert "the limit lies outside" in " ".join(say(models, at(195.0, 40.0), "vector", 23.0).outside)
    deep = say(models, Setting(sustained_power_w=100.0, voltage_offset_mv=-140.0), "vector", 23.0)
    assert "its voltage" in " ".join(deep.outside)
    assert not deep.inside


def test_what_is_not_known_has_a_reason_in_place_of_a_number(models: Models) -> None:
    said = say(models, at(100.0, 40.0), "dome", 23.0)
    assert said.core_c.value is None
    assert "known under vector" in said.core_c.reason
    assert said.throughput_percent.value is not None
    none = say(models, at(100.0, 40.0), "single", 23.0)
    assert none.throughput_percent.value is None
    assert none.outside


def test_what_the_rig_does_not_have_is_refused(models: Models) -> None:
    with pytest.raises(DocumentError, match="no load 'song'"):
        say(models, Setting(), "song", 23.0)
    with pytest.raises(DocumentError, match="outside the rig's range"):
        say(models, at(900.0, 40.0), "vector", 23.0)


def test_a_hull_holds_what_is_between_and_nothing_else() -> None:
    """The unit square, and a line in a plane: the definition of the convex hull."""
    square, slack = np.array([[0.0, 0.0], [1.0, 0.0], [0.0, 1.0], [1.0, 1.0]]), np.array([1e-6, 1e-6])
    assert in_hull(square, np.array([0.3, 0.7]), slack)
    assert not in_hull(square, np.array([1.1, 0.5]), slack)
    triangle = square[:3]
    assert not in_hull(triangle, np.array([0.8, 0.8]), slack)
    line = np.array([[0.0, 5.0], [10.0, 5.0]])
    assert in_hull(line, np.array([4.0, 5.0]), slack)
    assert not in_hull(line, np.array([4.0, 5.1]), slack)
    assert in_hull(line, np.array([4.0, 5.1]), np.array([0.2, 0.2]))


def test_parameters_have_intervals_and_the_model_says_what_it_does_not_explain(models: Models) -> None:
    told = parameters(models)
    assert set(told) >= {"fixed_kpw", "flow_exponent", "other_heat_w"}
    assert all(one["low"] < one["value"] < one["high"] for one in told.values())
    assert 0.5 < told["flow_exponent"]["value"] < 0.95
    settled = [run for run in models.evidence.usable() if run.load == "vector" and run.settled.known and not run.heat_held]
    assert len(misfits(models)) <= 0.15 * len(settled)
    odd = msgspec.structs.replace(
        settled[0], settled=msgspec.structs.replace(settled[0].settled, value_c=settled[0].settled.value_c + 9.0)
    )
    runs = tuple(odd if run.run_id == odd.run_id else run for run in models.evidence.runs)
    strange = msgspec.structs.replace(models, evidence=msgspec.structs.replace(models.evidence, runs=runs))
    assert misfits(strange)[0].run_id == odd.run_id
    assert math.isclose(misfits(strange)[0].measured_k, odd.rise_k)
