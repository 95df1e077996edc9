"""The stand-ins sound as such machines do. Figures are common practice, no source, but where one is named."""

import json
import math
from typing import Any

import numpy as np
import pytest

from niente.core.model.fan_curve import FanCurve
from niente.core.model.setting import Setting
from niente.core.rigs.simulated.acoustics import a_weight_db, distance_db
from niente.core.rigs.simulated.machine_files import shipped_file, shipped_machines
from niente.core.science.acoustics import add_levels
from niente.core.science.dynamics import Scale
from tests.core.rigs.benches import level_dba, settled, stand_in

SILENT_ROOM: dict[str, Any] = {
    "room": {"day_dba": 0.0, "night_dba": 0.0, "wander_db": 0.0},
    "meter": {"floor_dba": -20.0},
    "whine": None,
}


def alone(name: str, changes: dict[str, Any], **duty: float) -> float:
    return stand_in(name, **{**SILENT_ROOM, **changes}).true_level_dba(duty)


def test_two_equal_fans_are_3_db_louder_than_one() -> None:
    """10 lg 2 = 3.01 dB (textbook)."""
    silent = {"level_db": -60.0}
    one = alone("larkspur", {"fans": {"lower intake": silent, "exhaust": silent}}, case=80.0, cooler=0.0)
    two = alone("larkspur", {"fans": {"exhaust": silent}}, case=80.0, cooler=0.0)
    assert two - one == pytest.approx(10.0 * math.log10(2.0), abs=0.02)


def test_half_the_speed_is_15_to_17_decibels() -> None:
    """50 lg 2 = 15.05 dB, 55 lg 2 = 16.56 dB (the empirical range of the fan sound law); humps and tone aside."""
    plain = {"humps": [], "tone_db": -80.0}
    changes: dict[str, Any] = {"fans": {"upper intake": plain, "lower intake": plain, "exhaust": plain}}
    fall = alone("larkspur", changes, case=100.0, cooler=0.0) - alone("larkspur", changes, case=50.0, cooler=0.0)
    assert 15.0 <= fall <= 17.0


def test_the_law_has_more_than_one_hump() -> None:
    duties = np.arange(24.0, 101.0, 2.0)
    rig = stand_in("larkspur", **SILENT_ROOM)
    levels = np.array([rig.true_level_dba({"case": duty, "cooler": 0.0}) for duty in duties])
    law = np.polyfit(np.log10(duties), levels, 1)
    over = levels - np.polyval(law, np.log10(duties))
    peaks = [i for i in range(1, len(over) - 1) if over[i] > over[i - 1] and over[i] > over[i + 1]]
    assert len(peaks) >= 2


def test_a_room_is_about_20_dba_at_night_and_a_machine_below_it_cannot_be_heard() -> None:
    """20 to 28 dBA at night, more by day, over the shipped rooms; fans at a crawl change nothing there."""
    for name in shipped_machines():
        room = shipped_file(name).machine.room
        assert 20.0 <= room.night_dba <= 28.0 < room.day_dba + 4.5
        assert room.day_dba > room.night_dba
    still, crawling = level_dba("larkspur", case=0.0, cooler=0.0), level_dba("larkspur", case=18.0, cooler=20.0)
    assert crawling - still < 0.3


def test_better_fans_at_the_same_speed() -> None:
    """52 to 38 dBA at the same temperature."""
    change = level_dba("larkspur", case=100.0, cooler=0.0) - level_dba("larkspur", "other fans", case=100.0, cooler=0.0)
    assert 11.0 <= change <= 15.0
    old, new = (stand_in("larkspur", variant) for variant in (None, "other fans"))
    at = Setting(sustained_power_w=120.0, fan_duty={"case": 100.0, "cooler": 50.0})
    assert old.true_settled_core_c(at, "vector", 23.0) == pytest.approx(new.true_settled_core_c(at, "vector", 23.0), abs=0.1)


