"""Voltages above stock are said, each once, so that a start can be asked about every time."""

import pytest

from niente.core.model.plan import Exposure, Plan, Search, Step
from niente.core.model.setting import Setting
from niente.core.planning.risk import raised_voltages
from tests.core.planning.plans import card_of

CARD = card_of("larkspur")
RULE = Exposure(60.0, 60.0)


def plan(*entries: Step | Search) -> Plan:
    return Plan("niente-plan/2", CARD.name, "free", entries, ())


@pytest.mark.parametrize(
    ("setting", "said"),
    [
        (Setting(voltage_offset_mv=-60.0), ()),
        (Setting(voltage_offset_mv=0.0), ()),
        (Setting(voltage_offset_mv=20.0), ("20\u00a0mV",)),
        (Setting(core_offset_mv={"3": 10.0, "4": -10.0}), ("core\u00a03 10\u00a0mV",)),
        (Setting(point_offset_mv={"8": 50.0}), ("curve point\u00a08 50\u00a0mV",)),
    ],
)
def test_what_lies_above_stock_is_said(setting: Setting, said: tuple[str, ...]) -> None:
    """P22: +50 mV on the top point of the curve (common practice, no source) is more than the maker gives."""
    assert raised_voltages(plan(Step(setting, "vector", RULE), Step(setting, "dome", RULE)), CARD) == said


def test_what_is_left_out_is_not_asked_about_and_a_search_is() -> None:
    high = Setting(voltage_offset_mv=20.0)
    assert raised_voltages(plan(Step(high, "vector", RULE, skip=True)), CARD) == ()
    search = Search("up", ("voltage_offset_mv",), 30.0, -60.0, 10.0, 5.0, 0.0, Setting(), ("vector",), RULE)
    assert raised_voltages(plan(search), CARD) == ("30\u00a0mV",)
