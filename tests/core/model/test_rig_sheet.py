"""A rig sheet narrows what a driver says, and never widens it; a changed part is a new variant."""

from pathlib import Path

import msgspec
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from niente.core.analysis.evidence import counted, trusted
from niente.core.model.errors import DocumentError
from niente.core.model.guard_rules import default_guards
from niente.core.model.plan import Guard, GuardAction
from niente.core.model.rig_card import CountedTemperature, Part, RigCard, Trust
from niente.core.model.rig_sheet import (
    RigSheet,
    applied,
    counts_of,
    parts_in,
    problems,
    read_sheet,
    reworded,
    sheet_of,
    sheet_schema,
    sheet_text,
    with_part,
    with_unknown,
)
from niente.core.rigs.registry import open_rig, shipped

FILTER_OUT = Part("Front filter", "taken out", "no filter")


def card_of(name: str) -> RigCard:
    rig = open_rig(name)
    try:
        return rig.describe()
    finally:
        rig.close()


@pytest.fixture(scope="module")
def driver() -> RigCard:
    return card_of("larkspur")


@pytest.fixture(scope="module")
def sheet(driver: RigCard) -> RigSheet:
    return sheet_of(driver)


@pytest.mark.parametrize("name", [*shipped(), "tests.contract.outside:Doorbell"])
def test_what_a_driver_says_fits_it(name: str) -> None:
    card = card_of(name)
    own = sheet_of(card)
    assert problems(own, card) == []
    assert read_sheet(sheet_text(own), "own.json", card)[0] == own
    effective = applied(card, own)
    assert (effective.parts, effective.controls, effective.limits) == (card.parts, card.controls, card.limits)


def changed(sheet: RigSheet, path: str, value: object) -> RigSheet:
    """A sheet with one field changed, by its path in the JSON."""
    whole = msgspec.json.decode(msgspec.json.encode(sheet))
    *way, last = path.split(".")
    index = whole
    for part in way:
        index = index[int(part)] if isinstance(index, list) else index[part]
    index[int(last) if isinstance(index, list) else last] = value
    return msgspec.convert(whole, RigSheet)


@pytest.mark.parametrize(
    ("path", "value", "reason"),
    [
        ("limits.core_temperature_c", 98.0, "limits.core_temperature_c: 98 °C lies above the maker's 95 °C"),
        ("limits.shut_down_c", 110.0, "above the maker's 105 °C"),
        ("limits.shut_down_c", 90.0, "does not lie below limits.shut_down_c"),
        ("limits.margin_k", -1.0, "limits.margin_k: a margin is not negative"),
        ("limits.core_temperature_c", 26.0, "does not lie above the room"),
        ("guards.0.trip", 96.0, "guards[0].trip: 96 °C lies above the maker's limit of 95 °C"),
        ("guards.0.clear", 95.0, "guards[0].clear: 95 does not lie below its trip"),
        ("guards.0.hold_s", -1.0, "a time is not negative"),
        ("guards.0.quantity", "coolant_temperature_c", "does not read 'coolant_temperature_c'"),
        ("guards", [], "none on the hottest core"),
        ("controls.0.high", 400.0, "controls[0]: 45 to 400 goes beyond the rig's 45 to 200"),
        ("controls.0.high", 120.0, "the rig's stock setting, 165, would lie outside 45 to 120"),
        ("controls.0.low", 199.5, "safe setting, 65"),
        ("controls.0.step", 0.0, "a step is positive"),
        ("controls.0.name", "warp_factor", "no control 'warp_factor'"),
        ("trust", [{"channel": "coolant_temperature_c"}], "does not read 'coolant_temperature_c'"),
        ("trust", [{"channel": "board_temperature_c", "gain": 0.0}], "a gain is positive"),
        ("counts", "package", "does not read a package temperature"),
        ("room.day_from_h", 22.0, "the day begins after"),
        ("marks_over_db", [1.0, 2.0], "wanted 7 rising levels"),
        ("marks_over_db", [1.0, 2.0, 3.0, 4.0, 5.0, 6.0, 6.0], "wanted 7 rising levels"),
        ("variant", "under water", "'under water' is none of filter in"),
        ("rig", "wren", "written for 'wren'"),
        ("format", "niente-rig/9", "this Niente reads 'niente-rig/1'"),
    ],
)
def test_what_cannot_be_is_refused_with_its_place(
    driver: RigCard, sheet: RigSheet, path: str, value: object, reason: str
) -> None:
    wrong = changed(sheet, path, value)
    with pytest.raises(DocumentError) as refused:
        read_sheet(sheet_text(wrong), "mine.json", driver)
    assert reason in str(refused.value)
    assert "the machine's sheet is as it was" in str(refused.value)


