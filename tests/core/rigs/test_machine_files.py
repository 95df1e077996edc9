"""A machine is data: its file is read with care, and what cannot be is refused with the place and the reason."""

import json
from pathlib import Path
from typing import Any

import pytest

from niente.core.model.errors import DocumentError
from niente.core.rigs.registry import open_rig
from niente.core.rigs.simulated import machine_files as module
from niente.core.rigs.simulated.machine_files import machine_schema, merged, read_machine, shipped_file, shipped_machines
from niente.core.rigs.simulated.validation import impossible

LARKSPUR = Path(module.__file__).parent / "machines" / "larkspur.json"


def changed(path: str, value: object) -> bytes:
    """Larkspur's file with one field changed; ``None`` takes it away."""
    whole = json.loads(LARKSPUR.read_text(encoding="utf-8"))
    at, *rest = path.split(".")
    index = whole
    for part in rest:
        index, at = index[int(at) if isinstance(index, list) else at], part
    if value is None:
        del index[at]
    else:
        index[at] = value
    return json.dumps(whole).encode()


@pytest.mark.parametrize("name", shipped_machines())
def test_what_ships_can_be(name: str) -> None:
    assert list(impossible(shipped_file(name).machine)) == []


@pytest.mark.parametrize(
    ("path", "value", "reason"),
    [
        ("heat.cores.conductance", -0.5, "Expected `float` > 0"),
        ("heat.nodes.spreader", 0, "heat.nodes.spreader: Expected `float` > 0"),
        ("heat.nodes.spreader", 0.5, "too little for what is tied to it"),
        ("heat.cores.capacity", 0.01, "too little for its conductance"),
        ("heat.links.0.between", ["spreader", "moon"], "no node 'moon'"),
        ("heat.links.0.between", ["spreader"], "Expected `array` of length 2"),
        ("heat.air.ways.exhaust.fans", ["chimney"], "heat.air.ways.exhaust.fans: there is no fan 'chimney'"),
        ("heat.air.ways.exhaust.fans", [], "fans.exhaust: it stands in no way"),
        ("heat.air.ways.exhaust.fans", ["exhaust", "cooler"], "'cooler' stands there twice"),
        ("heat.air.ways.exhaust.to", "rear", "heat.air.ways.exhaust.to: a fan between 'rear' and itself"),
        ("heat.air.ways.slots.to", "moon", "heat.air.ways.slots.to: there is no place 'moon'"),
        ("heat.air.ways.slots.takes_pa", {"slots": 0}, "heat.air.ways.slots.takes_pa: without any resistance"),
        ("heat.air.ways.slots.takes_pa", {"slots": -1}, "heat.air.ways.slots.takes_pa.slots: Expected `float` >= 0"),
        ("heat.air.ways.slots.reference_m3h", 0, "heat.air.ways.slots.reference_m3h: Expected `float` >= 0.1"),
        ("heat.air.ways.cooler.passes.0.coolant", 100, "names both its coolant flow and the node it returns to"),
        ("heat.air.ways.cooler.passes.0.along", 0, "Expected `float` > 0"),
        ("heat.air.mixing.0.between", ["graphics", "moon"], "heat.air.mixing[0].between: there is no place 'moon'"),
        ("heat.air.mixing.0.between", ["rear", "rear"], "heat.air.mixing[0].between: 'rear' exchanges nothing with itself"),
        ("heat.air.mixing.0.m3h", 1e6, "Expected `float` <= 10000"),
        ("heat.air.mixing.0.m3h", 9000, "heat.nodes.graphics: 240 J/K is too little"),
        ("heat.nodes.rear", 15, "heat.nodes.rear: 15 J/K is too little for what is tied to it"),
        ("fans.cooler.flow_m3h", 9000, "heat.nodes.front: 160 J/K is too little"),
        ("heat.air.ways.slots.takes_pa", {"slots": 1e300}, "heat.air.ways.slots.takes_pa.slots: Expected `float` <= 10000"),
        ("heat.air.ways.slots.reference_m3h", 1e-300, "heat.air.ways.slots.reference_m3h: Expected `float` >= 0.1"),
        ("heat.air.ways.slots.height_m", 1e6, "heat.air.ways.slots.height_m: Expected `float` <= 10"),
        ("heat.air.places.loft", {"title": "Loft", "height_m": 0.6}, "heat.air.places.loft: there is no node 'loft'"),
        ("heat.air.places.room", {"title": "Room", "height_m": 0.6}, "heat.air.places.room: the room is always there"),
        ("heat.sources.1.node", "room", "heat.sources[1].node: the room is outside of every place"),
        ("heat.streams", {"case": {"source": "room", "sink": "rear", "reference_m3h": 9}}, "it is one or the other"),
        ("format", "niente-machine/1", "heat.air: a file with places has the format"),
        ("heat.readings.board", "board_colour", "no temperature called 'board_colour'"),
        ("supply.efficiency", [[0.1, 1.4]], "<= 1"),
        ("supply.efficiency", [[0.5, 0.9], [0.1, 0.8]], "it falls"),
        ("processor.curve_v", [0.7, 0.8], "as many voltages"),
        ("processor.curve_mhz", [800, 2000, 1500, 3600, 4200, 4600, 4800, 5000], "it falls"),
        ("processor.cores", 0, ">= 1"),
        ("processor.cores", "twelve", "Expected `int`"),
        ("fans.upper intake.stall_duty", 40, "above start_duty"),
        ("fans.upper intake.group", "roof", "controls: nothing sets the fan group 'roof'"),
        ("controls.0.name", "load_size.idle", "controls: load_size.idle: there is no load 'idle' that does work"),
        ("controls.0.name", "load_size.choir", "controls: load_size.choir: there is no load 'choir' that does work"),
        ("fans.cooler", None, "heat.air.ways.cooler.fans: there is no fan 'cooler'"),
        ("limits.core_temperature_c", 27, "does not lie above the room"),
        ("limits.shut_down_c", 90, "does not lie below limits.shut_down_c"),
        ("room.night_dba", -3, ">= 0"),
        ("room.day_from_h", 23, "the day begins after"),
        ("heat.cores.conductance", None, "missing required field `conductance`"),
        ("sensors.gains", {"graphics_temperature_c": 0.9}, "no such channel"),
        ("curve_sources", ["coolant_temperature_c"], "no channel 'coolant_temperature_c'"),
        ("loads.1.active_cores", 99, "99 of 12 cores"),
        ("variants.1.name", "filter out", "'filter out' stands there twice"),
        (
            "variants.0.patch",
            {"heat": {"nodes": {"spreader": -1}}},
            "variant 'filter out' is refused: heat.nodes.spreader: Expected `float` > 0",
        ),
        ("variant", "filter out", "what the file itself describes"),
        ("stock.sustained_power_w", 900, "lies outside 45 to 200"),
        ("safe.clock_cap_mhz", None, "clock_cap_mhz is not set"),
        ("stock.burst_power_w", 90, "no such control"),
        ("format", "niente-machine/9", "this Niente reads"),
    ],
)
def test_what_cannot_be_is_refused_with_its_place(path: str, value: object, reason: str) -> None:
    with pytest.raises(DocumentError) as refused:
        read_machine(changed(path, value), "mine.json")
    said = str(refused.value)
    assert reason in said
    assert path.split(".")[0] in said or ": " in reason  # what is wrong may show in another place
    assert "mine.json" in said
    assert "no rig was opened" in said


