"""Searches: they find where the machine fails, gentle before deep, and go on with the same question whenever asked anew."""

import itertools
from collections.abc import Callable
from typing import Any

import msgspec
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from niente.core.model.plan import Exposure, Search, SearchMethod
from niente.core.model.setting import Setting
from niente.core.planning.search import follow, rung_text, search_rungs

STOCK = Setting(voltage_offset_mv=0.0, core_offset_mv={f"{n}": 0.0 for n in range(1, 13)})
CORES = tuple(f"core_offset_mv.{n}" for n in range(1, 13))


def search(
    method: SearchMethod = SearchMethod.LADDER, controls: tuple[str, ...] = ("voltage_offset_mv",), **changed: Any
) -> Search:
    exposure = Exposure(600.0, 600.0)
    usual = Search("undervolt", controls, 0.0, -150.0, 20.0, 5.0, 10.0, STOCK, ("vector",), exposure, method)
    return msgspec.structs.replace(usual, **changed)


def answered(one: Search, passes: Callable[[Setting], bool], most: int = 500) -> tuple[list[Setting], dict[str, float]]:
    """Ask a search run after run, as the bench does: it forgets everything between two of them."""
    known: list[tuple[Setting, bool]] = []
    for _ in range(most):
        course = follow(one, STOCK, lambda setting: next((said for at, said in known if at == setting), None))
        if course.ahead is None:
            assert course.last is not None
            return [setting for setting, _ in known], course.last
        known.append((course.ahead, passes(course.ahead)))
    raise AssertionError("it never ends")


def over(threshold: float) -> Callable[[Setting], bool]:
    return lambda setting: (setting.voltage_offset_mv or 0.0) >= threshold


@given(st.floats(-160.0, -1.0), st.sampled_from([SearchMethod.LADDER, SearchMethod.BISECTION]))
def test_what_is_found_is_the_deepest_that_passes_on_the_grid(threshold: float, method: SearchMethod) -> None:
    asked, last = answered(search(method), over(threshold))
    found = last["voltage_offset_mv"]
    assert found >= threshold
    assert found - 5.0 < threshold or found == -150.0  # one fine step deeper it fails, or there is none deeper
    assert len(asked) == len({setting.voltage_offset_mv for setting in asked})  # nothing is asked twice
    assert 0.0 not in {setting.voltage_offset_mv for setting in asked}  # the machine was found like that


@given(st.floats(-149.0, -1.0))
def test_from_above_only_the_last_coarse_step_and_the_last_fine_one_pass(threshold: float) -> None:
    """A pass takes its time and a failure does not, so that passes are few."""
    asked, last = answered(search(SearchMethod.FROM_ABOVE), over(threshold))
    found = last["voltage_offset_mv"]
    assert found >= threshold
    assert found - 5.0 < threshold
    assert sum(over(threshold)(setting) for setting in asked) <= 2
    assert (asked[0].voltage_offset_mv or 0.0) == -150.0


def test_from_above_where_all_passes_or_nothing_does() -> None:
    asked, last = answered(search(SearchMethod.FROM_ABOVE), lambda setting: True)
    assert (len(asked), last) == (1, {"voltage_offset_mv": -150.0})
    _, last = answered(search(SearchMethod.FROM_ABOVE), lambda setting: False)
    assert last == {"voltage_offset_mv": 0.0}


@given(st.floats(-150.0, -6.0))
def test_a_ladder_is_gentle_before_deep(threshold: float) -> None:
    """Coarse steps down to the first failure, back up, then a margin (common practice, no source)."""
    asked, _ = answered(search(), over(threshold))
    values = [setting.voltage_offset_mv or 0.0 for setting in asked]
    failed = next((index for index, value in enumerate(values) if value < threshold), len(values))
    assert values[:failed] == sorted(values[:failed], reverse=True)  # down
    assert all(value > values[failed] for value in values[failed + 1 :])  # never deeper than a failure
    assert values[failed + 1 :] == sorted(values[failed + 1 :])  # and back up


@given(st.floats(-150.0, -1.0))
def test_bisection_needs_few_runs(threshold: float) -> None:
    asked, _ = answered(search(SearchMethod.BISECTION), over(threshold))
    assert len(asked) <= 5  # 31 places: five halvings


def test_an_offset_search_on_one_sample() -> None:
    """-30, -20, -15 failed, -10 passed, -12 chosen, in steps of the firmware's own unit (common practice, no source)."""
    fails = {-30.0: True, -20.0: True, -15.0: True, -10.0: False, -12.0: False}
    sample = over(-12.0)
    assert all(sample(Setting(voltage_offset_mv=value)) != failed for value, failed in fails.items())
    units: dict[str, Any] = {"deepest": -30.0, "coarse": 5.0, "fine": 1.0, "margin": 0.0}
    for method in (SearchMethod.LADDER, SearchMethod.BISECTION):
        assert answered(search(method, **units), sample)[1] == {"voltage_offset_mv": -12.0}
    other = over(-21.0)  # other samples differ: never copy somebody's number
    assert answered(search(**units), other)[1] == {"voltage_offset_mv": -21.0}


