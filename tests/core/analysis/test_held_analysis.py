"""What runs of the shipped machines are summed up to and what the models say of other settings, held to what it was when it was
judged (see ``tests.held``)."""

import csv
import io

import msgspec
import pytest

from niente.core.analysis.grid import GridView, OtherControls
from niente.core.analysis.map_table import map_as_csv
from niente.core.analysis.maps import MapRequest, make_map
from niente.core.analysis.models import fit_models
from niente.core.analysis.point_prediction import Figure, parameters, predict_point
from niente.core.model.limits import Limits
from niente.core.model.rig_card import LoadKind
from niente.core.model.setting import Setting
from tests.core.analysis.making import evidence_from, fans, models_from
from tests.held import hold

MACHINES = ("larkspur", "cormorant", "heron", "plover", "sandpiper", "wren")
FIGURES = ("core_c", "headroom_k", "in_room_dba", "at_listener_dba", "alone_dba", "throughput_percent", "clock_mhz", "power_w")
EVERY = 71
"""Of a map so many settings are left out between two that are held."""


@pytest.mark.parametrize("name", MACHINES)
def test_runs_are_summed_up_as_they_were(name: str) -> None:
    found = {}
    for run in evidence_from(name).runs:
        settled = run.settled
        found[f"{run.run_id} {run.load}"] = [
            [settled.value_c, settled.half_width_k, settled.room_c, settled.reason, run.core_c, run.room_c, run.seconds],
            [run.power_w, run.clock_mhz, run.throughput_per_s, run.throughput_se, run.voltage_v, run.at_s],
            [run.noise_dba, run.noise_se_db, run.heat_limited, run.power_limited],
            run.fan_rpm,
            run.limiter_shares,
            run.sources_w,
        ]
    hold(f"runs-{name}", found)


def figure(one: Figure) -> list[object]:
    return [one.value, one.half_width, one.reason, one.at_most]


@pytest.mark.parametrize("name", MACHINES)
def test_points_are_predicted_as_they_were(name: str) -> None:
    models = models_from(name)
    card = models.card
    stock, top = card.stock.sustained_power_w or 100.0, card.stock.clock_cap_mhz or 4000.0
    settings = [
        Setting(sustained_power_w=0.6 * stock, fan_duty=fans(card, 50.0, 65.0)),
        Setting(sustained_power_w=0.92 * stock, fan_duty=fans(card, 75.0, 70.0)),
        Setting(sustained_power_w=0.78 * stock, voltage_offset_mv=-30.0, fan_duty=fans(card, 80.0, 75.0)),
        Setting(clock_cap_mhz=25.0 * round(0.028 * top), fan_duty=fans(card, 95.0, 80.0)),
        Setting(temperature_cap_c=65.0, fan_duty=fans(card, 45.0, 50.0)),
        Setting(sustained_power_w=1.2 * stock, voltage_offset_mv=-90.0, fan_duty=fans(card, 0.0, 5.0)),
        Setting(),
    ]
    loads = sorted({run.load for run in models.evidence.runs if run.load_kind != LoadKind.IDLE})
    found: dict[str, object] = {}
    for index, setting in enumerate(settings):
        for load in loads:
            said = predict_point(models, setting, load, 24.0 + 2.0 * index)
            of_figures = {what: figure(getattr(said, what)) for what in FIGURES}
            found[f"{index} {load}"] = {"limiter": said.limiter, "outside": list(said.outside)} | of_figures
    hold(f"points-{name}", found)


@pytest.mark.parametrize("name", MACHINES)
def test_models_are_what_they_were(name: str) -> None:
    models = models_from(name)
    hold(
        f"models-{name}",
        {
            "heat": {what: list(one.values()) for what, one in parameters(models).items()},
            "gains": {load: [one.value, one.error, one.seen] for load, one in models.gains.items()},
            "ceilings": {
                load: [
                    one.share,
                    one.caps_mhz,
                    one.nameless_mhz,
                    one.under_mhz,
                    *(one.at(cap) for cap in (2000.0, 3500.0, 9000.0)),
                ]
                for load, one in models.ceilings.items()
            },
            "left out": [[one.run_id, one.channel, one.value, one.reason] for one in models.left_out],
            "stock": {load: models.stock_work(load) for load in models.power.loads},
            "speeds": {group: speeds.pairs for group, speeds in models.speeds.items()},
        },
    )


