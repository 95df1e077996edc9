"""A machine is data: its file is read with care, and what cannot be is refused with the place and the reason."""

import json
from pathlib import Path

import pytest

from niente.core.errors import DocumentError
from niente.core.rigs.registry import open_rig
from niente.core.rigs.simulated import machine as module
from niente.core.rigs.simulated.machine import impossible, load_machine, read_machine, shipped_machines

LARKSPUR = Path(module.__file__).parent / "machines" / "larkspur.json"


def changed(path: str, value: object) -> bytes:
    """Larkspur's file with one field changed; ``None`` takes it away."""
    whole = json.loads(LARKSPUR.read_text(encoding="utf-8"))
    at, *rest = path.split(".")
    place = whole
    for part in rest:
        place, at = place[int(at) if isinstance(place, list) else at], part
    if value is None:
        del place[at]
    else:
        place[at] = value
    return json.dumps(whole).encode()


@pytest.mark.parametrize("name", shipped_machines())
def test_what_ships_can_be(name: str) -> None:
    assert impossible(load_machine(name)) == []


@pytest.mark.parametrize(
    ("path", "value", "reason"),
    [
        ("thermal.core_conductance", -0.5, "Expected `float` > 0"),
        ("thermal.fins_capacity", 0, "Expected `float` > 0"),
        ("electrical.supply_efficiency", 1.4, "<= 1"),
        ("electrical.curve_v", [0.7, 0.8], "as many voltages"),
        ("electrical.curve_mhz", [800, 2000, 1500, 3600, 4200, 4600, 4800, 5000], "it falls"),
        ("fans.case.stall_duty", 40, "above start_duty"),
        ("fans.cooler", None, "'cooler' is missing"),
        ("limits.core_temperature_c", 27, "does not lie above the room"),
        ("limits.shut_down_c", 90, "does not lie below limits.shut_down_c"),
        ("room.background_dba", -3, ">= 0"),
        ("cores", 0, ">= 1"),
        ("cores", "twelve", "Expected `int`"),
        ("thermal.spreader_base", None, "missing required field `spreader_base`"),
        ("stock.sustained_power_w", 900, "lies outside 45 to 200"),
        ("safe.clock_cap_mhz", None, "clock_cap_mhz is not set"),
        ("stock.burst_power_w", 90, "no such control"),
    ],
)
def test_what_cannot_be_is_refused_with_its_place(path: str, value: object, reason: str) -> None:
    with pytest.raises(DocumentError) as refused:
        read_machine(changed(path, value), "mine.json")
    said = str(refused.value)
    assert reason in said
    assert path.split(".")[0] in said
    assert "mine.json" in said
    assert "no rig was opened" in said


def test_loads_must_be_there_once() -> None:
    whole = json.loads(LARKSPUR.read_text(encoding="utf-8"))
    whole["loads"] = [load for load in whole["loads"] if load["kind"] != "heavy"]
    with pytest.raises(DocumentError, match="none of kind 'heavy'"):
        read_machine(json.dumps(whole).encode(), "mine.json")
    whole = json.loads(LARKSPUR.read_text(encoding="utf-8"))
    whole["loads"].append(whole["loads"][1])
    with pytest.raises(DocumentError, match="'vector' stands there twice"):
        read_machine(json.dumps(whole).encode(), "mine.json")


def test_a_field_from_the_future_is_left_alone() -> None:
    assert read_machine(changed("colour", "grey"), "mine.json").cores == 12


@pytest.mark.parametrize("text", [b"", b"{", b"[]", b"\xff"])
def test_what_is_no_machine_is_said(text: bytes) -> None:
    with pytest.raises(DocumentError, match="is refused"):
        read_machine(text, "mine.json")


def test_a_file_of_ones_own_is_a_rig(tmp_path: Path) -> None:
    own = tmp_path / "mine.json"
    own.write_bytes(changed("title", "Mine"))
    rig = open_rig(str(own), seed=5)
    assert rig.describe().title == "Mine"
    assert rig.frame(1.0) is not None
    rig.close()
    with pytest.raises(DocumentError, match="cannot be read"):
        open_rig(str(tmp_path / "nowhere.json"))
