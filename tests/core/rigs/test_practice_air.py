"""The stand-ins behave as such machines do at the bench: where air goes.

Every figure here is common practice, no source: what people who tune machines for quiet report of their own. "About" is taken
as within 1.5 K where nothing else is said.
"""

import json
from typing import Any

import pytest

from niente.core.model.setting import Setting
from niente.core.rigs.simulated.machine_files import MachineFile, merged, shipped_file
from niente.core.rigs.simulated.rig import SimulatedRig
from niente.core.rigs.simulated.truth import TrueSteadyState
from tests.core.rigs.benches import SEED, level_dba, settled

FANS: dict[str, Any] = {"sustained_power_w": 120.0, "duty": {"case": 60.0, "cooler": 60.0}}
PLACES = ("front", "graphics", "processor", "rear")


def built(name: str, patch: dict[str, Any]) -> SimulatedRig:
    """A shipped machine without its variants, with a patch over it."""
    document = merged(json.loads(json.dumps(shipped_file(name).document)), {"variants": [], **patch})
    return SimulatedRig(MachineFile(document, f"{name}, changed"), seed=SEED)


def gain(variant: str, **at: Any) -> float:
    """What a variant of Larkspur wins at the hottest core, in K."""
    at = at or FANS
    return settled("larkspur", "vector", 23.0, **at).hottest_c - settled("larkspur", "vector", 23.0, variant, **at).hottest_c


def test_a_slow_fan_is_worth_25_kelvin_under_a_combined_load() -> None:
    """25 K and more, on a large tower without a fan; the fan turns at a practical 340 rpm."""
    at: dict[str, Any] = {"sustained_power_w": 80.0, "temperature_cap_c": 100.0}
    still = settled("wren", "mixed", 25.0, duty={"case": 0.0}, **at)
    slow = settled("wren", "mixed", 25.0, "fan on the tower", duty={"case": 45.0}, **at)
    assert slow.readings["fan_speed_rpm.case"] < 500.0
    assert 25.0 <= still.hottest_c - slow.hottest_c <= 32.0


def test_closing_a_vented_roof_costs_8_kelvin() -> None:
    at: dict[str, Any] = {"sustained_power_w": 50.0, "duty": {"case": 0.0}}
    open_, closed, side = (settled("wren", "vector", 25.0, v, **at).hottest_c for v in (None, "roof closed", "panel off"))
    assert closed - open_ == pytest.approx(8.0, abs=1.5)
    assert closed - side >= 10.0


OUT_OF_ITS_CABINET: dict[str, Any] = {
    "door": {"takes_pa": {"door": 0.01}},
    "cabinet back": {"takes_pa": {"cable gap": 0.01}},
    "slots": {"takes_pa": {"slots": 0.5}},
}


def front(fans: str, panel: str) -> TrueSteadyState:
    """A case out of its cabinet, behind a mesh (2 Pa), a closed panel with a gap at its edges, or none; with one intake fan or
    two larger ones."""
    ways: dict[str, Any] = json.loads(json.dumps(OUT_OF_ITS_CABINET))
    takes = {"filter": 0.0, "front": 0.2 if panel == "off" else 2.0}
    ways |= {"upper intake": {"takes_pa": takes}, "lower intake": {"takes_pa": dict(takes)}}
    if panel == "closed":
        ways["door"]["takes_pa"]["solid front"] = 0.4
    if fans == "one":
        ways["lower intake"] = {"fans": [], "takes_pa": {"blank": 60.0}}
        changed: dict[str, Any] = {"lower intake": None}
    else:
        changed = {name: {"flow_m3h": 110.0, "pressure_pa": 14.0} for name in ("upper intake", "lower intake")}
    rig = built("larkspur", {"fans": changed, "heat": {"air": {"ways": ways}}})
    at = Setting(sustained_power_w=100.0, temperature_cap_c=95.0, fan_duty={"case": 45.0, "cooler": 60.0})
    return rig.true_settled(at, "vector", 23.0)