@pytest.mark.parametrize(
    ("path", "value", "reason"),
    [
        ("room.humidity_percent", 140, "room.humidity_percent"),
        ("room.altitude_m", 99999, "room.altitude_m"),
        ("listener.distance_m", 0, "listener.distance_m"),
        ("meter.standard", "class 7", "meter.standard"),
        ("title", 7, "title: Expected `str`"),
    ],
)
def test_values_of_another_kind_are_refused(driver: RigCard, sheet: RigSheet, path: str, value: object, reason: str) -> None:
    whole = msgspec.json.decode(msgspec.json.encode(sheet))
    *way, last = path.split(".")
    index = whole
    for part in way:
        index = index[part]
    index[last] = value
    with pytest.raises(DocumentError, match="refused") as refused:
        read_sheet(msgspec.json.encode(whole), "mine.json", driver)
    assert reason in str(refused.value)


@pytest.mark.parametrize("text", [b"", b"[1]", b"{}", b"\xff"])
def test_what_is_no_sheet_is_said(driver: RigCard, text: bytes) -> None:
    with pytest.raises(DocumentError, match="is refused"):
        read_sheet(text, "mine.json", driver)


def test_unknown_fields_go_out_again(driver: RigCard, sheet: RigSheet) -> None:
    whole = msgspec.json.decode(msgspec.json.encode(sheet))
    whole["colour"] = "grey"
    whole["room"]["carpet"] = True
    whole["guards"][0]["mood"] = "stern"
    read, kept = read_sheet(msgspec.json.encode(whole), "mine.json", driver)
    edited = msgspec.structs.replace(read, title="Mine")
    out = msgspec.json.decode(sheet_text(edited, kept))
    assert (out["title"], out["colour"], out["room"]["carpet"], out["guards"][0]["mood"]) == ("Mine", "grey", True, "stern")


@given(st.dictionaries(st.sampled_from("abc"), st.integers()), st.dictionaries(st.sampled_from("abc"), st.integers()))
def test_what_is_new_always_wins(old: dict[str, int], new: dict[str, int]) -> None:
    both = with_unknown(old, new)
    assert all(both[key] == value for key, value in new.items())
    assert set(both) == set(old) | set(new)


def test_a_changed_part_is_a_new_variant(sheet: RigSheet) -> None:
    mine = with_part(sheet, FILTER_OUT, "no filter", "Take it out.")
    assert mine.variant == "no filter"
    assert FILTER_OUT in parts_in(mine, "no filter")
    assert FILTER_OUT not in parts_in(mine, "filter in")
    assert len(parts_in(mine, "no filter")) == len(sheet.parts)
    further = with_part(mine, Part("Paste", "liquid metal"), "no filter, metal")
    assert FILTER_OUT in parts_in(further, "no filter, metal")  # what was changed before stays changed
    for name in ("", "  ", "filter out"):
        with pytest.raises(DocumentError, match=r"needs a name|already"):
            with_part(sheet, FILTER_OUT, name)


