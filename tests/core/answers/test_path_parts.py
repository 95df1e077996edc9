"""Which sensor stands in the air that a cooler takes in: before a radiator and not behind it."""

import msgspec
import pytest

from niente.core.answers.path_parts import taken_in_channel
from niente.core.model.rig_card import RigCard
from niente.core.rigs.simulated.machine_files import shipped_file
from niente.core.rigs.simulated.rig import SimulatedRig


def card_of(name: str) -> RigCard:
    rig = SimulatedRig(shipped_file(name), seed=1)
    card = rig.describe()
    rig.close()
    return card


@pytest.mark.parametrize(
    ("name", "channel"),
    [
        ("larkspur", "case_air_temperature_c"),
        ("wren", "case_air_temperature_c"),
        ("cormorant", "case_air_temperature_c.front"),
        ("sandpiper", ""),
        ("heron", ""),
        ("plover", ""),
    ],
)
def test_the_air_that_is_taken_in_is_read_where_the_cooler_takes_it(name: str, channel: str) -> None:
    assert taken_in_channel(card_of(name)) == channel


def test_where_a_rig_does_not_say_how_its_air_stands_its_one_sensor_is_taken_for_that() -> None:
    assert taken_in_channel(msgspec.structs.replace(card_of("cormorant"), air=None)) == "case_air_temperature_c"
