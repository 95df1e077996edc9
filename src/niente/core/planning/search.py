"""Searches: how deep a control goes before the machine fails. Each is written as the questions it asks, in order.

A search never remembers anything itself: it is asked anew with everything that was measured, and the first question
without an answer is the next run. So a plan that is stopped and resumed goes on with the same steps.
"""

from collections.abc import Callable, Generator

import msgspec

from niente.core.model.names import part_of
from niente.core.model.plan import Search, SearchMethod
from niente.core.model.quantities import quantity_of
from niente.core.model.setting import Setting
from niente.core.selection.setting_words import spans_text

SearchSteps = Generator[Setting, bool, dict[str, float]]
"""Yields settings, is sent whether each passes, and returns the last value that passes for each control."""


class SearchCourse(msgspec.Struct, frozen=True):
    """Where a search stands: the rungs that were answered, the one to be run next, and what was found at the end.

    ``found`` has the value of each control, the margin taken off; ``last`` the last that passed. Both are ``None`` while a
    rung is ahead.
    """

    rungs: tuple[tuple[Setting, bool], ...]
    ahead: Setting | None
    found: dict[str, float] | None = None
    last: dict[str, float] | None = None


def follow(search: Search, stock: Setting, passes: Callable[[Setting], bool | None]) -> SearchCourse:
    """Return where a search stands. ``passes`` says whether a setting passes; ``None`` where that is not known yet."""
    rungs: list[tuple[Setting, bool]] = []
    asking = asked_by(search, stock)
    try:
        setting = next(asking)
        while True:
            answer = passes(setting)
            if answer is None:
                return SearchCourse(tuple(rungs), setting)
            rungs.append((setting, answer))
            setting = asking.send(answer)
    except StopIteration as end:
        last: dict[str, float] = end.value
    return SearchCourse(tuple(rungs), None, {name: _with_margin(search, value) for name, value in last.items()}, last)


def asked_by(search: Search, stock: Setting) -> SearchSteps:
    """Return the questions of a search. A start at the stock value is taken as good: that is how the machine was found."""
    if search.method == SearchMethod.WEAKEST_FIRST:
        return _weakest_first(search)
    if search.method == SearchMethod.IN_TURN:
        return _in_turn(search, stock)
    one = _ONE_CONTROL.get(search.method, _ladder)
    return one(search, stock, search.setting, search.controls[0])


def search_rungs(search: Search, step: float | None = None) -> tuple[float, ...]:
    """Return the values from the start to the deepest, coarse or ``step`` apart, both ends among them."""
    apart, span = step or search.coarse, search.deepest - search.start
    way = 1.0 if span > 0 else -1.0
    count = int(abs(span) / apart + 1e-9)
    points = [round(search.start + way * apart * n, 6) for n in range(count + 1)]
    return tuple(points) if abs(points[-1] - search.deepest) < 1e-6 else (*points, search.deepest)


def rung_text(search: Search, setting: Setting) -> str:
    """Say a rung by the deepest value of the controls that are searched: ``−60 mV``, ``core 3 to 7 −60 mV``."""
    values = {name: setting.value(name) for name in search.controls}
    known = {name: value for name, value in values.items() if value is not None}
    if not known:
        return ""
    deepest = (max if search.deepest > search.start else min)(known.values())
    words = quantity_of(search.controls[0]).with_unit(deepest)
    if len(search.controls) == 1:
        return words if quantity_of(search.controls[0]).unit else f"{words} {part_of(search.controls[0])}"
    parts = [part_of(name) for name, value in known.items() if value == deepest]
    return f"{spans_text(parts)}: {words}"


def _ladder(search: Search, stock: Setting, base: Setting, control: str) -> SearchSteps:
    """In coarse steps down to the first failure, then back up in fine ones (common practice)."""
    passed: float | None = None
    failed: float | None = None
    for value in search_rungs(search):
        if value == search.start and stock.value(control) == value:
            passed = value
            continue
        if (yield base.replaced(control, value)):
            passed = value
            continue
        failed = value
        break
    if failed is None or passed is None:
        return {control: search.start if passed is None else passed}
    return {control: (yield from _back_up(search, base, control, failed, passed))}


def _back_up(search: Search, base: Setting, control: str, failed: float, passed: float) -> Generator[Setting, bool, float]:
    """From a failure in fine steps towards a value that passed; return the first that passes."""
    between = [value for value in search_rungs(search, search.fine) if min(failed, passed) < value < max(failed, passed)]
    for value in reversed(between):
        if (yield base.replaced(control, value)):
            return value
    return passed


def _bisection(search: Search, stock: Setting, base: Setting, control: str) -> SearchSteps:
    """Halve what lies between the deepest pass and the shallowest failure, on the fine grid."""
    points = search_rungs(search, search.fine)
    passed, failed = 0, len(points)
    if stock.value(control) != points[0] and not (yield base.replaced(control, points[0])):
        return {control: points[0]}
    while failed - passed > 1:
        middle = (passed + failed) // 2
        if (yield base.replaced(control, points[middle])):
            passed = middle
        else:
            failed = middle
    return {control: points[passed]}


def _from_above(search: Search, stock: Setting, base: Setting, control: str) -> SearchSteps:
    """Back from the deepest to the first pass, then from the failure over it in fine steps down to the last pass."""
    failed: float | None = None
    for value in reversed(search_rungs(search)):
        if (yield base.replaced(control, value)):
            return {control: value if failed is None else (yield from _back_up(search, base, control, failed, value))}
        failed = value
    return {control: search.start}


_ONE_CONTROL = {SearchMethod.BISECTION: _bisection, SearchMethod.FROM_ABOVE: _from_above}


def _in_turn(search: Search, stock: Setting) -> SearchSteps:
    """A ladder for each control; those before keep what was found, with the margin."""
    base = search.setting
    found: dict[str, float] = {}
    for control in search.controls:
        one = yield from _ladder(search, stock, base, control)
        found |= one
        base = base.replaced(control, _with_margin(search, one[control]))
    return found


def _weakest_first(search: Search) -> SearchSteps:
    """All controls go down together; those that fail at a rung are told apart by halves, and settled at once."""
    depth = dict.fromkeys(search.controls, search.start)
    left = list(search.controls)
    for level in search_rungs(search)[1:]:
        weak = yield from _weak_at(search, depth, left, level)
        for control in weak:
            others = _put(search.setting, {name: value for name, value in depth.items() if name != control})
            depth[control] = yield from _back_up(search, others, control, level, depth[control])
            left.remove(control)
        for control in left:
            depth[control] = level
        if not left:
            break
    return depth


def _weak_at(search: Search, depth: dict[str, float], group: list[str], level: float) -> Generator[Setting, bool, list[str]]:
    """Return those of a group that fail at a level; all of it, where it fails only together."""
    if (yield _put(search.setting, depth | dict.fromkeys(group, level))):
        return []
    if len(group) == 1:
        return list(group)
    half = len(group) // 2
    first = yield from _weak_at(search, depth, group[:half], level)
    second = yield from _weak_at(search, depth, group[half:], level)
    return first + second or list(group)


def _put(setting: Setting, values: dict[str, float]) -> Setting:
    for control, value in values.items():
        setting = setting.replaced(control, value)
    return setting


def _with_margin(search: Search, value: float) -> float:
    """Return a value with the margin taken off, never beyond the start."""
    if search.deepest < search.start:
        return round(min(value + search.margin, search.start), 6)
    return round(max(value - search.margin, search.start), 6)