@settings(max_examples=30, deadline=None)
@given(st.lists(st.floats(-120.0, -8.0), min_size=12, max_size=12))
def test_per_core_each_gets_what_it_bears(thresholds: list[float]) -> None:
    """Weak cores set an all-core offset; their own offsets let the strong ones go deeper (common practice, no source)."""

    def passes(setting: Setting) -> bool:
        return all(setting.core_offset_mv[f"{n}"] >= thresholds[n - 1] for n in range(1, 13))

    asked, last = answered(search(SearchMethod.WEAKEST_FIRST, CORES, deepest=-100.0), passes)
    for threshold, control in zip(thresholds, CORES, strict=True):
        assert max(threshold, -100.0) <= last[control] < max(threshold, -100.0) + 5.0 + 1e-9
    _, together = answered(search(deepest=-100.0), lambda one: (one.voltage_offset_mv or 0.0) >= max(thresholds))
    assert min(last.values()) <= together["voltage_offset_mv"]
    assert len(asked) < 12 * 12  # groups are tested together; core by core it would be a ladder each


def test_the_weakest_core_is_settled_first() -> None:
    weak = {"3": -15.0, "7": -45.0}

    def passes(setting: Setting) -> bool:
        return all(setting.core_offset_mv[part] >= weak.get(part, -200.0) for part in setting.core_offset_mv)

    asked, last = answered(search(SearchMethod.WEAKEST_FIRST, CORES, deepest=-60.0), passes)
    alone = [min(setting.core_offset_mv, key=lambda part: setting.core_offset_mv[part]) for setting in asked]
    assert alone.index("3") < alone.index("7")
    assert last["core_offset_mv.3"] == -15.0
    assert last["core_offset_mv.7"] == -45.0
    assert last["core_offset_mv.1"] == -60.0


def test_cores_that_fail_only_together_are_all_held_back() -> None:
    def passes(setting: Setting) -> bool:
        return sum(value <= -40.0 for value in setting.core_offset_mv.values()) < 12

    _, last = answered(search(SearchMethod.WEAKEST_FIRST, CORES, deepest=-60.0, fine=20.0), passes)
    assert set(last.values()) == {-20.0}


def test_points_are_searched_in_turn_and_keep_what_was_found() -> None:
    """Offsets of -75, -35 and -25 mV on the points where it lives (common practice, no source)."""
    bears = {"point_offset_mv.7": -25.0, "point_offset_mv.6": -35.0, "point_offset_mv.5": -75.0}
    seen: list[Setting] = []

    def passes(setting: Setting) -> bool:
        seen.append(setting)
        return all((setting.value(name) or 0.0) >= value for name, value in bears.items())

    one = search(SearchMethod.IN_TURN, tuple(bears), margin=0.0, deepest=-100.0)
    _, last = answered(one, passes)
    assert last == bears
    for before, after in itertools.pairwise(seen):
        if before.point_offset_mv.get("6") is not None and after.point_offset_mv.get("6") is not None:
            assert after.point_offset_mv["7"] == -25.0


@given(st.floats(-150.0, -1.0), st.sampled_from(list(SearchMethod)[:2]), st.floats(0.0, 30.0))
def test_the_margin_never_goes_beyond_the_start(threshold: float, method: SearchMethod, margin: float) -> None:
    one = search(method, margin=margin)
    course = follow(one, STOCK, over(threshold))
    assert course.found is not None
    assert course.last is not None
    found, last = course.found["voltage_offset_mv"], course.last["voltage_offset_mv"]
    assert found == pytest.approx(min(last + margin, 0.0), abs=1e-6)


def test_voltage_goes_down_from_where_it_was_never_run() -> None:
    """A start that is not stock is asked first."""
    one = search(controls=("fixed_voltage_v",), start=1.2, deepest=0.9, coarse=0.05, fine=0.005, margin=0.01)
    asked, last = answered(one, lambda setting: (setting.fixed_voltage_v or 9.9) >= 1.022)
    assert asked[0].fixed_voltage_v == 1.2
    assert last["fixed_voltage_v"] == pytest.approx(1.025)
    course = follow(one, STOCK, lambda setting: (setting.fixed_voltage_v or 9.9) >= 1.022)
    assert course.found == pytest.approx({"fixed_voltage_v": 1.035})
    assert follow(one, STOCK, lambda _: False).last == {"fixed_voltage_v": 1.2}


def test_rungs_have_both_ends() -> None:
    assert search_rungs(search())[0] == 0.0
    assert search_rungs(search())[-1] == -150.0
    assert search_rungs(search(deepest=-45.0)) == (0.0, -20.0, -40.0, -45.0)
    words = rung_text(search(), Setting(voltage_offset_mv=-20.0))
    assert words.replace("\u00a0", " ") == "−20 mV"
    many = search(SearchMethod.WEAKEST_FIRST, CORES)
    at = STOCK
    for name in CORES[2:7]:
        at = at.replaced(name, -40.0)
    assert rung_text(many, at).replace("\u00a0", " ") == "3 to 7: −40 mV"


@pytest.mark.parametrize(
    ("changed", "words"),
    [
        ({"controls": ()}, "no control"),
        ({"loads": ()}, "no load"),
        ({"deepest": 0.0}, "starts where it ends"),
        ({"fine": 30.0}, "wanted 0 < fine <= coarse"),
        ({"margin": -1.0}, "not negative"),
        ({"passes": 0}, "no pass"),
    ],
)
def test_an_impossible_search_says_why(changed: dict[str, Any], words: str) -> None:
    assert any(words in problem for problem in search(**changed).problems())
    assert not search().problems()
