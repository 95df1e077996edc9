"""The machine at the listener's position."""

import pytest

from niente.core.analysis.listener import ListenerPlace, listener_of_card, listener_of_sheet
from niente.core.model.rig_sheet import sheet_of
from tests.conftest import larkspur_rig


def test_twice_the_distance_is_6_db_less() -> None:
    """20 lg of the ratio of distances: 6.0206 dB a doubling (ISO 9613-2; from memory)."""
    level, half_width = ListenerPlace(1.0, 2.0, None, 1.0).heard(36.0, 0.0)
    assert level == pytest.approx(36.0 - 6.0206, abs=1e-4)
    assert half_width == pytest.approx(1.96 / 3.0**0.5, rel=1e-4)


def test_under_the_background_neither_machine_nor_meter_is_heard() -> None:
    """A machine 10 dB under the background adds 0.41 dB to it, and so little of its error (energetic sum)."""
    level, half_width = ListenerPlace(1.0, 1.0, 30.0, 1.0).heard(20.0, 1.0)
    assert level == pytest.approx(30.4139, abs=1e-3)
    assert half_width < 0.2


def test_the_meters_class_is_in_the_interval() -> None:
    one, two, none = (ListenerPlace(1.0, 1.0, None, limit).heard(40.0, 0.3)[1] for limit in (0.7, 1.0, 2.0))
    assert 0.3 < one < two < none


def test_driver_and_person_say_where_they_are() -> None:
    card = larkspur_rig().describe()
    told = listener_of_card(card)
    assert told.meter_m == card.meter["distance_m"]
    assert told.meter_limit_db == 1.0  # class 2
    assert listener_of_sheet(sheet_of(card)) == told
