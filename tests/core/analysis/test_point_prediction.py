"""What the models say of one setting: held against the truth of the stand-in, with hull, room and refusals."""

import math
from typing import Any

import msgspec
import numpy as np
import pytest

from niente.core.analysis.evidence import Evidence
from niente.core.analysis.models import Models, fit_models
from niente.core.analysis.point_prediction import parameters, predict_point
from niente.core.model.errors import DocumentError
from niente.core.model.fan_curve import FanCurve
from niente.core.model.setting import Setting
from tests.conftest import larkspur_rig


@pytest.fixture(scope="module")
def models(evidence: Evidence) -> Models:
    return fit_models(evidence)


def at(watts: float, duty: float, **more: Any) -> Setting:
    return Setting(sustained_power_w=watts, fan_duty={"case": duty}, **more)


@pytest.mark.parametrize("load", ["vector", "dome"])
@pytest.mark.parametrize(("watts", "duty"), [(90.0, 30.0), (97.0, 45.0), (112.0, 60.0), (120.0, 38.0)])
def test_settings_that_were_not_run_come_out_as_they_are(models: Models, watts: float, duty: float, load: str) -> None:
    """Against the plant's own truth, which the models do not know: 0.8 K, half a per cent of work, 0.6 dB."""
    prediction = predict_point(models, at(watts, duty), load, 23.0)
    truth = larkspur_rig().true_settled(at(watts, duty).over(models.base), load, 23.0)
    assert prediction.core_c.value == pytest.approx(truth.hottest_c, abs=0.8)
    assert prediction.clock_mhz.value == pytest.approx(truth.readings["effective_clock_mhz"], rel=0.005)
    assert prediction.power_w.value == pytest.approx(truth.readings["package_power_w"], rel=0.01)
    stock = larkspur_rig().true_settled(models.card.stock, load, 23.0).readings["throughput_per_s"]
    percent = 100.0 * truth.readings["throughput_per_s"] / stock
    assert prediction.throughput_percent.value == pytest.approx(percent, rel=0.006)
    level = larkspur_rig().true_level_dba(at(watts, duty).over(models.base).fan_duty)
    assert prediction.in_room_dba.value == pytest.approx(level, abs=0.6 + 0.9)  # the meter is off by its class
    assert prediction.inside
    assert prediction.limiter == "sustained limit"


@pytest.mark.parametrize(
    ("setting", "limiter"),
    [
        (at(150.0, 84.0, temperature_cap_c=70.0), "temperature cap"),
        (at(150.0, 84.0, clock_cap_mhz=4200.0), "clock cap"),
        (at(110.0, 30.0, temperature_cap_c=75.0), "temperature cap"),
    ],
)
def test_any_limit_may_hold(models: Models, setting: Setting, limiter: str) -> None:
    """A temperature cap and a clock cap that were never run: the fixed point of power and heat finds the clock."""
    prediction = predict_point(models, setting, "vector", 24.0)
    truth = larkspur_rig().true_settled(setting.over(models.base), "vector", 24.0)
    assert prediction.limiter == limiter
    assert prediction.clock_mhz.value == pytest.approx(truth.readings["effective_clock_mhz"], rel=0.01)
    assert prediction.core_c.value == pytest.approx(truth.hottest_c, abs=1.2)
    if limiter == "temperature cap":
        assert prediction.headroom_k.value == pytest.approx(0.0)
        assert "temperature cap limits the clock" in prediction.headroom_k.reason


def test_a_hotter_room_is_felt_a_little_more_than_one_for_one(models: Models) -> None:
    """P12: 1.03 to 1.07 K of core for a kelvin of room, fans and clock fixed (common practice, no source): leakage. Where the
    power limit holds, the watts stay and so does the rise; the clock pays."""
    free = at(165.0, 84.0, clock_cap_mhz=4000.0, temperature_cap_c=95.0)
    cool, warm = (predict_point(models, free, "vector", room) for room in (22.0, 32.0))
    assert cool.limiter == warm.limiter == "clock cap"
    assert 1.03 <= (warm.core_c.value - cool.core_c.value) / 10.0 <= 1.07  # type: ignore[operator]
    held_cool, held_warm = (predict_point(models, at(100.0, 40.0), "vector", room) for room in (22.0, 32.0))
    assert held_warm.core_c.value - held_cool.core_c.value == pytest.approx(10.0, abs=0.1)  # type: ignore[operator]
    assert held_warm.clock_mhz.value < held_cool.clock_mhz.value  # type: ignore[operator]


def test_more_cooling_does_not_help_a_clock_that_power_holds(models: Models) -> None:
    """P21: better cooling lowers the temperature and raises the clock by hardly anything where the power limit holds (common
    practice, no source: 7 K, and no clock at all; leakage gives a little)."""
    slow, fast = (predict_point(models, at(100.0, duty), "vector", 23.0) for duty in (24.0, 80.0))
    assert slow.core_c.value - fast.core_c.value > 7.0  # type: ignore[operator]
    assert 0.0 <= fast.clock_mhz.value / slow.clock_mhz.value - 1.0 < 0.012  # type: ignore[operator]


