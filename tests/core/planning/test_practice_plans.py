"""Facts of the trade, found out by asking a question on a stand-in: the plan comes to what practitioners report.

Every figure is common practice with no source.
"""

from pathlib import Path

import numpy as np
import pytest

from niente.core.analysis.evidence import Evidence, RunSummary
from niente.core.model.plan import Exposure, SearchMethod, Until
from niente.core.model.question import Axis, FanSchool, Order, Question, Span
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting
from niente.core.planning.progress import Row, RunStatus, plan_rows
from niente.core.planning.templates import plan_for
from niente.core.rigs.registry import open_rig
from tests.core.planning.plans import choose_question, run

TWENTY = Exposure(1200.0, 1200.0)


def asked(name: str, card: RigCard, question: Question, book: Path, seed: int = 3) -> tuple[tuple[Row, ...], Evidence]:
    """Ask a question of a stand-in, and return its runs with what they came to."""
    plan = plan_for(card, question)
    watcher, evidence = run(plan, open_rig(name, seed=seed), book)
    assert watcher.end().complete, watcher.end()
    return plan_rows(plan, evidence.card, evidence), evidence


def mean(runs: list[RunSummary], of: str) -> float:
    return float(np.mean([getattr(run, of) for run in runs]))


def by_stage(rows: tuple[Row, ...], stage: str, load: str | None = None) -> list[RunSummary]:
    return [row.run for row in rows if row.step.stage == stage and row.run is not None and load in (None, row.step.load)]


def test_a_second_cooler_fan_by_turns_at_full_speed_and_at_equal_noise(tmp_path: Path) -> None:
    """Worth 1 K on a mild processor, up to 3 K on a hot one at full speed, 1 K at equal noise, and a few dB; comparisons are
    made at a fixed 38 dBA."""
    variants = ("filter in", "second cooler fan")
    base = Setting(sustained_power_w=165.0, temperature_cap_c=95.0, fan_duty={"case": 100.0, "cooler": 100.0})
    full = {"variants": variants, "base": base, "exposure": TWENTY}
    rows, _ = asked("larkspur", *choose_question("larkspur", "variants", **full), tmp_path / "full.niente")
    one, two = by_stage(rows, "A"), by_stage(rows, "B")
    assert len(one) == len(two) == 2
    at_full = mean(one, "rise_k") - mean(two, "rise_k")
    assert 0.4 <= at_full <= 3.5
    assert mean(two, "noise_dba") > mean(one, "noise_dba")  # what full speed flatters
    equal = full | {"axes": (Axis("noise_dba", (38.0,)),), "fans": FanSchool.NOISE}
    rows, _ = asked("larkspur", *choose_question("larkspur", "variants", **equal), tmp_path / "equal.niente")
    one, two = by_stage(rows, "A"), by_stage(rows, "B")
    assert mean(one, "noise_dba") == pytest.approx(38.0, abs=1.0)
    assert mean(two, "noise_dba") == pytest.approx(38.0, abs=1.0)
    at_equal = mean(one, "rise_k") - mean(two, "rise_k")
    assert -0.5 <= at_equal <= at_full + 0.5  # no more than full speed promises
    assert one[0].setting.fan_duty["cooler"] > two[0].setting.fan_duty["cooler"]  # two fans turn slower for the same noise


def test_a_cooling_pad_cools_and_raises_the_clock_by_nothing(tmp_path: Path) -> None:
    """7 K less, and not a megahertz more: the power limit holds it, not heat."""
    changed = {"variants": ("flat on the table", "cooling pad"), "exposure": TWENTY}
    rows, _ = asked("plover", *choose_question("plover", "variants", **changed), tmp_path / "b.niente")
    flat, pad = by_stage(rows, "A"), by_stage(rows, "B")
    assert 4.0 <= mean(flat, "rise_k") - mean(pad, "rise_k") <= 10.0
    assert mean(pad, "clock_mhz") == pytest.approx(mean(flat, "clock_mhz"), rel=0.02)
    assert all(run.power_limited for run in flat + pad)