def test_what_a_front_costs() -> None:
    """Closed against mesh with one intake fan: 3 K at the processor, 2 K at the card. Two larger fans win 7 K behind the mesh
    and 4 K behind the closed front; the panel off is worth 1 K more than the mesh. Each to within 2 K."""
    mesh, closed = front("one", "mesh"), front("one", "closed")
    assert closed.hottest_c - mesh.hottest_c == pytest.approx(3.0, abs=1.5)
    assert closed.nodes_c["output card"] - mesh.nodes_c["output card"] == pytest.approx(2.0, abs=1.5)
    more, more_closed = front("two", "mesh"), front("two", "closed")
    assert mesh.hottest_c - more.hottest_c == pytest.approx(7.0, abs=2.0)
    assert closed.hottest_c - more_closed.hottest_c == pytest.approx(4.0, abs=2.0)
    assert more.hottest_c - front("two", "off").hottest_c == pytest.approx(1.0, abs=1.0)


def test_a_mesh_front_is_3_decibels_louder() -> None:
    """38.6 against 35 to 36 dBA; and a card's own fans are heard through it."""
    fast: dict[str, Any] = {"case": 80.0, "cooler": 50.0}
    assert level_dba("larkspur", "filter out", **fast) - level_dba("larkspur", "closed front", **fast) == pytest.approx(
        3.0, abs=0.5
    )


def test_more_fans_more_slowly() -> None:
    """Five case fans at low speed cool as three at middle speed do and are quieter; five at middle speed cool as three at full
    speed do, the processor excepted; the board's supply follows the number of fans most: five at low speed cool it as three
    at full speed do. As: within 3 K."""

    def of(variant: str | None, case: float) -> TrueSteadyState:
        return settled("larkspur", "vector", 23.0, variant, sustained_power_w=120.0, duty={"case": case, "cooler": 60.0})

    more = "five case fans"
    low, middle, full, some = of(more, 35.0), of(more, 55.0), of(None, 100.0), of(None, 55.0)
    assert low.hottest_c - some.hottest_c < 3.0
    assert level_dba("larkspur", more, case=35.0, cooler=0.0) < level_dba("larkspur", case=55.0, cooler=0.0) - 3.0
    assert middle.nodes_c["board"] < full.nodes_c["board"]
    assert middle.nodes_c["output card"] == pytest.approx(full.nodes_c["output card"], abs=3.0)
    assert middle.hottest_c > full.hottest_c + 1.0  # the processor excepted
    assert low.nodes_c["board"] <= full.nodes_c["board"]


def test_a_second_fan_on_a_cooler() -> None:
    """At full speed 2 to 3 K under heavy vector work, less under a scalar load; 49 against 47 dBA."""
    full: dict[str, Any] = {"sustained_power_w": 180.0, "duty": {"case": 100.0, "cooler": 100.0}}
    vector = gain("second cooler fan", **full)
    scalar = (
        settled("larkspur", "scalar", 23.0, **full).hottest_c
        - settled("larkspur", "scalar", 23.0, "second cooler fan", **full).hottest_c
    )
    assert 1.7 <= vector <= 3.3
    assert 0.8 <= scalar < vector
    loud: dict[str, Any] = {"case": 100.0, "cooler": 100.0}
    assert level_dba("larkspur", "second cooler fan", **loud) - level_dba("larkspur", **loud) == pytest.approx(2.0, abs=0.8)


def test_graphics_heat_ends_up_in_the_case_whichever_way_the_card_blows() -> None:
    """A mixed load is the harder test for a passive machine, at the same package power."""
    at: dict[str, Any] = {"sustained_power_w": 60.0, "duty": {"case": 0.0}}
    alone, mixed = settled("wren", "vector", 25.0, **at), settled("wren", "mixed", 25.0, **at)
    assert mixed.readings["package_power_w"] == pytest.approx(alone.readings["package_power_w"], abs=0.5)
    assert mixed.hottest_c - alone.hottest_c > 4.0
    for place in ("cards", "processor", "roof"):
        assert mixed.nodes_c[place] - alone.nodes_c[place] > 4.0
    fans: dict[str, Any] = {"sustained_power_w": 100.0, "duty": {"case": 60.0, "cooler": 60.0}}
    warmed = []
    for card in ("card in", "card blows out"):
        idle, busy = (settled("larkspur", load, 23.0, card, **fans) for load in ("vector", "show"))
        assert busy.readings["graphics_power_w"] == 90.0
        assert all(busy.nodes_c[place] > idle.nodes_c[place] + 2.0 for place in PLACES)
        warmed.append(busy.hottest_c - idle.hottest_c)
    assert warmed[0] > warmed[1] > 2.0


