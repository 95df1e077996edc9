"""The air at each place: its rise at settings that nobody ran, its rungs, the flows, and what variants change."""

import functools
import math

import msgspec
import numpy as np
import pytest

from niente.core.analysis.air_changes import unmeasured_changes, variant_changes
from niente.core.analysis.air_rungs import PathSetting, path_rungs
from niente.core.analysis.air_state import air_state
from niente.core.analysis.models import Models, fit_models
from niente.core.model.setting import Setting
from niente.core.rigs.simulated.machine_files import shipped_file
from niente.core.rigs.simulated.rig import SimulatedRig
from niente.core.science.heat.rungs import RungKind
from tests.core.analysis.making import evidence_of_runs, fans, models_from

ROOM_C = 24.0
SENSED = ("larkspur", "wren", "cormorant")


def here_at(models: Models, watts: float, lead: float, others: float, sources: float = 0.0) -> PathSetting:
    duties = fans(models.card, lead, others)
    rpm = tuple(float(models.rpm(group, np.array(duties[group]))) for group in models.heat.groups)
    return PathSetting(watts, rpm, (sources,) * len(models.heat.sources))


@functools.cache
def truth(name: str, share: float, lead: float, others: float) -> tuple[float, dict[str, float], dict[str, float]]:
    """Package power in W, rises of the places in K, and flows of the ways in m3/h, of the stand-in itself."""
    rig = SimulatedRig(shipped_file(name), seed=5)
    card = rig.describe()
    setting = Setting(sustained_power_w=round(share * (card.stock.sustained_power_w or 0.0)), fan_duty=fans(card, lead, others))
    settled = rig.true_settled(setting.over(card.stock), "vector", ROOM_C, 6.0)
    rig.close()
    flows = {way: 3600.0 * flow for way, flow in settled.flows_m3_per_s.items()}
    return settled.readings["package_power_w"], {node: c - ROOM_C for node, c in settled.nodes_c.items()}, flows


@pytest.mark.parametrize("name", SENSED)
@pytest.mark.parametrize(("share", "lead", "others"), [(0.6, 50.0, 50.0), (0.75, 55.0, 65.0)])
def test_the_air_of_a_place_is_foretold(name: str, share: float, lead: float, others: float) -> None:
    """At settings that were not run: within its interval, and within 1 K."""
    models = models_from(name)
    watts, rises, _ = truth(name, share, lead, others)
    here = here_at(models, watts, lead, others)
    assert models.card.air is not None
    for place in models.card.air.sensed:
        said, half_width = here.rise(models.air[place.channel])
        assert said == pytest.approx(rises[place.name], abs=1.0), place.name
        assert abs(said - rises[place.name]) < half_width, place.name


@pytest.mark.parametrize("name", [*SENSED, "sandpiper", "heron"])
def test_flows_that_are_told_are_true(name: str) -> None:
    """A way, or ways together, whose flow is told: the stand-in's own flow lies in the interval."""
    models = models_from(name)
    told = 0
    for share, lead, others in ((0.6, 50.0, 50.0), (0.75, 55.0, 65.0)):
        watts, rises, flows = truth(name, share, lead, others)
        here = here_at(models, watts, lead, others)
        state = air_state(models, watts, np.array(here.rpm), np.array(here.sources_w))
        assert state is not None
        for one in state.streams:
            if one.told:
                told += 1
                assert abs(one.flow_m3h - flows[one.way.name]) < one.half_width_m3h, one.way.name
        for bundle in state.bundles:
            true = sum(flows[way.name] for way in bundle.ways)
            assert abs(bundle.flow_m3h - true) < bundle.half_width_m3h, [way.name for way in bundle.ways]
        for known in state.places:
            assert abs(known.rise_k - rises[known.place.name]) < 1.5 * known.half_width_k + 0.2, known.place.name
    assert told or name in ("sandpiper", "heron")