def rows_of(table: str) -> dict[str, dict[str, float | None]]:
    rows = list(csv.DictReader(io.StringIO(table)))
    found: dict[str, dict[str, float | None]] = {"count": {"rows": float(len(rows))}}
    for index in range(3, len(rows), EVERY):
        found[str(index)] = {key: float(value) if value else None for key, value in rows[index].items()}
    return found


VIEWS = {
    "plain": MapRequest(),
    "of its fans": MapRequest(GridView(others=OtherControls.OPTIMISED), room_c=31.0),
    "by clock": MapRequest(GridView(across="clock_cap_mhz")),
    "by cap": MapRequest(GridView(across="temperature_cap_c", up="sustained_power_w")),
}


@pytest.mark.parametrize(
    ("name", "view"), [("larkspur", view) for view in VIEWS] + [("plover", "plain"), ("heron", "of its fans")]
)
def test_maps_are_what_they_were(name: str, view: str) -> None:
    models = models_from(name)
    mapped = make_map(models, Limits(design_room_c=28.0), VIEWS[view])
    lines = [
        {
            "duty": line.duty,
            "slope": [line.near_w, line.slope_kpw, line.slope_hw, line.in_room_dba, line.in_room_hw],
            "rise": [line.power_w[::20], line.rise_k[::20], line.half_width_k[::20]],
            "capacity": [[one.room_c, one.power_w, one.low_w, one.high_w, one.inferred] for one in line.capacities],
            "points": [[one.run_id, one.power_w, one.rise_k, one.half_width_k, one.limited] for one in line.points],
        }
        for line in mapped.watts.lines
    ]
    groups = [
        {
            "levels": [one.duty[::20], one.rpm[::20], one.alone_dba[::20], one.alone_hw[::20], one.in_room_dba[::20]],
            "seen": one.seen,
            "heard": [[each.run_id, each.duty, each.rpm, each.dba, each.half_width_db] for each in one.heard],
        }
        for one in mapped.loudness.groups
    ]
    together = mapped.loudness
    hold(
        f"map-{name}-{view.replace(' ', '-')}",
        {
            "field": rows_of(map_as_csv(mapped)),
            "watts": [mapped.watts.limit_c, mapped.watts.measured_w, lines],
            "noise": [groups, together.together_dba[::20], together.together_hw[::20], together.background_dba],
            "heard": [[one.run_id, one.dba] for one in together.heard],
        },
    )


def test_points_beyond_gentle_runs() -> None:
    """Higher limits and clocks than any run had, and offsets deeper: intervals widen, and where they lie is said."""
    whole = evidence_from("larkspur")
    gentle = [run for run in whole.runs if (run.setting.sustained_power_w or 0.0) <= 120.0 or run.load_kind == LoadKind.IDLE]
    models = fit_models(msgspec.structs.replace(whole, runs=tuple(gentle)))
    card, found = models.card, {}
    for index, setting in enumerate(
        (
            Setting(sustained_power_w=165.0, fan_duty=fans(card, 90.0, 80.0)),
            Setting(sustained_power_w=200.0, voltage_offset_mv=-75.0, fan_duty=fans(card, 100.0, 100.0)),
            Setting(sustained_power_w=150.0, clock_cap_mhz=4600.0, fan_duty=fans(card, 40.0, 60.0)),
            Setting(sustained_power_w=60.0, fan_duty=fans(card, 20.0, 10.0)),
        )
    ):
        for load in ("vector", "dome"):
            said = predict_point(models, setting, load, 27.0)
            of_figures = {what: figure(getattr(said, what)) for what in FIGURES}
            found[f"{index} {load}"] = {"limiter": said.limiter, "outside": list(said.outside)} | of_figures
    hold("points-beyond", found)
