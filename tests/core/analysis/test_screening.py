"""What cannot be true is named and left out of every model: predictions do not move for it."""

import msgspec
import numpy as np
import pytest

from niente.core.analysis.evidence import Evidence, RunSummary
from niente.core.analysis.models import Models, fit_models, noise_of
from niente.core.analysis.point_prediction import PointPrediction, predict_point
from niente.core.analysis.screening import screened
from niente.core.model.setting import Setting

FIGURES = ("core_c", "in_room_dba", "throughput_percent", "power_w")
BETWEEN = Setting(sustained_power_w=112.0, fan_duty={"case": 44.0})


@pytest.fixture(scope="module")
def models(evidence: Evidence) -> Models:
    return fit_models(evidence)


def said(models: Models) -> list[PointPrediction]:
    return [predict_point(models, BETWEEN, load, 28.0) for load in ("vector", "dome")]


def spoiled(evidence: Evidence, index: int, **figures: object) -> Evidence:
    runs = list(evidence.runs)
    runs[index] = msgspec.structs.replace(runs[index], **figures)
    return msgspec.structs.replace(evidence, runs=tuple(runs))


def heavy(evidence: Evidence) -> list[int]:
    """The runs under the heaviest load that are long enough to count in every model."""
    runs = enumerate(evidence.runs)
    return [i for i, run in runs if run.load == "vector" and run.settled.known and not run.failures and run.seconds >= 480.0]


def wrong(run: RunSummary, what: str) -> dict[str, object]:
    spoilt: dict[str, dict[str, object]] = {
        "noise": {"noise_dba": 120.0},
        "room": {"room_c": -200.0, "settled": msgspec.structs.replace(run.settled, room_c=-200.0)},
        "power": {"power_w": 10.0 * run.power_w},
        "no power": {"power_w": 0.0},
        "work": {"throughput_per_s": 10.0 * run.throughput_per_s},
        "no work": {"throughput_per_s": 0.0},
        "clock": {"clock_mhz": run.clock_mhz / 1000.0},
        "voltage": {"voltage_v": 10.0 * run.voltage_v},
        "speed": {"fan_rpm": {group: 10.0 * rpm for group, rpm in run.fan_rpm.items()}},
    }
    return spoilt[what]


@pytest.mark.parametrize("what", ["noise", "room", "power", "no power", "work", "no work", "clock", "voltage", "speed"])
def test_one_run_that_cannot_be_moves_no_prediction(evidence: Evidence, models: Models, what: str) -> None:
    places = heavy(evidence)
    for index in (places[3], places[-2]):
        run = evidence.runs[index]
        found = fit_models(spoiled(evidence, index, **wrong(run, what)))
        for before, after in zip(said(models), said(found), strict=True):
            for name in FIGURES:
                one, other = getattr(before, name), getattr(after, name)
                assert other.value == pytest.approx(one.value, abs=1.2 * one.half_width), (what, index, name)
        assert run.run_id in {one.run_id for one in found.left_out}, what


@pytest.mark.parametrize(
    ("figure", "factor", "channel"), [("throughput_per_s", 1.5, "throughput_per_s"), ("power_w", 1.7, "package_power_w")]
)
def test_what_only_a_fit_can_doubt_is_named_too(evidence: Evidence, figure: str, factor: float, channel: str) -> None:
    """Half as much again is not impossible by itself; beside what the other runs say of the clock it is."""
    index = heavy(evidence)[5]
    run = evidence.runs[index]
    found = fit_models(spoiled(evidence, index, **{figure: factor * getattr(run, figure)}))
    assert (run.run_id, channel) in {(one.run_id, one.channel) for one in found.left_out}


def test_what_is_left_out_is_said_with_channel_and_value(evidence: Evidence) -> None:
    index = next(index for index in heavy(evidence)[2:] if evidence.runs[index].seconds >= 600.0)  # no brief exposure
    found = fit_models(spoiled(evidence, index, power_w=0.0))
    (one,) = found.left_out
    assert one.channel == "package_power_w"
    assert f"Run {evidence.runs[index].run_id}: package_power_w reads 0" in one.words
    assert "left out" in one.words


def test_good_runs_are_all_kept(evidence: Evidence) -> None:
    kept, left_out = screened(evidence.runs)
    assert kept == evidence.runs
    assert left_out == ()


def test_a_fan_that_stands_at_a_duty_that_turned_it_before_is_not_believed(evidence: Evidence) -> None:
    index = heavy(evidence)[4]
    run = evidence.runs[index]
    kept, left_out = screened(spoiled(evidence, index, fan_rpm={**run.fan_rpm, "case": 0.0}).runs)
    assert [one.channel for one in left_out] == ["fan_speed_rpm.case"]
    assert np.isnan(kept[index].fan_rpm["case"])


def test_a_rigs_clock_that_began_again_brings_no_readings_together(evidence: Evidence) -> None:
    """After a restart by day the room is louder: those readings are no nearer in time to last night's than if the clock had
    gone on, and none of last night's is averaged with them."""
    night = [run for run in evidence.runs if np.isfinite(run.noise_dba)]
    louder = [10.0 * float(np.log10(10.0 ** (run.noise_dba / 10.0) + 10.0**3.3)) for run in night]

    def day(after_s: float) -> list[RunSummary]:
        return [
            msgspec.structs.replace(run, noise_dba=level, at_s=run.at_s + after_s)
            for run, level in zip(night, louder, strict=True)
        ]

    began_again, went_on = noise_of(("case",), [*night, *day(0.0)]), noise_of(("case",), [*night, *day(2e5)])
    rpm = np.array([[400.0], [900.0]])
    assert began_again.in_room(rpm, 100.0)[0] == pytest.approx(went_on.in_room(rpm, 100.0)[0], abs=0.02)
    assert began_again.in_room(rpm, 100.0)[1] == pytest.approx(went_on.in_room(rpm, 100.0)[1], rel=0.1)
    assert set(range(len(night), 2 * len(night))) <= set(began_again.rejected)