def with_places(places: dict[str, Any], ways: dict[str, Any], fans: dict[str, Any] | None = None) -> bytes:
    """Larkspur's file with other places and ways beside its own."""
    whole = json.loads(LARKSPUR.read_text(encoding="utf-8"))
    heat = whole["heat"]
    heat["nodes"] |= dict.fromkeys(places, 200)
    heat["air"]["places"] |= {name: {"title": name, "height_m": 0.2} for name in places}
    heat["air"]["ways"] |= {name: {"reference_m3h": 30, "takes_pa": {"grille": 1.0}, **way} for name, way in ways.items()}
    whole["fans"] |= {name: {**whole["fans"]["exhaust"], **fan} for name, fan in (fans or {}).items()}
    return json.dumps(whole).encode()


@pytest.mark.parametrize(
    ("ways", "reason"),
    [
        ({}, "heat.air.places.loft: no way leads from it to the room"),
        ({"hatch": {"from": "rear", "to": "loft"}}, "heat.air.places.loft: air comes in or goes out by one way only"),
        (
            {"a": {"from": "room", "to": "loft", "fans": ["a"]}, "b": {"from": "rear", "to": "loft", "fans": ["b"]}},
            "heat.air.places.loft: two fans against each other at equal pressure",
        ),
        (
            {"a": {"from": "loft", "to": "room", "fans": ["a"]}, "b": {"from": "loft", "to": "rear", "fans": ["b", "c"]}},
            "heat.air.places.loft: all of its ways have fans against each other",
        ),
    ],
)
def test_air_has_to_pass_through_every_place(ways: dict[str, Any], reason: str) -> None:
    fans: dict[str, Any] = {fan: {} for way in ways.values() for fan in way.get("fans", ())}
    with pytest.raises(DocumentError) as refused:
        read_machine(with_places({"loft": {}}, ways, fans), "mine.json")
    assert reason in str(refused.value)