def test_outside_is_said_in_words(models: Models) -> None:
    assert "power lies outside" in " ".join(predict_point(models, at(60.0, 40.0), "vector", 23.0).outside)
    deep = predict_point(models, Setting(sustained_power_w=100.0, voltage_offset_mv=-140.0), "vector", 23.0)
    assert "voltage offset" in " ".join(deep.outside)
    assert not deep.inside
    slow = predict_point(models, at(100.0, 40.0, clock_cap_mhz=2000.0), "vector", 23.0)
    assert "the clock lies outside" in " ".join(slow.outside)


def test_what_is_not_known_has_a_reason_in_place_of_a_number(models: Models) -> None:
    none = predict_point(models, at(100.0, 40.0), "scalar", 23.0)
    assert none.throughput_percent.value is None
    assert none.core_c.value is None
    assert "no run shows" in none.core_c.reason
    assert none.in_room_dba.value is not None
    assert none.outside


def test_what_the_rig_does_not_have_is_refused(models: Models) -> None:
    with pytest.raises(DocumentError, match="no load 'song'"):
        predict_point(models, Setting(), "song", 23.0)
    with pytest.raises(DocumentError, match="outside the rig's range"):
        predict_point(models, at(900.0, 40.0), "vector", 23.0)


def test_parameters_have_intervals_and_the_model_says_what_it_does_not_explain(evidence: Evidence, models: Models) -> None:
    told = parameters(models)
    assert set(told) >= {"fixed_kpw", "flow_exponent", "other_heat_w", "case_kpw", "cooler_kpw", "load dome: fixed"}
    assert all(one["low"] < one["value"] < one["high"] for one in told.values())
    assert 0.5 < told["flow_exponent"]["value"] < 1.5
    assert models.heat.misfits == ()
    settled = [run for run in models.usable() if run.load == "vector" and run.settled.known and not run.heat_limited]
    odd = msgspec.structs.replace(
        settled[5], settled=msgspec.structs.replace(settled[5].settled, value_c=settled[5].settled.value_c + 9.0)
    )
    runs = tuple(odd if run.run_id == odd.run_id else run for run in evidence.runs)
    strange = fit_models(msgspec.structs.replace(evidence, runs=runs))
    assert [one.run_id for one in strange.heat.misfits] == [odd.run_id]
    assert math.isclose(strange.heat.misfits[0].measured_k, odd.rise_k)


def test_thin_air_is_felt(models: Models) -> None:
    low, high = (predict_point(models, at(100.0, 40.0), "vector", 23.0, air) for air in (1.0, 0.86))
    assert high.core_c.value > low.core_c.value + 0.5  # type: ignore[operator]


def test_fans_on_a_curve_follow_the_core(models: Models) -> None:
    """With fans on a rising curve a core follows the room less than one for one (P12; common practice, no source)."""
    curve = FanCurve("core_temperature_c", ((60.0, 25.0), (85.0, 84.0)))
    setting = msgspec.structs.replace(at(100.0, 40.0), fan_duty={}, fan_curve={"case": curve})
    cool, warm = (predict_point(models, setting, "vector", room) for room in (20.0, 30.0))
    assert 0.1 < (warm.core_c.value - cool.core_c.value) / 10.0 < 0.9  # type: ignore[operator]
    assert warm.in_room_dba.value > cool.in_room_dba.value  # type: ignore[operator]
    assert np.isfinite(warm.core_c.half_width)  # type: ignore[arg-type]


def test_a_floor_holds_and_fans_that_need_little_power_to_stand_turn_under_a_load(models: Models) -> None:
    flat = FanCurve("core_temperature_c", ((20.0, 25.0), (99.0, 26.0)))
    curves = {
        "plain": flat,
        "floor": msgspec.structs.replace(flat, floor_percent=60.0),
        "two conditions": msgspec.structs.replace(
            flat, points=((98.0, 25.0), (99.0, 26.0)), off_below_c=98.0, off_below_w=20.0
        ),
        "one condition": msgspec.structs.replace(flat, points=((98.0, 25.0), (99.0, 26.0)), off_below_c=98.0),
    }
    core = {}
    for name, curve in curves.items():
        setting = msgspec.structs.replace(at(100.0, 40.0), fan_duty={}, fan_curve={"case": curve})
        core[name] = predict_point(models, setting, "vector", 23.0).core_c.value
    assert core["floor"] < core["plain"] - 0.5  # type: ignore[operator]
    assert core["two conditions"] == pytest.approx(core["plain"], abs=1.0)
    assert core["one condition"] > core["plain"] + 0.5  # type: ignore[operator]
