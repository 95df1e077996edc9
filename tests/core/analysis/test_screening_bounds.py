"""From where on a figure cannot be true: by itself, and beside the other runs. Bounds: common practice, no source."""

import math

import msgspec
import pytest

from niente.core.analysis.evidence import RunSummary
from niente.core.analysis.screening import screened
from tests.core.analysis.making import evidence_from


def heavy() -> list[RunSummary]:
    return [run for run in evidence_from("larkspur").runs if run.load == "vector" and run.settled.known][:8]


def left_out(runs: list[RunSummary], **figures: object) -> list[str]:
    """What is left out of the first run once some of its figures are otherwise; nothing of the others is."""
    spoiled = [msgspec.structs.replace(runs[0], **figures), *runs[1:]]
    found = screened(spoiled)[1]
    assert {one.run_id for one in found} <= {runs[0].run_id}
    return [one.channel for one in found]


@pytest.mark.parametrize(
    ("figure", "channel", "possible", "impossible"),
    [
        ("power_w", "package_power_w", (0.6, 1450.0), (0.4, 1600.0)),
        ("clock_mhz", "effective_clock_mhz", (110.0, 9900.0), (90.0, 10100.0)),
        ("voltage_v", "core_voltage_v", (0.31, 2.15), (0.29, 2.25)),
        ("throughput_per_s", "throughput_per_s", (1e-3,), (0.0,)),
        ("noise_dba", "noise_dba", (3.5, 124.0), (2.5, 126.0)),
        ("room_c", "room_temperature_c", (-19.0, 49.0), (-21.0, 51.0)),
    ],
)
def test_what_cannot_be_by_itself(
    figure: str, channel: str, possible: tuple[float, ...], impossible: tuple[float, ...]
) -> None:
    alone = heavy()[:1]  # beside fewer than three others nothing is compared
    for value in possible:
        assert left_out(alone, **{figure: value}) == []
    for value in impossible:
        assert left_out(alone, **{figure: value}) == [channel]


@pytest.mark.parametrize(
    ("figure", "channel", "near", "far"),
    [
        ("power_w", "package_power_w", (0.28, 3.6), (0.2, 4.8)),
        ("throughput_per_s", "throughput_per_s", (0.55, 1.8), (0.45, 2.3)),
        ("voltage_v", "core_voltage_v", (0.55, 1.7), (0.4,)),
    ],
)
def test_what_cannot_be_beside_others(figure: str, channel: str, near: tuple[float, ...], far: tuple[float, ...]) -> None:
    """By its ratio to the median of the runs of its load, over the clock but for the voltage."""
    runs = heavy()
    usual = sorted(getattr(run, figure) / (1.0 if figure == "voltage_v" else run.clock_mhz) for run in runs)
    middle = (usual[3] + usual[4]) / 2.0 * (1.0 if figure == "voltage_v" else runs[0].clock_mhz)
    for factor in near:
        assert left_out(runs, **{figure: factor * middle}) == []
    for factor in far:
        assert left_out(runs, **{figure: factor * middle}) == [channel]


@pytest.mark.parametrize(("apart_k", "out"), [(14.0, False), (16.5, True), (-14.0, False), (-16.5, True)])
def test_a_room_far_from_the_others(apart_k: float, out: bool) -> None:
    runs = heavy()
    assert bool(left_out(runs, room_c=sorted(run.room_c for run in runs)[4] + apart_k)) is out
    settled = msgspec.structs.replace(runs[0].settled, room_c=runs[0].settled.room_c + 2.0 * apart_k)
    assert left_out(runs, settled=settled) == ["room_temperature_c"]


def turned(duty: float, rpm: float) -> RunSummary:
    run = heavy()[0]
    setting = msgspec.structs.replace(run.setting, fan_duty={**run.setting.fan_duty, "case": duty})
    return msgspec.structs.replace(run, setting=setting, fan_rpm={**run.fan_rpm, "case": rpm})


@pytest.mark.parametrize(
    ("duty", "rpm", "out"),
    [
        (60.0, 1090.0, False),  # 60 % gave 700 rpm in four others: up to 1.6 times that, or 150 rpm, it may be
        (60.0, 1180.0, True),
        (60.0, 445.0, False),
        (60.0, 420.0, True),
        (25.0, 20.0, False),  # no other run had less, so it may be where the fans stop
        (80.0, 20.0, True),  # less has turned them
        (80.0, 2800.0, False),  # at another duty twice the factor is left
        (80.0, 3100.0, True),
        (80.0, 300.0, False),
        (80.0, 280.0, True),
    ],
)
def test_a_speed_that_its_duty_cannot_give(duty: float, rpm: float, out: bool) -> None:
    others = [turned(60.0, 700.0)] * 4
    numbered = [msgspec.structs.replace(run, run_id=100 + index) for index, run in enumerate([turned(duty, rpm), *others])]
    found = [one for one in screened(numbered)[1] if one.channel == "fan_speed_rpm.case"]
    assert [one.run_id for one in found] == ([100] if out else [])
    if out:
        assert math.isnan(screened(numbered)[0][0].fan_rpm["case"])