@pytest.mark.parametrize(("watts", "duty"), [(50.0, 60.0), (56.0, 75.0)])
def test_flows_that_are_told_under_a_mixed_load_are_true(watts: float, duty: float) -> None:
    """60 W of graphics warm the air where the card stands and on the way past it; neither share is known beforehand."""
    models = models_from("wren")
    rig = SimulatedRig(shipped_file("wren"), seed=5)
    setting = Setting(sustained_power_w=watts, fan_duty={"case": duty}).over(models.card.stock)
    true = rig.true_settled(setting, "mixed", ROOM_C, 6.0)
    rig.close()
    here = here_at(models, true.readings["package_power_w"], duty, duty, true.readings["graphics_power_w"])
    state = air_state(models, here.power_w, np.array(here.rpm), np.array(here.sources_w))
    assert state is not None
    told = [one for one in state.streams if one.told]
    assert {"floor slots", "roof slots"} <= {one.way.name for one in told}
    for one in told:
        assert abs(one.flow_m3h - 3600.0 * true.flows_m3_per_s[one.way.name]) < one.half_width_m3h, one.way.name


def test_what_comes_back_on_larkspur_is_told() -> None:
    models = models_from("larkspur")
    watts, _, flows = truth("larkspur", 0.6, 50.0, 50.0)
    here = here_at(models, watts, 50.0, 50.0)
    state = air_state(models, watts, np.array(here.rpm), np.array(here.sources_w))
    assert state is not None
    (back,) = state.returned
    into = flows["door"] + flows["over the roof"] + flows["beside the front fans"]
    true = (flows["over the roof"] + flows["beside the front fans"]) / into
    assert back.place.name == "front"
    assert abs(back.share - true) < back.half_width < 0.3


def test_the_rig_that_says_nothing_of_its_air_has_no_state() -> None:
    models = models_from("plover")
    here = here_at(models, 25.0, 60.0, 60.0)
    assert air_state(models, 25.0, np.array(here.rpm), np.array(here.sources_w)) is None


@pytest.mark.parametrize("name", ["larkspur", "wren", "cormorant", "sandpiper", "plover"])
@pytest.mark.parametrize("sources", [0.0, 30.0])
def test_rungs_add_up_to_the_rise(name: str, sources: float) -> None:
    models = models_from(name)
    here = here_at(models, 0.7 * (models.card.stock.sustained_power_w or 0.0), 50.0, 50.0, sources)
    rungs = path_rungs(models, here)
    assert sum(rung.kelvin for rung in rungs) == pytest.approx(here.rise(models.heat)[0], abs=1e-9)
    assert all(0.0 <= rung.by_fans_k <= rung.kelvin + 1e-9 for rung in rungs)
    assert any(rung.kind == RungKind.SOURCE for rung in rungs) == bool(sources and models.heat.sources)


def test_the_rungs_below_the_cooler_are_what_its_sensor_reads() -> None:
    models = models_from("larkspur")
    here = here_at(models, 100.0, 50.0, 50.0)
    rungs = {rung.kind: rung for rung in path_rungs(models, here)}
    taken, _ = here.rise(models.air["case_air_temperature_c"])
    front, _ = here.rise(models.air["case_air_temperature_c.front"])
    assert rungs[RungKind.RETURN].kelvin == pytest.approx(front)
    assert rungs[RungKind.OWN].kelvin + rungs[RungKind.RETURN].kelvin == pytest.approx(taken)
    assert rungs[RungKind.RETURN].at == "front"


def test_where_no_sensor_reads_the_air_taken_in_it_is_one_rung() -> None:
    kinds = [rung.kind for rung in path_rungs(models_from("sandpiper"), here_at(models_from("sandpiper"), 50.0, 50.0, 50.0))]
    assert set(kinds) == {RungKind.CORE, RungKind.GROUP}


def test_a_sensor_that_lies_gives_no_rung() -> None:
    """A probe that reads warmer than the cores: the path is told by fan groups, and no rung is below nothing."""
    models = models_from("larkspur")
    spoilt = {
        run.run_id: msgspec.structs.replace(
            run,
            beside={name: msgspec.structs.replace(one, value_c=one.value_c + 90.0) for name, one in run.beside.items()},
        )
        for run in models.evidence.runs
    }
    lying = fit_models(msgspec.structs.replace(models.evidence, runs=tuple(spoilt[one.run_id] for one in models.evidence.runs)))
    here = here_at(lying, 100.0, 50.0, 50.0)
    rungs = path_rungs(lying, here)
    assert {rung.kind for rung in rungs} == {RungKind.CORE, RungKind.GROUP}
    assert all(rung.kelvin > 0.0 for rung in rungs)
    assert air_state(lying, 100.0, np.array(here.rpm), np.array(here.sources_w)) is not None