def test_a_fan_against_a_panel_is_louder() -> None:
    pressed, free = (
        alone("larkspur", {"fans": {fan: {"place_db": db} for fan in ("upper intake", "lower intake")}}, case=70.0, cooler=0.0)
        for db in (4.0, 0.0)
    )
    assert pressed > free + 2.0


def test_coil_whine_can_be_what_is_left() -> None:
    """Without a turning fan the passive machine is louder under load than at rest."""
    rig = stand_in("wren", room={"day_dba": 5.0, "night_dba": 5.0, "wander_db": 0.0}, meter={"floor_dba": 0.0})
    still = Setting(fan_duty={"case": 0.0}, sustained_power_w=60.0)
    idle = rig.true_settled(still, "idle", 23.0, 0.2).readings["noise_dba"]
    loaded = rig.true_settled(still, "mixed", 23.0, 0.2).readings["noise_dba"]
    assert loaded - idle > 3.0


def test_a_pump_is_heard_and_goes_with_its_duty() -> None:
    quiet: dict[str, Any] = {"fans": {"push": {"level_db": -60.0}, "rear": {"level_db": -60.0}}}
    fast, slow = (alone("cormorant", quiet, radiator=0.0, case=0.0, pump=duty) for duty in (100.0, 40.0))
    assert fast - slow == pytest.approx(42.0 * math.log10(2.5), abs=0.6)


def test_duty_turns_a_fan_within_200_to_500_rpm_for_quiet() -> None:
    """A practical range for large slow fans: they turn at 200 rpm, and 500 rpm is within reach."""
    rig = stand_in("larkspur")
    index = rig.describe().index("fan_speed_rpm.case")
    assert index is not None
    speeds = []
    for duty in (18.0, 43.0):
        rig.apply(Setting(fan_duty={"case": duty}))
        speeds.append(rig.record(60)[1][-5:, index].mean())
    assert 180.0 <= speeds[0] <= 230.0
    assert 470.0 <= speeds[1] <= 520.0


def test_a_three_point_curve_over_coolant() -> None:
    """30 °C low, 35 °C middle (60 % duty), 40 °C full."""
    rig = stand_in("cormorant")
    curve = FanCurve("coolant_temperature_c", ((30.0, 25.0), (35.0, 60.0), (40.0, 100.0)), hysteresis_k=0.5)
    warm = rig.true_settled(Setting(sustained_power_w=200.0, fan_curve={"radiator": curve}), "vector", 24.0)
    coolant = warm.nodes_c["hot coolant"]
    duty = warm.readings["fan_speed_rpm.radiator"] / 1800.0 * 100.0
    assert duty == pytest.approx(np.interp(coolant, [30.0, 35.0, 40.0], [25.0, 60.0, 100.0]), abs=3.0)


A_WEIGHTS = (
    *(-70.4, -63.4, -56.7, -50.5, -44.7, -39.4, -34.6, -30.2, -26.2, -22.5, -19.1, -16.1, -13.4, -10.9, -8.6, -6.6, -4.8),
    *(-3.2, -1.9, -0.8, 0.0, 0.6, 1.0, 1.2, 1.3, 1.2, 1.0, 0.5, -0.1, -1.1, -2.5, -4.3, -6.6, -9.3),
)
"""IEC 61672-1:2013, table 3, from 10 Hz to 20 kHz in thirds of an octave."""


def test_the_tone_is_weighted_as_the_standard_says() -> None:
    """At the exact frequencies 1000 10^(n/10) behind the nominal ones: within what the table is rounded to."""
    exact = [1000.0 * 10.0 ** (n / 10.0) for n in range(-20, 14)]
    assert [a_weight_db(hertz) for hertz in exact] == pytest.approx(A_WEIGHTS, abs=0.0501)


