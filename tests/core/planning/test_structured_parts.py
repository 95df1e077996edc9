"""The search of every core's depth against a book: as the bench asks for it, anew after every exposure."""

import functools
import math
from typing import Any

import msgspec
import numpy as np

from niente.core.analysis.evidence import RunSummary
from niente.core.analysis.stability import exposures_in, laws_by_core, stability_of
from niente.core.model.plan import Exposure, Plan, Search, SearchMethod, Step
from niente.core.model.question import Axis, Span
from niente.core.model.runs import RunOutcome
from niente.core.model.setting import Setting
from niente.core.planning.progress import RunStatus, plan_rows
from niente.core.planning.questions.undervolting import first_undervolt, search_methods, search_over
from niente.core.planning.structured_search import stand_of, takes_long
from tests.core.analysis.test_stability import card, ran
from tests.core.planning.test_structured_search import book

CORES = ("1", "2", "3", "4")
THRESHOLDS_MV = np.array([70.0, 95.0, 93.0, 74.0])
SCALE_MV = 3.0
DAY_PER_S = -math.log(0.99) / 86400.0


def entry(**changed: Any) -> Search:
    usual = Search(
        name="undervolt", controls=tuple(f"core_offset_mv.{core}" for core in CORES), start=0.0, deepest=-150.0, coarse=20.0,
        fine=5.0, margin=10.0, setting=Setting(), loads=("vector",), exposure=Exposure(600.0, 600.0),
        method=SearchMethod.STRUCTURED, stage="undervolt", budget_s=5400.0, hottest_c=75.0,
    )  # fmt: skip
    return msgspec.structs.replace(usual, **changed)


def depths_of(setting: Setting) -> np.ndarray:
    return np.array([-setting.core_offset_mv.get(core, 0.0) - (setting.voltage_offset_mv or 0.0) for core in CORES])


def rates(setting: Setting) -> np.ndarray:
    found: np.ndarray = 2e-3 * np.exp(np.minimum((depths_of(setting) - THRESHOLDS_MV) / SCALE_MV, 6.0))
    return found


@functools.cache
def answered(seed: int = 1) -> tuple[RunSummary, ...]:
    """Run a search as the bench does: it forgets everything between two exposures."""
    rng = np.random.default_rng(seed)
    one = entry()
    runs: list[RunSummary] = []
    for _ in range(120):
        stand = stand_of(one, card(), book(one, *runs))
        if stand.found is not None:
            return tuple(runs)
        step = stand.ahead[0]
        whole = step.setting.over(card().stock)
        each = rates(whole)
        comes = float(rng.exponential(1.0 / each.sum()))
        failed = comes < step.exposure.min_s
        core = str(rng.choice(CORES, p=each / each.sum()))
        named = {"setting": whole, "failed_cores": (core,) if failed else ()}
        runs.append(ran(0.0, max(min(comes, step.exposure.min_s), 1.0), failed, **named))
    raise AssertionError("it never ends")


def found_by(*more: RunSummary) -> dict[str, float]:
    found = stand_of(entry(), card(), book(entry(), *answered(), *more)).found
    assert found is not None
    return found


def setting_of(found: dict[str, float]) -> Setting:
    setting = Setting()
    for control, value in found.items():
        setting = setting.replaced(control, value)
    return setting.over(card().stock)


def test_each_core_gets_the_offset_that_it_takes_and_all_of_them_last_the_day() -> None:
    found = found_by()
    assert set(found) == set(entry().controls)
    assert all(value % 5.0 == 0.0 and -150.0 <= value <= 0.0 for value in found.values())
    weak, strong = (sorted(found[f"core_offset_mv.{core}"] for core in pair) for pair in (("1", "4"), ("2", "3")))
    assert max(strong) < min(weak)  # the strong ones go deeper
    assert rates(setting_of(found)).sum() <= DAY_PER_S
    assert sum(run.failures for run in answered()) < 30


def test_rows_are_the_exposures_made_and_what_it_finds_is_run() -> None:
    one = entry()
    step = Step(Setting(), "vector", Exposure(300.0, 300.0), takes="undervolt")
    plan = Plan("niente-plan/2", "larkspur", "undervolt-ladder", (one, step), ())
    begun = plan_rows(plan, card(), book(one, *answered()[:2]))
    assert [row.status for row in begun[:3]] == [RunStatus.DONE, RunStatus.DONE, RunStatus.AHEAD]
    assert begun[-1].waits
    over = plan_rows(plan, card(), book(one, *answered()))
    assert over[-1].step.setting.core_offset_mv == {core: found_by()[f"core_offset_mv.{core}"] for core in CORES}


def test_what_is_expected_fills_the_time_that_it_has() -> None:
    ahead = stand_of(entry(), card(), None).ahead
    assert 0.8 * 5400.0 <= sum(step.exposure.min_s + 10.0 for step in ahead) <= 5400.0 + 700.0
    coarse = [step for step in ahead if step.exposure.min_s == 40.0]
    assert [depths_of(step.setting.over(card().stock))[0] for step in coarse] == [20.0, 40.0, 60.0]  # half of 150 mV
    begun = stand_of(entry(), card(), book(entry(), *answered()[:8])).ahead
    assert 1 < len(begun) < len(ahead)
    assert len(stand_of(entry(budget_s=1e9, deepest=-400.0), card(), None).ahead) <= entry().max_runs  # a plan from anybody


