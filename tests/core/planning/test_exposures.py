"""How long, how often and after what: clean exposures, cold starts, keeping warm, and what practitioners know of them.

P20 to P28 as they touch running, P1, P7 and P11; common practice, no source.
"""

import time
from pathlib import Path

import msgspec
import numpy as np
import pytest

from niente.core.acquisition.cold_start import SPAN_S, STEADY_K, ColdStart
from niente.core.acquisition.opening import open_bench
from niente.core.model.errors import PlanError
from niente.core.model.frame import Frame
from niente.core.model.guard_rules import default_guards
from niente.core.model.limits import Limits
from niente.core.model.plan import PLAN_FORMAT, Exposure, Plan, Step
from niente.core.model.question import Order
from niente.core.model.records import RunOpened
from niente.core.model.setting import Setting
from niente.core.planning.progress import plan_rows
from niente.core.planning.templates import entries_of
from niente.core.planning.validation import check_plan
from niente.core.rigs.simulated.faults import Fault, FaultKind
from niente.core.rigs.simulated.machine_files import shipped_file
from niente.core.rigs.simulated.rig import SimulatedRig
from niente.core.storage.reader import BookReader
from tests.conftest import Watcher, larkspur_rig, short_plan
from tests.core.planning.plans import choose_question, run

CARD = larkspur_rig().describe()
COOL = Setting(sustained_power_w=100.0, fan_duty={"case": 60.0, "cooler": 60.0})


def passing(passes: int, seconds: float = 60.0) -> Plan:
    plan = short_plan(CARD, COOL, seconds=seconds)
    return msgspec.structs.replace(plan, entries=(msgspec.structs.replace(plan.steps[0], passes=passes),))


def test_a_run_is_made_until_so_many_exposures_are_clean(tmp_path: Path) -> None:
    watcher, evidence = run(passing(3), larkspur_rig(), tmp_path / "clean.niente")
    assert len(watcher.of(RunOpened)) == 3
    assert [row.status.value for row in plan_rows(passing(3), CARD, evidence)] == ["done"] * 3
    assert [row.status.value for row in plan_rows(passing(4), CARD, evidence)] == ["done"] * 3 + ["ahead"]


def test_one_pass_of_two_is_a_failure(tmp_path: Path) -> None:
    """P26: one pass out of two or three is a failure; after one the rest is not asked for (common practice, no source)."""
    rig = larkspur_rig(Fault(FaultKind.CRASH, 100.0, seconds=1.0))
    watcher, evidence = run(passing(3), rig, tmp_path / "failed.niente")
    assert len(watcher.of(RunOpened)) == 2
    rows = plan_rows(passing(3), CARD, evidence)
    assert [row.status.value for row in rows] == ["done", "failed", "left out"]
    assert rows[2].reason == "an exposure before it failed"


def test_passes_come_from_the_question_and_are_checked() -> None:
    card, question = choose_question("larkspur", "capacity-ladder", passes=3)
    steps = [entry for entry in entries_of(card, question) if isinstance(entry, Step)]
    assert {step.passes for step in steps if step.load != "idle"} == {3}
    assert {step.passes for step in steps if step.load == "idle"} <= {1}
    with pytest.raises(PlanError, match="no exposure at all"):
        check_plan(passing(0), CARD)


# -- rests -----------------------------------------------------------------------------------------------------------------


def test_a_cold_start_waits_until_nothing_moves(tmp_path: Path) -> None:
    """After a hot run the rest goes on until no temperature moves by more than 0.3 K in five minutes."""
    rule = Exposure(min_s=60.0, max_s=60.0)
    cold = Exposure(min_s=60.0, max_s=60.0, idle_s=120.0, from_cold=True)
    hot = Setting(sustained_power_w=160.0, fan_duty={"case": 30.0, "cooler": 40.0})
    plan = short_plan(CARD, hot, seconds=600.0)
    entries = (plan.steps[0], Step(COOL, "vector", cold, "test"), Step(COOL, "vector", rule, "test"))
    run(msgspec.structs.replace(plan, entries=entries), larkspur_rig(), tmp_path / "cold.niente")
    book = BookReader(tmp_path / "cold.niente")
    (rest,) = [one for one in book.runs() if one.kind == "rest"]
    time_s, values = book.frames(rest)
    book.close()
    assert time_s[-1] - time_s[0] > 600.0  # two minutes were the least, ten are what it takes to see
    points = [i for i, channel in enumerate(CARD.channels) if "temperature_c" in channel.name]
    span = round(SPAN_S)
    moved = np.abs(values[-span:, points].mean(axis=0) - values[-2 * span : -span, points].mean(axis=0))
    assert np.all(moved <= STEADY_K + 0.05)


