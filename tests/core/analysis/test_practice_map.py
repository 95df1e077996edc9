"""What the map says agrees with what people report at the bench. Every figure is common practice, no source."""

import msgspec
import pytest

from niente.core.analysis.evidence import Evidence
from niente.core.analysis.models import fit_models
from niente.core.analysis.prediction import predict_under_load
from niente.core.analysis.rise_lines import watt_lines
from niente.core.analysis.setting_batch import one_setting
from niente.core.model.setting import Setting
from niente.core.rigs.simulated.machine_files import shipped_file
from niente.core.rigs.simulated.rig import SimulatedRig
from tests.core.analysis.making import evidence_of


def swept(limits: tuple[float, ...], duties: tuple[float, ...], group: str, **held: float) -> list[Setting]:
    return [
        Setting(sustained_power_w=limit, fan_duty={group: duty, **held}, temperature_cap_c=95.0)
        for duty in duties
        for limit in limits
    ]


def test_a_passive_towers_line_is_a_towers() -> None:
    """P1: without a fan 0.7 to 0.9 K/W, meeting zero watts 5 to 20 K above the room; 70 to 95 W for cores at 100 °C in a 25 °C
    room."""
    models = fit_models(evidence_of("wren", swept((40.0, 50.0, 60.0, 70.0), (0.0,), "case"), "vector", 90.0))
    line = watt_lines(models, (25.0,), 60.0).lines[0]
    assert line.slope_kpw + line.slope_hw >= 0.7
    assert line.slope_kpw <= 0.9
    zero = line.at(60.0)[0] - 60.0 * line.slope_kpw
    assert 5.0 <= zero <= 20.0
    to_100 = 60.0 + (75.0 - line.at(60.0)[0]) / line.slope_kpw
    assert 70.0 <= to_100 <= 95.0


def test_more_air_does_little_for_a_small_heatsink() -> None:
    """P10: its own resistance is the limit: from half to full case fans less than a tenth of the slope."""
    runs = swept((30.0, 45.0, 58.0), (35.0, 60.0, 95.0), "case", cooler=60.0)
    models = fit_models(evidence_of("sandpiper", runs, "vector", 40.0))
    lines = watt_lines(models, (25.0,), 45.0).lines
    middle, fast = (next(line for line in lines if line.duty == duty) for duty in (60.0, 95.0))
    assert (middle.slope_kpw - fast.slope_kpw) / middle.slope_kpw < 0.1


@pytest.fixture(scope="module")
def tower() -> Evidence:
    return evidence_of("larkspur", swept((80.0, 100.0, 120.0), (25.0, 45.0, 80.0), "case", cooler=45.0), "vector", 30.0)


def test_a_fan_is_worth_more_where_there_is_more_heat(tower: Evidence) -> None:
    """P8: a kelvin or two on a mild processor, more on a hot one: what a faster fan wins grows with the watts."""
    lines = watt_lines(fit_models(tower), (25.0,), 100.0).lines
    slow, fast = lines[0], lines[-1]
    mild, hot = (slow.at(watts)[0] - fast.at(watts)[0] for watts in (80.0, 120.0))
    assert 0.0 < mild < hot


def test_a_room_that_moved_between_runs_changes_nothing(tower: Evidence) -> None:
    """Every rise is over its own room: half the runs 6 K warmer, room and core alike, come to the same map."""
    moved = tuple(
        msgspec.structs.replace(
            run,
            room_c=run.room_c + 6.0,
            core_c=run.core_c + 6.0,
            settled=msgspec.structs.replace(run.settled, value_c=run.settled.value_c + 6.0, room_c=run.settled.room_c + 6.0),
        )
        if index % 2
        else run
        for index, run in enumerate(tower.runs)
    )
    asked = one_setting(tower.runs[4].setting)
    before = predict_under_load(fit_models(tower), asked, "vector", 25.0)
    after = predict_under_load(fit_models(msgspec.structs.replace(tower, runs=moved)), asked, "vector", 25.0)
    assert after.core_c[0] == pytest.approx(before.core_c[0], abs=0.15)


def test_runs_of_another_variant_are_not_mixed_in(tower: Evidence) -> None:
    """The same machine with its filter out runs cooler; its runs are shared as far as that did not change, and no further."""
    settings = [run.setting for run in tower.runs]
    out = evidence_of("larkspur", settings[:3], "vector", 30.0, variant="filter out")
    both = msgspec.structs.replace(out, elsewhere={tower.card.variant: tower})
    asked = one_setting(settings[7])
    here = predict_under_load(fit_models(both), asked, "vector", 23.0)
    there = predict_under_load(fit_models(tower), asked, "vector", 23.0)
    rig = SimulatedRig(shipped_file("larkspur"), seed=3)
    rig.become("filter out")
    truth = rig.true_settled(settings[7], "vector", 23.0)
    assert abs(here.core_c[0] - truth.hottest_c) <= here.core_hw[0] + 0.3
    assert there.core_hw[0] < here.core_hw[0] < 4.0  # with fast fans it was never run in this state