def test_a_failure_after_it_makes_that_core_gentler_and_clean_hours_change_nothing() -> None:
    found = found_by()
    clean = ran(0.0, 7200.0, setting=setting_of(found), step=1)
    assert found_by(clean) == found
    late = ran(0.0, 60.0, failed=True, setting=setting_of(found), failed_cores=("2",), step=1)
    moved = found_by(clean, late)
    assert moved["core_offset_mv.2"] > found["core_offset_mv.2"]
    assert all(moved[name] >= found[name] for name in found)


def test_an_offset_of_all_cores_counts_with_those_of_single_ones() -> None:
    one = entry(setting=Setting(voltage_offset_mv=-10.0))
    first = stand_of(one, card(), None).ahead[0]
    assert depths_of(first.setting.over(card().stock)).tolist() == [30.0] * 4  # 20 mV below where all stand
    assert "All cores" in first.reason


def test_what_takes_long_is_known_before_it_is_asked_for() -> None:
    one = entry(hottest_c=76.0)
    failed = book(one, *answered())
    assert not takes_long(one, card(), None)
    assert takes_long(one, card(), failed)
    stand_of(one, card(), failed)
    assert not takes_long(one, card(), failed)


def test_a_question_of_cores_is_searched_by_exposures_unless_another_way_is_wanted() -> None:
    question = first_undervolt(card())
    cores = msgspec.structs.replace(question, axes=(Axis("core_offset_mv", span=Span(-100.0, 0.0, 20.0)),))
    assert search_methods(cores)[0] == SearchMethod.STRUCTURED
    for method in search_methods(cores):
        found = search_over(card(), msgspec.structs.replace(cores, method=method), Setting())
        assert found is not None
        assert (found.method, len(found.controls), found.problems()) == (method, 12, [])
    points = msgspec.structs.replace(question, axes=(Axis("point_offset_mv", span=Span(-100.0, 0.0, 20.0)),))
    assert search_methods(points) == (SearchMethod.IN_TURN,)
    for controls in (
        ("core_offset_mv.1", "point_offset_mv.1"),
        ("point_offset_mv.8",),
        ("voltage_offset_mv", "core_offset_mv.1"),
    ):
        assert any("by exposures" in problem for problem in entry(controls=controls).problems()), controls
    for controls in (("core_offset_mv.3",), ("voltage_offset_mv",), ("fixed_voltage_v",)):
        assert entry(controls=controls).problems() == []


# -- what is known of a setting with offsets of single cores -----------------------------------------------------------


def test_a_setting_of_single_cores_has_a_law_from_all_exposures() -> None:
    """Nothing was run at it; the search's failures carry over, core by core."""
    known = exposures_in(book(entry(), *answered()).runs, card())
    gentle, deep = (setting_of(dict.fromkeys(entry().controls, value)) for value in (-10.0, -60.0))
    by_core = laws_by_core(known, gentle)
    assert set(CORES) <= set(by_core.cores)
    laws = stability_of(known, gentle).laws["vector"]
    assert laws.quantile(laws.chances(0.0, 86400.0), 0.8) < 0.01  # of the other eight cores only the prior is known
    deeper = stability_of(known, deep).laws["vector"]
    assert deeper.quantile(deeper.chances(0.0, 86400.0), 0.5) > 0.5  # two cores stand 10 mV before their thresholds


def test_exposures_stand_as_deep_as_they_are_beside_a_setting() -> None:
    """A clean one by the core that stood least deep beside it, a failure by the core that it names."""
    here = setting_of({"core_offset_mv.1": -20.0, "core_offset_mv.2": -40.0})
    other: dict[str, Any] = {"setting": setting_of({"core_offset_mv.1": -50.0, "core_offset_mv.2": -45.0})}
    runs = [
        ran(0.0, 600.0, **other),
        ran(0.0, 60.0, True, failed_cores=("1",), **other),
        ran(0.0, 60.0, True, failed_cores=("2",), **other),
    ]
    told = stability_of(exposures_in(book(entry(), *runs).runs, card()), here)
    assert [one.seen.depth_mv for one in told.exposures] == [0.0, 30.0, 5.0]  # the other ten cores stood at 0


def test_without_a_core_that_was_named_there_is_nothing_by_core_and_the_settings_own_law_stands() -> None:
    deep = setting_of(dict.fromkeys(entry().controls, -60.0))
    failing = [ran(0.0, seconds, True, setting=deep) for seconds in (30.0, 200.0)]
    told = stability_of(exposures_in(book(entry(), *failing).runs, card()), deep)
    assert set(told.laws) == {"vector"}
    unnamed = [msgspec.structs.replace(run, failed_cores=()) for run in answered()]
    known = exposures_in(book(entry(), *unnamed).runs, card())
    assert laws_by_core(known, setting_of(found_by())).cores == ()
    assert laws_by_core((), setting_of(found_by())).laws == {}


def test_a_guard_that_ends_it_again_and_again_ends_the_search() -> None:
    hot = [ran(-20.0, 30.0, outcome=RunOutcome.GUARD) for _ in range(3)]
    runs = [msgspec.structs.replace(run, setting=setting_of(dict.fromkeys(entry().controls, -20.0))) for run in hot]
    assert stand_of(entry(), card(), book(entry(), *runs)).found is not None