def test_a_rest_without_that_lasts_its_time() -> None:
    watch = ColdStart(Exposure(min_s=1.0, max_s=1.0, idle_s=30.0), CARD, 100.0)
    values = np.full(len(CARD.channels), 40.0)
    reached = [watch.reached(Frame(100.0 + second, values)) for second in range(1, 40)]
    assert reached.index(True) == 29


def test_the_order_says_how_a_run_starts() -> None:
    """Keep warm from cool to hot, or a cold start each: both schools are there (common practice, no source)."""
    card, warm = choose_question("larkspur", "capacity-ladder", order=Order.WARM)
    working = [one for one in entries_of(card, warm) if isinstance(one, Step) and one.stage == "capacity"]
    limits = [one.setting.sustained_power_w for one in working]
    assert limits == sorted(limits, key=lambda watts: watts or 0.0)
    assert not any(one.exposure.idles_first for one in working)
    _, cold = choose_question("larkspur", "capacity-ladder", order=Order.COLD, idle_minutes=20.0, from_cold=True)
    with_idle = [one for one in entries_of(card, cold) if isinstance(one, Step) and one.stage == "capacity"]
    assert all(one.exposure.idle_s == 1200.0 and one.exposure.from_cold for one in with_idle)


def test_idle_is_read_after_twenty_minutes_of_rest() -> None:
    card, question = choose_question("larkspur", "baseline")
    idle = next(entry for entry in entries_of(card, question) if isinstance(entry, Step) and entry.load == "idle")
    assert idle.exposure.min_s == 1200.0


# -- facts of the trade ------------------------------------------------------------------------------------------------------


def settles(name: str, setting: Setting, seconds: float, tmp_path: Path, variant: str = "") -> tuple[float, float]:
    """Return what a run of so many seconds says of the rise over the room: at its end, and where it settles."""
    rig = SimulatedRig(shipped_file(name), seed=2)
    if variant:
        rig.become(variant)
    card = rig.describe()
    rule = Exposure(min_s=seconds, max_s=seconds)
    plan = Plan(PLAN_FORMAT, name, "free", (Step(setting, "vector", rule),), default_guards(card))
    book = tmp_path / f"{name}-{variant or 'first'}-{seconds:.0f}.niente"
    _, evidence = run(plan, rig, book)
    reader = BookReader(book)
    _, values = reader.frames(next(one for one in reader.runs() if one.kind == "step"))
    reader.close()
    cores = values[-60:, list(card.indices("core_temperature_c"))].mean(axis=0)
    room = float(values[-60:, card.index("room_temperature_c") or 0].mean())
    return float(cores.max()) - room, evidence.runs[-1].rise_k


def test_a_passive_tower_takes_half_an_hour_and_is_known_sooner(tmp_path: Path) -> None:
    """P1: rise of half an hour before equilibrium; the forecast is there long before (common practice, no source)."""
    quiet = Setting(sustained_power_w=50.0, fan_duty={"case": 0.0})
    early, forecast = settles("wren", quiet, 1200.0, tmp_path)
    late, _ = settles("wren", quiet, 5400.0, tmp_path)
    assert late - early > 1.5
    assert abs(forecast - late) < 2.0  # after 20 minutes of 90, with a panel that takes an hour


def test_liquid_creeps_and_half_an_hour_reads_low(tmp_path: Path) -> None:
    """P7, P11: liquid is judged with the coolant at equilibrium; stopping early flatters it (common practice, no source)."""
    slow = Setting(sustained_power_w=200.0, fan_duty={"radiator": 30.0, "case": 40.0})
    early, forecast = settles("cormorant", slow, 1200.0, tmp_path)
    late, _ = settles("cormorant", slow, 5400.0, tmp_path)
    assert late - early > 0.4
    assert abs(forecast - late) < 1.2


def test_the_firmware_limit_is_a_card_before_the_run(tmp_path: Path) -> None:
    """P20, P21: on such a machine the power limit is the firmware's, so that hands set it (common practice, no source)."""
    watcher = Watcher()
    bench = open_bench(SimulatedRig(shipped_file("plover"), seed=2), tmp_path / "plover.niente", watcher.hear)
    step = Step(Setting(sustained_power_w=25.0), "vector", Exposure(30.0, 30.0))
    plan = Plan(PLAN_FORMAT, "plover", "free", (step,), default_guards(bench.card))
    bench.start(plan, Limits())
    for _ in range(500):
        if bench.open_card is not None:
            break
        time.sleep(0.01)
    assert bench.open_card is not None
    assert bench.open_card.lines[0].value == "25\u00a0W"
    bench.close()