def test_the_clock_that_heat_holds_depends_on_the_load(tmp_path: Path) -> None:
    """Held at 85 °C by a 200 W cooler: 4.78 GHz for a scalar load, 4.37 GHz for a wide vector load."""
    base = Setting(sustained_power_w=320.0, fan_duty={"radiator": 33.0, "case": 40.0})
    changed = {
        "base": base,
        "axes": (Axis("temperature_cap_c", (75.0, 85.0)),),
        "survive": ("scalar", "vector"),
        "quiet_under": (),
    }
    rows, _ = asked("cormorant", *choose_question("cormorant", "cap-sweep", **changed), tmp_path / "b.niente")
    held = {
        row.step.load: row.run for row in rows if row.step.stage == "cap sweep" and row.step.setting.temperature_cap_c == 85.0
    }
    assert all(run is not None and run.heat_limited for run in held.values())
    assert held["vector"].settled.value_c == pytest.approx(85.0, abs=1.5)  # type: ignore[union-attr]
    gap = held["scalar"].clock_mhz - held["vector"].clock_mhz  # type: ignore[union-attr]
    assert 250.0 <= gap <= 550.0


def test_offsets_per_point_are_searched_where_it_lives(tmp_path: Path) -> None:
    """Offsets differ from point to point of the curve: deep where there is room, shallow near the top."""
    axis = Axis("point_offset_mv", span=Span(-100.0, 0.0, 20.0))
    changed = {
        "axes": (axis,),
        "fine": 20.0,
        "exposure": Exposure(240.0, 240.0),
        "survive": ("vector",),
        "quiet_under": ("single",),
    }
    rows, evidence = asked("larkspur", *choose_question("larkspur", "undervolt-ladder", **changed), tmp_path / "b.niente")
    found = [row.step.setting.point_offset_mv for row in rows if row.step.stage == "undervolt" and not row.waits][-1]
    assert len(set(found.values())) > 1
    assert min(found.values()) <= -20.0
    deep = (run.setting.point_offset_mv for run in evidence.runs if min(run.setting.point_offset_mv.values()) < 0)
    asked_first = next(deep)
    assert min(asked_first, key=lambda part: asked_first[part]) == "8"  # the top point first: there the clock is highest


def test_the_last_few_per_cent_of_a_large_part(tmp_path: Path) -> None:
    """From 1.10 V to 1.22 V and +300 MHz: about 20 K, 116 W at the wall, and a few per cent."""
    base = Setting(sustained_power_w=520.0, temperature_cap_c=95.0)
    low, high = ({"fixed_clock_mhz": mhz, "fixed_voltage_v": volt} for mhz, volt in ((3900.0, 1.10), (4200.0, 1.22)))
    work = {}
    for name, more in (("low", low), ("high", high)):
        at = base
        for control, value in more.items():
            at = at.replaced(control, value)
        changed = {"base": at, "axes": (), "survive": ("vector",), "quiet_under": ("stars",), "exposure": TWENTY}
        rows, _ = asked("heron", *choose_question("heron", "free", **changed), tmp_path / f"{name}.niente")
        work[name] = {row.step.load: row.run for row in rows}
    rise = work["high"]["vector"].rise_k - work["low"]["vector"].rise_k  # type: ignore[union-attr]
    assert 14.0 <= rise <= 26.0
    for load in ("vector", "stars"):
        gain = work["high"][load].throughput_per_s / work["low"][load].throughput_per_s - 1.0  # type: ignore[union-attr]
        assert 0.0 <= gain <= 0.095


