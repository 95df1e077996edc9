"""How far a guard is: from readings alone, and how long that lasts."""

import math

import numpy as np
import pytest

from niente.core.acquisition.guard_distance import Distance, distances
from niente.core.acquisition.samples import Samples
from niente.core.model.frame import Frame
from niente.core.model.guard_rules import default_guards
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting


def rising(card: RigCard, start_c: float, per_minute: float, seconds: int = 120, noise: float = 0.2) -> Samples:
    samples = Samples(len(card.channels))
    chance = np.random.default_rng(4)
    cores, room = list(card.indices("core_temperature_c")), card.index("room_temperature_c")
    for second in range(seconds):
        values = np.full(len(card.channels), 10.0)
        values[cores] = start_c + per_minute * second / 60.0 + chance.normal(0, noise, len(cores)) - 1.0
        values[cores[3]] += 1.0
        values[room] = 23.0
        samples.add(Frame(float(second), values))
    return samples


def one(found: tuple[Distance, ...], title: str) -> Distance:
    return next(item for item in found if item.title == title)


def test_what_is_left_and_how_long_it_lasts(card: RigCard) -> None:
    samples = rising(card, 70.0, 2.0)
    found = distances(card, default_guards(card), Setting(temperature_cap_c=85.0), samples)
    hot = one(found, "Hottest core")
    assert hot.level == card.limits.core_temperature_c
    assert hot.reading == pytest.approx(74.0, abs=1.0)
    assert hot.left == pytest.approx(21.0, abs=1.0)
    assert hot.seconds == pytest.approx(60 * hot.left / 2.0, rel=0.15)
    assert hot.share == pytest.approx((hot.reading - 23.0) / (95.0 - 23.0), abs=0.01)
    cap = one(found, "Temperature cap")
    assert cap.by_firmware
    assert cap.level == 85.0
    assert one(found, "Power limit").level == card.stock.sustained_power_w


@pytest.mark.parametrize("per_minute", [0.0, -3.0])
def test_what_does_not_rise_is_not_reached(card: RigCard, per_minute: float) -> None:
    found = distances(card, default_guards(card), Setting(), rising(card, 70.0, per_minute, noise=0.05))
    assert one(found, "Hottest core").seconds > 1200


def test_what_is_past_its_level_has_no_time_left(card: RigCard) -> None:
    found = distances(card, default_guards(card), Setting(temperature_cap_c=60.0), rising(card, 70.0, 1.0))
    cap = one(found, "Temperature cap")
    assert cap.seconds == 0.0
    assert cap.left < 0
    assert cap.share == 1.0


def test_a_silent_sensor_is_no_distance_but_no_error(card: RigCard) -> None:
    samples = rising(card, 70.0, 1.0)
    samples.values[:, list(card.indices("core_temperature_c"))] = math.nan
    hot = one(distances(card, default_guards(card), Setting(), samples), "Hottest core")
    assert math.isnan(hot.left)
    assert hot.share == 0.0


def test_before_the_first_sample_there_is_none(card: RigCard) -> None:
    assert distances(card, default_guards(card), Setting(), Samples(len(card.channels))) == ()