def test_a_source_has_to_stand_in_the_air() -> None:
    whole = json.loads(LARKSPUR.read_text(encoding="utf-8"))
    whole["heat"]["nodes"]["lamp"] = 50
    whole["heat"]["sources"].append({"node": "lamp", "watts": 5})
    with pytest.raises(DocumentError, match="'lamp' lies outside of every place"):
        read_machine(json.dumps(whole).encode(), "mine.json")


def test_loads_must_be_there_once() -> None:
    whole = json.loads(LARKSPUR.read_text(encoding="utf-8"))
    whole["loads"] = [load for load in whole["loads"] if load["kind"] != "heavy"]
    with pytest.raises(DocumentError, match="none of kind 'heavy'"):
        read_machine(json.dumps(whole).encode(), "mine.json")
    whole = json.loads(LARKSPUR.read_text(encoding="utf-8"))
    whole["loads"].append(whole["loads"][1])
    with pytest.raises(DocumentError, match="'vector' stands there twice"):
        read_machine(json.dumps(whole).encode(), "mine.json")


def test_the_schema_in_the_reference_is_the_one_that_is_read() -> None:
    assert machine_schema() == (Path(__file__).parents[3] / "docs" / "reference" / "machine-file.schema.json").read_bytes()


def test_a_field_from_the_future_is_kept() -> None:
    file = read_machine(changed("colour", "grey"), "mine.json")
    assert file.machine.processor.cores == 12
    assert file.document["colour"] == "grey"


def test_a_variant_is_a_merge_patch() -> None:
    """The examples of RFC 7396, appendix A."""
    for document, patch, result in (
        ({"a": "b"}, {"a": "c"}, {"a": "c"}),
        ({"a": "b"}, {"b": "c"}, {"a": "b", "b": "c"}),
        ({"a": "b"}, {"a": None}, {}),
        ({"a": ["b"]}, {"a": "c"}, {"a": "c"}),
        ({"a": {"b": "c"}}, {"a": {"b": "d", "c": None}}, {"a": {"b": "d"}}),
        ({"a": [{"b": "c"}]}, {"a": [1]}, {"a": [1]}),
        (["a", "b"], ["c", "d"], ["c", "d"]),
        ({"a": "foo"}, "bar", "bar"),
        ({"e": None}, {"a": 1}, {"e": None, "a": 1}),
        ([1, 2], {"a": "b", "c": None}, {"a": "b"}),
        ({}, {"a": {"bb": {"ccc": None}}}, {"a": {"bb": {}}}),
    ):
        assert merged(document, patch) == result


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
