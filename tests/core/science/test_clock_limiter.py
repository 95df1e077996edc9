"""What limits the clock, from readings alone. Levels and tolerances: common practice, no source."""

import numpy as np
import pytest

from niente.core.analysis.evidence import limiters_of
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting
from niente.core.rigs.simulated.machine_files import shipped_file
from niente.core.rigs.simulated.rig import SimulatedRig
from niente.core.science.clock_limiter import ClockLimiter, drop_outs, limiter_shares, limiters_from_readings


def of(hottest: list[float], power: list[float], clock: list[float], **levels: object) -> list[ClockLimiter]:
    limits = {"cap_c": 90.0, "limit_w": 165.0, "clock_cap_mhz": 4800.0, **levels}
    limiters = limiters_from_readings(np.array(hottest), np.array(power), np.array(clock), **limits)  # type: ignore[arg-type]
    return [ClockLimiter(int(code)) for code in limiters]


def test_each_limit_is_told_from_the_others() -> None:
    assert of([60.0, 89.5, 70.0, 70.0], [165.0, 140.0, 120.0, 120.0], [4500.0, 4300.0, 4800.0, 4600.0]) == [
        ClockLimiter.SUSTAINED_LIMIT,
        ClockLimiter.TEMPERATURE_CAP,
        ClockLimiter.CLOCK_CAP,
        ClockLimiter.NOTHING,
    ]


def test_the_burst_limit_is_no_sustained_one() -> None:
    assert of([60.0, 60.0], [199.0, 164.0], [4700.0, 4500.0], burst_w=200.0) == [
        ClockLimiter.BURST_LIMIT,
        ClockLimiter.SUSTAINED_LIMIT,
    ]


def test_it_says_when_it_cannot_know() -> None:
    """A reading that is missing; or a load that takes all it gets, slowed by something that is not read."""
    assert of([np.nan], [120.0], [4600.0]) == [ClockLimiter.UNKNOWN]
    assert of([60.0], [100.0], [3000.0], takes_all=True) == [ClockLimiter.UNKNOWN]
    assert of([60.0], [100.0], [3000.0]) == [ClockLimiter.NOTHING]  # a lighter load may want no more
    assert ClockLimiter.UNKNOWN.words == "cannot be told"


def test_an_impossible_reading_is_a_fault() -> None:
    assert of([60.0, 400.0], [-5.0, 100.0], [4600.0, 4600.0]) == [ClockLimiter.FAULT, ClockLimiter.FAULT]


def test_work_that_drops_out_shows_against_the_clock() -> None:
    """P26: a run in which a load drops out or slows is a failure as much as a crash is (common practice, no source)."""
    clock = np.full(200, 4500.0)
    throughput = np.full(200, 45.0)
    throughput[150:153] = 20.0
    assert np.flatnonzero(drop_outs(throughput, clock)).tolist() == [150, 151, 152]
    slower = np.where(np.arange(200) < 100, 4500.0, 3000.0)  # the clock falls, and the work with it: no drop-out
    assert not drop_outs(slower / 100.0, slower).any()
    assert not drop_outs(np.full(10, 1.0), np.full(10, 4500.0)).any()  # too few to tell
    limiters = limiters_from_readings(
        np.full(200, 60.0), np.full(200, 165.0), clock, throughput, cap_c=90.0, limit_w=165.0, clock_cap_mhz=4800.0
    )
    assert limiter_shares(limiters) == {
        ClockLimiter.SUSTAINED_LIMIT: pytest.approx(0.985),
        ClockLimiter.DROP_OUT: pytest.approx(0.015),
    }
    assert limiter_shares(limiters[:0]) == {}


def run_of(name: str, setting: Setting, seconds: int) -> tuple[RigCard, np.ndarray, Setting]:
    rig = SimulatedRig(shipped_file(name), seed=2)
    card = rig.describe()
    whole = setting.over(card.stock)
    rig.apply(whole)
    rig.start("vector")
    return card, rig.record(seconds)[1], whole


def test_a_part_held_at_45_w_is_held_by_power_and_not_by_heat() -> None:
    """P21: its power limit holds it, so cooling it by 7 K raises the clock by nothing (common practice, no source)."""
    shown = {}
    for duty in (50.0, 100.0):
        card, values, whole = run_of("plover", Setting(sustained_power_w=30.0, fan_duty={"cooler": duty}), 1500)
        told = limiter_shares(limiters_of(card, values[-600:], whole, "vector"))
        assert told[ClockLimiter.SUSTAINED_LIMIT] > 0.97
        index = card.index("effective_clock_mhz")
        shown[duty] = float(values[-600:, index or 0].mean()), float(values[-600:, :8].mean())
    (slow_mhz, slow_c), (fast_mhz, fast_c) = shown[50.0], shown[100.0]
    assert slow_c - fast_c > 2.0
    assert fast_mhz == pytest.approx(slow_mhz, rel=0.01)


def test_the_temperature_cap_is_seen_where_it_holds() -> None:
    """P22: a processor held at a temperature cap (common practice, no source)."""
    card, values, whole = run_of("larkspur", Setting(temperature_cap_c=60.0, fan_duty={"case": 30.0, "cooler": 30.0}), 1500)
    assert limiter_shares(limiters_of(card, values[-600:], whole, "vector"))[ClockLimiter.TEMPERATURE_CAP] > 0.95


def test_a_burst_is_seen_before_the_sustained_limit_holds() -> None:
    card, values, whole = run_of("cormorant", Setting(), 300)
    limiters = limiters_of(card, values, whole, "vector")
    assert ClockLimiter.BURST_LIMIT in limiters[5:40]
    assert limiter_shares(limiters[150:])[ClockLimiter.SUSTAINED_LIMIT] > 0.97
