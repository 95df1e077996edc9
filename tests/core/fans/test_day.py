"""Days of load, second by second."""

import numpy as np
import pytest

from niente.core.fans.day import STANDARD_DAYS, DayPart, day_of, standard_day


@pytest.mark.parametrize("name", [day.name for day in STANDARD_DAYS])
def test_a_standard_day_is_a_day_and_always_the_same(name: str) -> None:
    day = standard_day(name)
    assert day.seconds == 24 * 3600
    assert 0.0 <= day.activity.min() < day.activity.max() <= 1.0
    assert np.array_equal(day.activity, standard_day(name).activity)
    assert set(np.unique(day.load)) <= {0, 1}


def test_parts_stand_where_they_are_said() -> None:
    parts = (DayPart(1.0, 2.0, 0.8), DayPart(1.5, 1.75, 1.0, heavy=True, period_s=60.0, busy=0.25, between=0.5))
    day = day_of("made", parts)
    assert day.activity[3599] == 0.0
    assert day.activity[3600] == 0.8
    assert day.activity[7200] == 0.0
    later = day.activity[5400:6300]
    assert later[0] == 1.0
    assert later[20] == 0.5
    assert np.mean(later) == pytest.approx(0.25 * 1.0 + 0.75 * 0.5)
    assert day.load[5400:6300].all()
    assert not day.load[:5400].any()


def test_what_wanders_stays_between_nothing_and_all() -> None:
    day = day_of("made", (DayPart(0.0, 24.0, 0.9, wanders=0.8),), seed=3)
    assert day.activity.min() == 0.0
    assert day.activity.max() == 1.0
    assert np.abs(np.diff(day.activity)).max() < 0.2  # from minute to minute, not from second to second
