"""What a card says of where air stands and goes: for every shipped machine, and what does not fit together."""

import msgspec
import pytest

from niente.core.model.case_air import GRAPHICS, OTHER, PACKAGE, CaseAir, CasePlace, CaseWay
from niente.core.model.rig_card import RigCard
from niente.core.rigs.simulated.layout import case_air_of
from niente.core.rigs.simulated.machine_files import shipped_file, shipped_machines
from niente.core.rigs.simulated.rig import SimulatedRig


def air_of(name: str, variant: str = "") -> CaseAir:
    file = shipped_file(name)
    air = case_air_of(file.built(variant) if variant else file.machine)
    assert air is not None
    return air


@pytest.mark.parametrize("name", shipped_machines())
def test_every_machine_says_where_its_air_goes(name: str) -> None:
    rig = SimulatedRig(shipped_file(name), seed=1)
    for variant in (rig.describe().variant, *(one.name for one in rig.describe().variants)):
        if variant != rig.describe().variant:
            rig.become(variant)
        card = rig.describe()
        assert card.air is not None
        channels = tuple(channel.name for channel in card.channels)
        assert not card.air.problems(channels, card.fan_groups())
        for place in card.air.places:  # none without a way in and a way out
            assert sum(place.name in (way.start, way.end) for way in card.air.ways) >= 2, place.name
        assert any(PACKAGE in (*place.warmed_by, *carried(card.air)) for place in card.air.places)
        assert msgspec.json.decode(msgspec.json.encode(card), type=RigCard) == card
    rig.close()


def carried(air: CaseAir) -> list[str]:
    return [kind for way in air.ways for kind in way.warmed_by]


def test_larkspurs_tower_stands_between_processor_and_back() -> None:
    air = air_of("larkspur")
    assert air.taken_in == "processor"
    cooler = next(way for way in air.ways if way.name == "cooler")
    assert (cooler.start, cooler.end, cooler.warmed_by) == ("processor", "rear", (PACKAGE,))
    places = {place.name: place for place in air.places}
    assert places["graphics"].warmed_by == (GRAPHICS, OTHER)
    assert [place.name for place in air.sensed] == ["front", "processor", "rear"]
    assert [place.name for place in air.returning()] == ["front"]
    assert {way.name for way in air.ways_back("front")} == {"over the roof", "beside the front fans"}


def test_a_radiator_takes_in_the_air_before_it() -> None:
    assert air_of("cormorant").taken_in == "front"
    assert air_of("heron").taken_in == ""  # the room's own
    assert air_of("sandpiper").taken_in == "lid"


def test_nothing_comes_back_where_no_way_leads_back() -> None:
    assert not air_of("wren").returning()
    assert not air_of("heron").returning()


def test_a_fan_that_is_moved_blows_elsewhere() -> None:
    before = {way.name for way in air_of("larkspur").ways if way.fans}
    after = {way.name for way in air_of("larkspur", "intake moved to the back").ways if way.fans}
    assert before != after


@pytest.mark.parametrize(
    ("change", "said"),
    [
        ({"places": ()}, "there is none"),
        ({"places": (CasePlace("room", "Room", 0, 0),)}, "none is empty or 'room'"),
        ({"places": (CasePlace("", "Nowhere", 0, 0),)}, "none is empty or 'room'"),
        ({"ways": (CaseWay("w", "room", "a"), CaseWay("w", "a", "room"))}, "air.ways: every name stands once"),
        ({"places": (CasePlace("a", "A", 0, 0, "c"), CasePlace("b", "B", 0, 0, "c"))}, "a channel reads the air at one place"),
        ({"places": (CasePlace("a", "A", 0, 0), CasePlace("a", "B", 0, 0))}, "every name stands once"),
        ({"places": (CasePlace("a", "A", 0, 0, "case_air_temperature_c.nowhere"),)}, "no channel"),
        ({"places": (CasePlace("a", "A", 0, 0), CasePlace("b", "B", 0, 0))}, "air.places.b: no way leads from it to the room"),
        ({"places": (CasePlace("a", "A", 1.5, 0),)}, "not both between 0 and 1"),
        ({"places": (CasePlace("a", "A", 0, 0, "", ("sun",)),)}, "'sun' is none of package, graphics, other"),
        ({"ways": (CaseWay("w", "room", "a", ("case",), 0),)}, "0 fans cannot be in 1 groups"),
        ({"ways": (CaseWay("w", "a", "a"),)}, "not two places"),
        ({"ways": (CaseWay("w", "a", "moon"),)}, "not two places"),
        ({"ways": (CaseWay("w", "room", "a", ("jet",)),)}, "no fan group 'jet'"),
        ({"taken_in": "moon"}, "no place 'moon'"),
    ],
)
def test_what_does_not_fit_is_said(change: dict[str, object], said: str) -> None:
    air = msgspec.structs.replace(CaseAir((CasePlace("a", "A", 0.0, 0.0),), (CaseWay("w", "room", "a"),)), **change)
    assert said in " ".join(air.problems(("case_air_temperature_c",), ("case",)))


def test_a_probe_more_changes_no_other_reading() -> None:
    """Two copies of a machine, one of which has fewer probes: what both read is the same, sample by sample."""
    from niente.core.rigs.simulated.machine_files import MachineFile

    full = shipped_file("larkspur")
    fewer = {node: name for node, name in full.document["heat"]["readings"].items() if node not in ("front", "rear")}
    bare = MachineFile(full.document | {"heat": full.document["heat"] | {"readings": fewer}}, "bare")
    recorded = {}
    for which, file in (("full", full), ("bare", bare)):
        rig = SimulatedRig(file, seed=4)
        card = rig.describe()
        rig.apply(card.stock)
        rig.start("vector")
        _, values, _ = rig.record(90)
        recorded[which] = {channel.name: values[:, index] for index, channel in enumerate(card.channels)}
        rig.close()
    assert set(recorded["full"]) - set(recorded["bare"]) == {"case_air_temperature_c.front", "case_air_temperature_c.rear"}
    for name, values in recorded["bare"].items():
        assert values.tolist() == recorded["full"][name].tolist(), name