def test_intake_cools_more_than_exhaust_and_is_louder() -> None:
    moved = "intake moved to the back"
    assert gain(moved) < -0.5
    fans: dict[str, Any] = {"case": 60.0, "cooler": 60.0}
    assert level_dba("larkspur", moved, **fans) < level_dba("larkspur", **fans) - 0.3


def test_an_added_fan_helps_with_the_stream_and_hurts_against_it() -> None:
    """Against the stream it raised temperatures in every place tried."""
    assert gain("fan added below") > 1.0
    assert gain("fan added in the front") > 1.0
    without, against = (settled("larkspur", "vector", 23.0, v, **FANS) for v in (None, "fan added in the roof"))
    assert all(against.nodes_c[place] > without.nodes_c[place] + 0.5 for place in PLACES)
    assert against.hottest_c > without.hottest_c + 1.0
    assert gain("top fan turned inwards") < -5.0


def test_a_guide_wins_about_1_kelvin() -> None:
    """Where air goes round the sink: with the cooler's fan faster than the case's."""
    assert gain("guide in", sustained_power_w=120.0, duty={"case": 35.0, "cooler": 45.0}) == pytest.approx(1.0, abs=0.7)
    at: dict[str, Any] = {"sustained_power_w": 65.0, "duty": {"case": 70.0, "cooler": 70.0}}
    low = settled("sandpiper", "vector", 23.0, **at).hottest_c
    assert low - settled("sandpiper", "vector", 23.0, "guide in", **at).hottest_c == pytest.approx(1.0, abs=0.7)


def test_a_sink_turned_the_wrong_way_costs_more_than_fans_win() -> None:
    lost = -gain("tower turned")
    faster = settled("larkspur", "vector", 23.0, sustained_power_w=120.0, duty={"case": 100.0, "cooler": 60.0}).hottest_c
    assert lost > gain("second cooler fan")
    assert lost > settled("larkspur", "vector", 23.0, **FANS).hottest_c - faster
    at: dict[str, Any] = {"sustained_power_w": 50.0, "duty": {"case": 0.0}}
    across = settled("wren", "vector", 25.0, "tower turned", **at).hottest_c
    assert across - settled("wren", "vector", 25.0, **at).hottest_c > 5.0


def test_processor_and_graphics_share_the_air_of_a_mobile_machine() -> None:
    """The graphics load takes the processor from 3.5 to 3.1 GHz at the same 97 °C; raising the intake alone gives 2.98 to
    3.10 GHz. A card's 13 W beside the same load, limits off, -165 mV."""
    loads = json.loads(json.dumps(shipped_file("plover").document["loads"]))
    next(load for load in loads if load["name"] == "vector")["graphics_w"] = 13.0
    own, both = built("plover", {}), built("plover", {"loads": loads})
    at = Setting(sustained_power_w=60.0, temperature_cap_c=97.0, voltage_offset_mv=-165.0)
    alone, mixed = (rig.true_settled(at.over(rig.describe().stock), "vector", 23.0) for rig in (own, both))
    assert [alone.hottest_c, mixed.hottest_c] == pytest.approx([97.0, 97.0], abs=1.0)
    assert alone.readings["effective_clock_mhz"] == pytest.approx(3500.0, abs=100.0)
    assert mixed.readings["effective_clock_mhz"] == pytest.approx(3100.0, abs=120.0)
    flat, raised = (settled("plover", "vector", 23.0, v, sustained_power_w=60.0) for v in (None, "raised"))
    won = raised.readings["effective_clock_mhz"] / flat.readings["effective_clock_mhz"] - 1.0
    assert won == pytest.approx(3.10 / 2.98 - 1.0, abs=0.02)


def test_air_that_comes_back_warms_every_place() -> None:
    """A cabinet whose door is shut: part of what the top fan blows out is breathed again at the front."""
    shut, open_ = (settled("larkspur", "vector", 23.0, v, **FANS) for v in (None, "door open"))
    back = shut.flows_m3_per_s["over the roof"] / shut.flows_m3_per_s["exhaust"]
    assert 0.15 <= back <= 0.4
    fall = [shut.nodes_c[place] - open_.nodes_c[place] for place in PLACES]
    assert min(fall) > 1.0
    assert shut.hottest_c - open_.hottest_c == pytest.approx(sum(fall) / 4.0, abs=0.6)  # the core carries all of it