def test_a_low_temperature_cap_takes_a_share_of_a_real_time_load(tmp_path: Path) -> None:
    """65 °C in place of about 95 °C took 29 % of the voices; 70 °C was the compromise."""
    base = Setting(sustained_power_w=130.0, fan_duty={"case": 0.0}, temperature_cap_c=95.0)
    changed = {
        "base": base,
        "axes": (Axis("temperature_cap_c", (65.0, 70.0)),),
        "survive": (),
        "quiet_under": ("voices",),
        "exposure": Exposure(5400.0, 5400.0),
    }
    rows, _ = asked("wren", *choose_question("wren", "cap-sweep", **changed), tmp_path / "b.niente")
    (full,) = by_stage(rows, "baseline")
    low, compromise = by_stage(rows, "cap sweep")
    assert low.setting.temperature_cap_c == 65.0
    assert 0.20 <= 1.0 - low.throughput_per_s / full.throughput_per_s <= 0.36
    assert low.throughput_per_s < compromise.throughput_per_s < full.throughput_per_s


def test_samples_differ_and_each_keeps_its_own_offset(tmp_path: Path) -> None:
    """Never copy somebody's number."""
    found = set()
    for seed in (1, 5):
        card, question = choose_question("larkspur", "undervolt-ladder", exposure=Exposure(300.0, 300.0), quiet_under=())
        rows, _ = asked("larkspur", card, question, tmp_path / f"{seed}.niente", seed=seed)
        (at,) = {row.step.setting.voltage_offset_mv for row in rows if row.step.reason.startswith("What was found")}
        found.add(at)
    assert len(found) > 1


def test_one_pass_out_of_three_is_a_failure(tmp_path: Path) -> None:
    """A run in which a load errs is a failure as much as a crash is; a value passes when all of its runs do."""
    card, question = choose_question(
        "larkspur", "undervolt-ladder", passes=3, exposure=Exposure(120.0, 120.0), quiet_under=(), method=SearchMethod.LADDER
    )
    rows, evidence = asked("larkspur", card, question, tmp_path / "b.niente")
    (at,) = {row.step.setting.voltage_offset_mv for row in rows if row.step.reason.startswith("What was found")}
    clean: dict[float, int] = {}
    for one in evidence.runs:
        depth = one.setting.voltage_offset_mv or 0.0
        if one.failures:
            assert at > depth  # type: ignore[operator]
        elif depth < 0 and one.seconds < 200:
            clean[depth] = clean.get(depth, 0) + 1
    failed = {one.setting.voltage_offset_mv for one in evidence.runs if one.failures}
    assert {times for depth, times in clean.items() if depth not in failed} <= {3}


def test_a_ladder_of_power_stops_at_the_first_throttling(tmp_path: Path) -> None:
    """Step the power limit in 10 W steps, and plot; where heat limits the clock, more watts come to nothing."""
    card, question = choose_question("larkspur", "capacity-ladder", base=Setting(fan_duty={"case": 25.0, "cooler": 30.0}))
    rows, _ = asked("larkspur", card, question, tmp_path / "b.niente")
    ladder = [row for row in rows if row.step.until == Until.HEAT]
    watts = [row.step.setting.sustained_power_w for row in ladder]
    assert watts == sorted(watts)  # type: ignore[type-var]
    held = [row for row in ladder if row.run is not None and row.run.heat_limited]
    assert len(held) == 1
    index = ladder.index(held[0])
    assert all(row.status == RunStatus.LEFT_OUT for row in ladder[index + 1 :])
    assert index + 1 < len(ladder)
    free = [row.run for row in ladder[:index] if row.run is not None]
    slope = np.polyfit([run.power_w for run in free], [run.rise_k for run in free], 1)[0]
    assert 0.2 <= slope <= 0.6  # kelvin a watt, a tower with slow fans


def test_the_default_of_each_school_stands_first() -> None:
    """Fixed duty, keep warm, equilibrium to a kelvin; for the voltage, exposures that say how far to back up."""
    _, question = choose_question("larkspur", "quiet-point")
    assert (question.fans, question.order, question.method) == (FanSchool.DUTY, Order.WARM, SearchMethod.STRUCTURED)
    assert question.exposure.known_to_k == 1.0