def test_a_fan_that_stands_blows_nothing() -> None:
    models = models_from("wren")
    here = here_at(models, 50.0, 60.0, 60.0)
    for rpm, blown in ((here.rpm[0], True), (0.0, False)):
        state = air_state(models, 50.0, np.array([rpm]), np.array(here.sources_w))
        assert state is not None
        assert {one.way.name: one.blown for one in state.streams}["roof slots"] == blown


def test_a_probe_that_another_state_did_not_have_says_nothing_of_it(with_open_door: Models) -> None:
    models = with_open_door
    door = models.evidence.elsewhere["door open"]
    without = msgspec.structs.replace(door, runs=tuple(msgspec.structs.replace(run, beside={}) for run in door.runs))
    older = fit_models(msgspec.structs.replace(models.evidence, elsewhere={"door open": without}))
    changed = {one.variant: one for one in variant_changes(older, here_at(older, 100.0, 40.0, 45.0))}["door open"]
    assert changed.known
    assert not changed.places_k


def test_graphics_add_what_the_mixed_load_showed() -> None:
    """On Wren 60 W of graphics warm the processor's air; the rung is that, against the stand-in itself."""
    models = models_from("wren")
    here = here_at(models, 50.0, 60.0, 60.0, 60.0)
    (adds,) = [rung for rung in path_rungs(models, here) if rung.kind == RungKind.SOURCE]
    rig = SimulatedRig(shipped_file("wren"), seed=5)
    setting = Setting(sustained_power_w=50.0, fan_duty={"case": 60.0}).over(models.card.stock)
    alone, mixed = (rig.true_settled(setting, load, ROOM_C, 6.0) for load in ("vector", "mixed"))
    rig.close()
    true = mixed.nodes_c["processor"] - alone.nodes_c["processor"]
    assert adds.kelvin == pytest.approx(true, abs=1.0)
    assert abs(adds.kelvin - true) < adds.half_width_k + 0.3


@pytest.fixture(scope="module")
def with_open_door() -> Models:
    runs = [
        (Setting(sustained_power_w=watts, fan_duty={"case": case, "cooler": 45.0}), "vector", 30.0)
        for watts, case in ((70.0, 40.0), (100.0, 40.0), (100.0, 70.0), (130.0, 70.0))
    ]
    closed = evidence_of_runs("larkspur", runs, seed=5)
    door = evidence_of_runs("larkspur", runs, variant="door open", seed=5)
    return fit_models(msgspec.structs.replace(closed, elsewhere={"door open": door}))


def test_an_open_door_takes_what_comes_back_away(with_open_door: Models) -> None:
    models = with_open_door
    here = here_at(models, 100.0, 40.0, 45.0)
    changes = {change.variant: change for change in variant_changes(models, here)}
    door = changes["door open"]
    true = {}
    for variant in ("", "door open"):
        rig = SimulatedRig(shipped_file("larkspur"), seed=5)
        if variant:
            rig.become(variant)
        setting = Setting(sustained_power_w=100.0, fan_duty={"case": 40.0, "cooler": 45.0}).over(rig.describe().stock)
        true[variant] = rig.true_settled(setting, "vector", ROOM_C, 6.0)
        rig.close()
    assert door.runs == 4
    assert door.told
    assert door.core_k == pytest.approx(true["door open"].hottest_c - true[""].hottest_c, abs=1.0)
    front = true["door open"].nodes_c["front"] - true[""].nodes_c["front"]
    assert door.places_k["front"][0] == pytest.approx(front, abs=1.0)
    assert door.noise_db > 0.5  # a door keeps noise in, too
    others = [change for change in changes.values() if change.variant != "door open"]
    assert all(change.runs == 0 and math.isnan(change.core_k) for change in others)
    assert next(iter(changes)) == "door open"  # what was measured stands first


def test_before_anything_is_measured_every_variant_is_open() -> None:
    card = models_from("larkspur").card
    names = [change.variant for change in unmeasured_changes(card)]
    assert card.variant not in names
    assert "door open" in names
    assert not any(change.told for change in unmeasured_changes(card))
