"""Machine files of the first format, with all of the case's air in one: they are read as before, and give what they gave."""

import json
from pathlib import Path

import pytest

from niente.core.model.errors import DocumentError
from niente.core.model.rig_card import LoadKind
from niente.core.rigs.simulated.machine_files import MachineFile, machine_file, read_machine
from niente.core.rigs.simulated.rig import SimulatedRig

FOLDER = Path(__file__).parents[2] / "data" / "machine-files-1"
SETTLED = json.loads((FOLDER / "settled.held").read_text(encoding="utf-8"))
"""Readings after an hour at the stock setting under the heavy load, in a room of 23 °C, of sample 3 of every machine and
variant, as the version before places gave them."""


@pytest.mark.parametrize("name", sorted(path.stem for path in FOLDER.glob("*.json")))
def test_old_files_give_the_old_answers(name: str) -> None:
    file = machine_file(FOLDER / f"{name}.json")
    for variant in (file.machine.variant, *(build.name for build in file.machine.variants)):
        rig = SimulatedRig(file, seed=3)
        rig.become(variant)
        card = rig.describe()
        heavy = card.load_of(LoadKind.HEAVY)
        assert heavy is not None
        read = rig.true_settled(card.stock, heavy.name, 23.0, 1.0).readings
        for channel, value in SETTLED[f"{name}, {variant}"].items():
            assert read[channel] == pytest.approx(value, rel=1e-9), (variant, channel)


@pytest.mark.parametrize(
    ("path", "value", "reason"),
    [
        ("heat.streams.case.stages", [["intake"], ["chimney"]], "no fan 'chimney'"),
        ("heat.streams.case.stages", [["intake"]], "fans.exhaust: it stands in no stream"),
        ("heat.streams.case.stages", [["intake"], ["exhaust", "cooler"]], "'cooler' stands there twice"),
        ("heat.streams.case.reference_m3h", -60, "heat.streams.case.reference_m3h: Expected `float` > 0"),
        ("heat.streams.case.impedance_pa", {}, "never find their flow"),
        ("heat.streams.cooler.helped_by", {"wind": 0.2}, "no other stream"),
        ("heat.streams.cooler.passes.0.coolant", 100, "names both its coolant flow and the node it returns to"),
    ],
)
def test_what_cannot_be_about_streams_is_refused(path: str, value: object, reason: str) -> None:
    whole = json.loads((FOLDER / "larkspur.json").read_text(encoding="utf-8"))
    at, *rest = path.split(".")
    index = whole
    for part in rest:
        index, at = index[int(at) if isinstance(index, list) else at], part
    index[at] = value
    with pytest.raises(DocumentError, match=r"mine\.json") as refused:
        read_machine(json.dumps(whole).encode(), "mine.json")
    assert reason in str(refused.value)


def test_the_format_is_written_in_the_file() -> None:
    document = json.loads((FOLDER / "wren.json").read_text(encoding="utf-8"))
    assert document["format"] == "niente-machine/1"
    assert MachineFile(document, "wren.json").machine.heat.air is None
