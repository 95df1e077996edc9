"""Where a setting differs from stock, fans on curves among it."""

import msgspec

from niente.core.model.fan_curve import FanCurve
from niente.core.model.setting import Setting
from niente.core.selection.setting_words import differing, setting_text

CURVE = FanCurve("core_temperature_c", ((88.0, 30.0), (95.0, 80.0)))
STOCK = Setting(sustained_power_w=80.0, fan_duty={"case": 0.0, "cooler": 75.0})
WATCHED = msgspec.structs.replace(STOCK, fan_curve={"case": CURVE})


def plain(text: str) -> str:
    return text.replace("\u00a0", " ")


def test_the_duty_under_a_curve_is_no_difference() -> None:
    setting = STOCK.replaced("fan_duty.case", 40.0).on_curve("case", CURVE)
    assert differing(setting, STOCK) == ()
    assert plain(setting_text(setting, STOCK)) == "case fans on their curve"


def test_fans_that_are_taken_off_the_curve_of_stock_differ_whatever_their_duty() -> None:
    fixed = Setting(fan_duty={"case": 0.0}).over(WATCHED)
    assert differing(fixed, WATCHED) == (("fan_duty.case", 0.0),)
    assert differing(WATCHED, WATCHED) == ()
    assert setting_text(WATCHED, WATCHED) == ""
