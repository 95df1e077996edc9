import pytest

from niente.core.model.names import part_of
from niente.core.model.quantities import QUANTITIES, duration_text, number_text, quantity_of


@pytest.mark.parametrize(
    ("value", "digits", "text"),
    [(83.25, 1, "83.2"), (-0.04, 1, "0.0"), (-40.0, 0, "−40"), (4497.0, 0, "4\u00a0497"), (float("nan"), 1, "–")],
)
def test_numbers_are_set_for_reading(value: float, digits: int, text: str) -> None:
    assert number_text(value, digits) == text


def test_value_interval_and_unit_hold_together() -> None:
    assert quantity_of("hottest_core_c").with_unit(83.3, 1.0) == "83.3\u00a0±\u00a01.0\u00a0°C"


@pytest.mark.parametrize(("seconds", "text"), [(40, "40_s"), (720, "12_min"), (33600, "9_h 20_min"), (7200, "2_h")])
def test_durations_read_as_people_say_them(seconds: float, text: str) -> None:
    assert duration_text(seconds) == text.replace("_", "\u00a0")


def test_parts_share_their_quantity() -> None:
    assert quantity_of("fan_duty.case") is QUANTITIES["fan_duty"]
    assert part_of("fan_duty.case") == "case"
    with pytest.raises(KeyError):
        quantity_of("no_such_quantity")


def test_every_quantity_has_a_range_that_is_one() -> None:
    assert all(quantity.low < quantity.high for quantity in QUANTITIES.values())