def test_other_words_are_no_new_variant(sheet: RigSheet) -> None:
    better = Part("Paste", "silicone, renewed on 3 March", "paste March")
    assert reworded(sheet, better).variant == sheet.variant
    assert better in parts_in(reworded(sheet, better), sheet.variant)
    mine = with_part(sheet, FILTER_OUT, "no filter")
    said = Part("Front filter", "in the cupboard", "no filter")
    assert said in parts_in(reworded(mine, said), "no filter")
    assert said not in parts_in(reworded(mine, said), "filter in")
    added = Part("Clock", "on the wall")
    assert added in parts_in(reworded(sheet, added), sheet.variant)


def test_a_sheet_makes_the_card(driver: RigCard, sheet: RigSheet) -> None:
    mine = changed(changed(sheet, "limits.core_temperature_c", 85.0), "guards.0.trip", 85.0)
    mine = msgspec.structs.replace(
        changed(mine, "controls.0.high", 180.0),
        counts=CountedTemperature.MEAN,
        trust=(Trust("board_temperature_c", 0.0, 0.77, "reference cooler"),),
        variant="filter out",
    )
    assert problems(mine, driver) == []
    card = applied(driver, mine)
    assert card.temperature_ceiling_c(driver.stock.replaced("temperature_cap_c", 95.0)) == 80.0
    assert card.refusals(driver.stock.replaced("sustained_power_w", 190.0))
    assert any(part.tag == "filter out" for part in card.parts)


def test_trust_takes_gain_and_offset_out(driver: RigCard) -> None:
    """One under-reads by 30 % (common practice, no source): a reference cooler gives the factor."""
    card = msgspec.structs.replace(
        driver,
        trust=(Trust("board_temperature_c", 0.0, 0.7), Trust("core_temperature_c.2", 2.0), Trust("room_temperature_c", 0.5)),
    )
    values = np.full((3, len(card.channels)), 70.0)
    read = trusted(card, values)
    assert read[0, card.index("board_temperature_c")] == pytest.approx(100.0)
    assert read[0, card.index("core_temperature_c.2")] == 68.0
    assert read[0, card.index("core_temperature_c.1")] == 70.0
    assert read[0, card.index("room_temperature_c")] == 69.5
    assert np.all(values == 70.0)  # the record is not touched


def test_which_temperature_counts() -> None:
    """Hottest core, mean of cores, package: people differ (common practice, no source)."""
    card = card_of("cormorant")
    assert counts_of(card) == (CountedTemperature.HOTTEST, CountedTemperature.MEAN, CountedTemperature.PACKAGE)
    assert counts_of(card_of("larkspur")) == (CountedTemperature.HOTTEST, CountedTemperature.MEAN)
    values = np.full((100, len(card.channels)), 60.0)
    values[:, card.index("core_temperature_c.5")] = 76.0
    values[:, card.index("package_temperature_c")] = 71.0
    for kind, expected in (
        (CountedTemperature.HOTTEST, 76.0),
        (CountedTemperature.MEAN, 61.0),
        (CountedTemperature.PACKAGE, 71.0),
    ):
        found = counted(msgspec.structs.replace(card, counts=kind), values)
        assert found is not None
        assert found[-1] == pytest.approx(expected)
    values[:] = np.nan
    assert all(counted(msgspec.structs.replace(card, counts=kind), values) is None for kind in CountedTemperature)


def test_guards_watch_what_the_rig_reads(driver: RigCard) -> None:
    assert [guard.quantity for guard in default_guards(driver)] == [
        "core_temperature_c",
        "board_temperature_c",
        "rise_rate_k_per_min",
    ]
    assert "coolant_temperature_c" in [guard.quantity for guard in default_guards(card_of("cormorant"))]
    assert "graphics_temperature_c" in [guard.quantity for guard in default_guards(card_of("plover"))]
    tight = Guard("core_temperature_c", 80.0, 70.0, 0.0, GuardAction.SKIP, "Mine.")
    assert problems(msgspec.structs.replace(sheet_of(driver), guards=(tight,)), driver) == []


def test_the_schema_in_the_reference_is_the_one_that_is_read() -> None:
    assert sheet_schema() == (Path(__file__).parents[3] / "docs" / "reference" / "rig-sheet.schema.json").read_bytes()