def test_twice_the_distance_is_6_db_less_outdoors_and_less_than_that_in_a_room() -> None:
    """20 lg 2 = 6.02 dB (inverse square law, textbook)."""
    assert distance_db(2.0, 1e6) == pytest.approx(-20.0 * math.log10(2.0), abs=1e-6)
    assert -6.0 < distance_db(2.0, 2.5) < -3.0
    assert distance_db(1.0, 2.5) == 0.0


def test_meters_are_read_as_their_class_and_step_say() -> None:
    """A class 1 meter is off by less than a class 2 one; each reads in its own step."""
    off = {}
    for kind in (1, 2):
        rigs = [stand_in("larkspur", seed=seed, meter={"class": kind}) for seed in range(1, 13)]
        levels = [rig.true_level_dba({"case": 60.0, "cooler": 60.0}) for rig in rigs]
        off[kind] = float(np.std(levels))
    assert off[1] < off[2] < 1.2
    rig = stand_in("plover")
    read = rig.record(60)[1][:, rig.describe().index("noise_dba")]
    assert np.allclose(read * 2.0, np.round(read * 2.0))


def test_day_and_night_are_heard() -> None:
    rig = stand_in("larkspur")
    rig.apply(Setting(fan_duty={"case": 0.0, "cooler": 0.0}))
    index = rig.describe().index("noise_dba")
    _, rows, _ = rig.record(13 * 3600)
    night, day = rows[3600:7200, index].mean(), rows[-1800:, index].mean()
    assert day - night == pytest.approx(26.0 - 21.5, abs=0.8)


def test_files_hold_what_the_tests_change() -> None:
    """The changes above name fields of the files; a renamed one must not make them silent."""
    for name in ("larkspur", "cormorant", "wren"):
        text = json.dumps(shipped_file(name).document)
        assert all(field in text for field in ("night_dba", "floor_dba", "whine", "level_db"))


def test_19_and_22_decibels_cannot_be_told_apart_by_day_and_29_is_clear() -> None:
    """Case fans at 19, 22 and 29 dB, over a room of 26 dBA by day."""
    scale = Scale(26.0)
    heard = [scale.mark(float(add_levels(np.array([26.0, level])))) for level in (19.0, 22.0, 29.0)]
    assert heard[0] == heard[1] == "niente"
    assert heard[2] != "niente"


def duty_at(variant: str | None, dba: float) -> float:
    """The case duty at which a machine comes to a level."""
    duties = np.arange(20.0, 101.0, 2.0)
    levels = [level_dba("larkspur", variant, case=duty, cooler=30.0) for duty in duties]
    return float(np.interp(dba, levels, duties))


def test_full_speed_flatters_loud_fans() -> None:
    """Comparisons are made at a fixed level (38 or 40 dBA, 31 here): full speed makes loud fans look as good as any."""
    at: dict[str, Any] = {"sustained_power_w": 120.0}

    def hot(variant: str | None, duty: float) -> float:
        return settled("larkspur", "vector", 23.0, variant, duty={"case": duty, "cooler": 30.0}, **at).hottest_c

    assert hot(None, 100.0) == pytest.approx(hot("other fans", 100.0), abs=0.2)
    assert hot(None, duty_at(None, 31.0)) > hot("other fans", duty_at("other fans", 31.0)) + 1.0


def test_one_fan_wired_to_the_supply_turns_when_the_board_fails() -> None:
    """So that some air moves even when the control fails."""
    rig = stand_in("larkspur", fans={"exhaust": {"group": ""}})
    off = Setting(fan_duty={"case": 0.0, "cooler": 0.0}, sustained_power_w=60.0)
    wired = rig.true_settled(off, "vector", 23.0)
    none = stand_in("larkspur").true_settled(off, "vector", 23.0)
    assert wired.flows_m3_per_s["exhaust"] > none.flows_m3_per_s["exhaust"]
    assert wired.hottest_c < none.hottest_c - 1.0
    assert wired.readings["fan_speed_rpm.case"] == 0.0  # the header reads its own fans
