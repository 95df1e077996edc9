"""How a plan stands: which of its runs have an answer in the book, which are left out, and which lie ahead.

Runs are matched to steps by what was run, not by where they stood in a list: an edited plan keeps what was measured.
"""

from collections import Counter, defaultdict
from collections.abc import Callable
from enum import StrEnum

import msgspec

from niente.core.analysis.evidence import Evidence, RunSummary
from niente.core.model.errors import NotEnoughError
from niente.core.model.plan import Confirmation, Entry, Exposure, PickRuns, Plan, Search, SearchMethod, Step
from niente.core.model.rig_card import RigCard
from niente.core.model.runs import CONCLUSIVE, NOT_MADE_AGAIN, RunOutcome
from niente.core.model.setting import Setting
from niente.core.planning.carried_runs import CarriedRuns
from niente.core.planning.confirmation import confirm_s_of, expected_runs, run_as_made
from niente.core.planning.ladder_ends import ENDED_BY, ends_ladder
from niente.core.planning.open_steps import is_open, resolved
from niente.core.planning.risk import as_risky, is_telling
from niente.core.planning.rungs import as_foreseen, expected_to_pass, rung_step, rung_steps
from niente.core.planning.search import SearchCourse, follow
from niente.core.planning.structured_search import finds_one_depth, safe_value, stand_of

CLIMBS = ("sustained_power_w", "clock_cap_mhz", "fixed_clock_mhz", "fixed_voltage_v", "temperature_cap_c", "voltage_offset_mv")
"""What a ladder climbs on: two runs that differ in nothing else are rungs of the same one."""

Fixed = tuple[object, ...]
"""A whole setting as something hashable that is equal for equal settings."""
Key = tuple[str, int, str]
Next = Callable[[Confirmation | PickRuns, int], Step | None]


class RunStatus(StrEnum):
    """How one run of a plan stands."""

    DONE = "done"
    FAILED = "failed"
    GUARD = "guard"
    SKIPPED = "skipped"
    LEFT_OUT = "left out"
    AHEAD = "ahead"
    EXPECTED = "expected"
    """Follows from results still to come; it may be another one by then."""

    @property
    def closed(self) -> bool:
        """Whether it need not be run any more."""
        return self not in (RunStatus.AHEAD, RunStatus.EXPECTED)


class Row(msgspec.Struct, frozen=True):
    """One run of a plan: its entry's index, its step as far as it is known, and its status.

    ``waits`` says what has to be known before it can be set; ``reason`` why it is left out.
    """

    entry: int
    step: Step
    status: RunStatus
    run: RunSummary | None = None
    waits: str = ""
    reason: str = ""


class AnswerKeys:
    """What steps are known by: state of the machine, whole setting and load. Each is worked out once."""

    def __init__(self, card: RigCard) -> None:
        self._card = card
        self._known: dict[int, tuple[Step, Key]] = {}
        self._numbers: dict[Fixed, int] = {}

    def of(self, step: Step) -> Key:
        """Return the key of a step."""
        found = self._known.get(id(step))
        if found is None:
            found = (step, self.at(step.variant, step.setting.over(self._card.stock), step.load))
            self._known[id(step)] = found
        return found[1]

    def at(self, variant: str, whole: Setting, load: str) -> Key:
        """Return the key of a whole setting under a load."""
        return (variant or self._card.variant, self._numbers.setdefault(fixed(whole), len(self._numbers)), load)


def fixed(whole: Setting) -> Fixed:
    """Return a setting as something hashable, whether its figures are whole numbers or not."""
    values = (getattr(whole, name) for name in whole.__struct_fields__)
    return tuple(tuple(sorted(value.items())) if isinstance(value, dict) else value for value in values)


def plan_rows(
    plan: Plan, card: RigCard, evidence: Evidence | None = None, then: Next | None = None, keys: AnswerKeys | None = None
) -> tuple[Row, ...]:
    """Return the runs of a plan in its order, with what became of them.

    ``then`` says which run a confirmation asks for next; without it that is only expected. ``keys`` may be handed on
    from one call to the next, for the same card.
    """
    return _Laying(plan, card, evidence, then, keys or AnswerKeys(card)).rows()


class _Laying:
    """One laying out of a plan's rows."""

    def __init__(self, plan: Plan, card: RigCard, evidence: Evidence | None, then: Next | None, keys: AnswerKeys) -> None:
        self._plan, self._card, self._evidence, self._then, self._keys = plan, card, evidence, then, keys
        self._own = {number for number, one in (evidence.plans if evidence is not None else {}).items() if one == plan}
        self._pool = self._answers()
        self._failures = self._failed()
        self._courses: dict[str, SearchCourse] = {}
        self._ended: set[tuple[str, str, Fixed]] = set()
        """Ladders whose rest need not be run."""
        self._taken: Counter[Key] = Counter()
        self._given: set[int] = set()
        """Runs that answer an entry whose fans follow from readings."""
        self._carried = CarriedRuns(
            plan, card, (run for runs in self._pool.values() for run in runs if run.plan_id in self._own)
        )

    def _pass_over_surplus(self) -> None:
        """Where there are more runs of a key than the plan wants, let only the latest count."""
        wanted: Counter[Key] = Counter()
        for entry in self._plan.entries:
            if isinstance(entry, Step) and not is_open(entry):
                wanted[self._keys.of(entry)] += entry.passes
        for key, runs in self._pool.items():
            self._taken[key] = max(len(runs) - wanted[key], 0) if wanted[key] else 0

    def rows(self) -> tuple[Row, ...]:
        self._pass_over_surplus()
        rows: list[Row] = []
        open_yet = False
        for index, entry in enumerate(self._plan.entries):
            match entry:
                case Step():
                    rows += self._passes(index, entry)
                    open_yet = open_yet or not rows[-1].status.closed
                case Search():
                    rows += self._searched(index, entry)
                    open_yet = open_yet or not rows[-1].status.closed if rows else open_yet
                case Confirmation() | PickRuns():
                    rows += self._confirmed(index, entry, open_yet)
                    open_yet = open_yet or any(not row.status.closed for row in rows)
        return tuple(rows)

    # -- what was measured ---------------------------------------------------------------------------------------

    def _answers(self) -> dict[Key, list[RunSummary]]:
        """Return the runs that may answer a step, by what was run, oldest first."""
        found: dict[Key, list[RunSummary]] = defaultdict(list)
        evidence = self._evidence
        for variant in (evidence.card.variant, *evidence.elsewhere) if evidence is not None else ():
            for run in evidence.in_variant(variant) if evidence is not None else ():
                mine = run.plan_id in self._own
                if run.opened_at >= self._plan.since_s and run.outcome in (NOT_MADE_AGAIN if mine else CONCLUSIVE):
                    found[self._keys.at(variant, run.setting, run.load)].append(run)
        return found

    def _failed(self) -> dict[tuple[str, str], list[Setting]]:
        """Return the settings that failed, by state of the machine and load."""
        found: dict[tuple[str, str], list[Setting]] = defaultdict(list)
        for (variant, _, load), runs in self._pool.items():
            bad = [
                run.setting
                for run in runs
                if (run.failures or run.outcome == RunOutcome.FAILED) and is_telling(run.setting) and not run.size
            ]
            if bad:
                found[variant, load] += bad
        return found

    def _implied(self, variant: str, whole: Setting, load: str) -> bool:
        failures = self._failures.get((variant or self._card.variant, load), ())
        return any(as_risky(whole, failed) for failed in failures)

    # -- single runs ---------------------------------------------------------------------------------------------

    def _passes(self, index: int, entry: Step) -> list[Row]:
        """Return the rows of a step, one a clean exposure that it takes; none is asked for once one has failed."""
        rows = [self._row(index, entry)]
        for _ in range(entry.passes - 1):
            last = rows[-1]
            if last.status in (RunStatus.FAILED, RunStatus.GUARD):
                rows.append(Row(index, last.step, RunStatus.LEFT_OUT, reason="an exposure before it failed"))
            elif last.status in (RunStatus.LEFT_OUT, RunStatus.SKIPPED):
                rows.append(msgspec.structs.replace(last, run=None))
            else:
                rows.append(self._row(index, entry))
        return rows

    def _row(self, index: int, entry: Step) -> Row:
        step = entry
        if is_open(entry):
            runs = self._evidence.in_variant(entry.variant) if self._evidence is not None else ()
            try:
                step = resolved(entry, self._card, runs, self._found)
            except NotEnoughError as error:
                return Row(index, entry, RunStatus.SKIPPED if entry.skip else RunStatus.AHEAD, waits=error.happened)
        if entry.speed_rpm or entry.level_dba is not None:
            made = self._set_as_then(index, entry, step)
            if made is not None:
                return Row(index, msgspec.structs.replace(step, setting=made.setting), status_of_row(made), made)
        run = self._watched(step) if step.watches else self._answer(self._keys.of(step), step.exposure)
        if run is None and is_open(entry):  # a search that finds its start asks for what another step had run
            run = self._made_for(index, self._keys.of(step), step.exposure)
        if run is None and entry.takes and (run := self._carried.answer(entry, step, self._answers_to)) is not None:
            step = msgspec.structs.replace(step, setting=run.setting)
        if run is not None:
            if step.until is not None and ends_ladder(step, run):
                self._ended.add(self._rung(step))
            return Row(index, step, status_of_row(run), run)
        if entry.skip:
            return Row(index, step, RunStatus.SKIPPED, reason="left out by hand")
        reason = self._needless(step)
        return Row(index, step, RunStatus.LEFT_OUT if reason else RunStatus.AHEAD, reason=reason)

    def _needless(self, step: Step) -> str:
        """Return why a step need not be run, in words; empty where it has to be."""
        if step.until is not None and self._rung(step) in self._ended:
            return ENDED_BY[step.until]
        if self._failures and self._implied(step.variant, step.setting.over(self._card.stock), step.load):
            return "as deep a setting failed at no higher a clock"
        return ""

    def _answer(self, key: Key, exposure: Exposure) -> RunSummary | None:
        runs = self._pool.get(key)
        if runs is None:
            return None
        while self._taken[key] < len(runs):
            run = runs[self._taken[key]]
            self._taken[key] += 1
            if run.run_id not in self._given and self._answers_to(run, exposure):
                return run
        return None

    def _made_for(self, index: int, key: Key, exposure: Exposure) -> RunSummary | None:
        """Return a run that was made for this very entry, at what it asks for now."""
        mine = (run for run in self._pool.get(key, ()) if run.plan_id in self._own and run.step == index)
        return next((run for run in mine if self._answers_to(run, exposure)), None)

    def _set_as_then(self, index: int, entry: Step, step: Step) -> RunSummary | None:
        """Return the run that was made for an entry whose fans follow from readings, set as they were known then: its own
        reading moves what they would be set to now."""
        groups, stock = {*entry.speed_rpm, *entry.level_groups}, self._card.stock
        wanted = _but_for_fans(step.setting.over(stock), groups)
        for (variant, _, load), runs in self._pool.items():
            if (variant, load) != (step.variant or self._card.variant, step.load):
                continue
            for run in runs:
                mine = run.plan_id in self._own and run.step == index
                alike = mine and run.run_id not in self._given and _but_for_fans(run.setting, groups) == wanted
                if alike and self._answers_to(run, step.exposure):
                    self._given.add(run.run_id)
                    return run
        return None

    def _watched(self, step: Step) -> RunSummary | None:
        """Return the latest run that was made for a rung like this one, where its ladder goes on until there: whether a fan
        turns depends on what was before."""
        if self._rung(step) in self._ended:
            return None
        found = None
        for run in self._pool.get(self._keys.of(step), ()):
            made = self._made_as(run)
            if isinstance(made, Step) and (made.watches, made.until) == (step.watches, step.until):
                found = run
        return found

    def _answers_to(self, run: RunSummary, exposure: Exposure) -> bool:
        """Return whether a run is what an exposure rule asks for: one that was made under the same rule, or lasted as
        long, or is known as well as that wants."""
        made = self._made_as(run)
        if isinstance(made, Step | Search) and made.exposure == exposure:
            return True
        return answers(run, exposure, self._card.sample_period_s)

    def _made_as(self, run: RunSummary) -> Entry | None:
        """Return the entry that a run was made for."""
        return self._evidence.entry_of(run) if self._evidence is not None else None

    def _rung(self, step: Step) -> tuple[str, str, Fixed]:
        """Return what the rungs of a ladder share."""
        if step.watches:
            return step.variant + "\n" + step.stage, step.load, (step.watches,)
        cleared = msgspec.structs.replace(step.setting.over(self._card.stock), **dict.fromkeys(CLIMBS))
        return step.variant + "\n" + step.stage, step.load, fixed(cleared)

    # -- searches ------------------------------------------------------------------------------------------------

    def _found(self, name: str) -> dict[str, float] | None:
        course = self._courses.get(name)
        return course.found if course is not None else {}

    def _searched(self, index: int, entry: Search) -> list[Row]:
        if entry.skip:
            self._courses[entry.name] = SearchCourse((), None, {}, {})
            step = rung_step(entry, entry.setting, entry.loads[0])
            return [Row(index, step, RunStatus.SKIPPED, reason="left out by hand")]
        if entry.method == SearchMethod.STRUCTURED:
            return self._structured(index, entry)
        rows: list[Row] = []
        runs = 0

        def known(setting: Setting) -> bool | None:
            nonlocal runs
            answer, made = self._rung_rows(index, entry, setting)
            rows.extend(made)
            runs += len(made)
            return False if answer is None and runs >= entry.max_runs else answer

        course = follow(entry, self._card.stock, known)
        self._courses[entry.name] = self._no_deeper(entry, course)
        if course.ahead is None:
            return rows

        def guessed(setting: Setting) -> bool:
            answer, made = self._rung_rows(index, entry, setting)
            if answer is None:
                done = sum(row.status.closed for row in made)
                answer = expected_to_pass(entry, setting)
                steps = list(rung_steps(entry, setting))[done:]
                later = RunStatus.EXPECTED if any(not row.status.closed for row in rows) else RunStatus.AHEAD
                for step in steps if answer else steps[:1]:
                    rows.append(Row(index, as_foreseen(entry, step, answer) if later == RunStatus.EXPECTED else step, later))
                    later = RunStatus.EXPECTED
            return answer

        rows = [row for row in rows if row.status.closed]
        follow(entry, self._card.stock, guessed)
        return rows[: max(entry.max_runs, 1)]

    def _structured(self, index: int, entry: Search) -> list[Row]:
        """Return the exposures of a structured search: those made, the next, and those that are expected."""
        stand = stand_of(entry, self._card, self._evidence, self._plan.since_s)
        self._courses[entry.name] = SearchCourse((), None, stand.found, stand.found)
        rows = [Row(index, rung_step(entry, run.setting, run.load), status_of_row(run), run) for run in stand.made]
        if stand.found is None:
            ahead, *expected = stand.ahead
            rows.append(Row(index, ahead, RunStatus.AHEAD))
            rows += [Row(index, step, RunStatus.EXPECTED) for step in expected]
        return rows

    def _no_deeper(self, entry: Search, course: SearchCourse) -> SearchCourse:
        """Return where a search stands, with nothing found that is deeper than the failure law recommends."""
        if course.found is None or not finds_one_depth(entry):
            return course
        value = safe_value(entry, self._card, self._evidence, self._plan.since_s)
        if value is None:
            return course
        gentler = max if entry.deepest < entry.start else min
        return msgspec.structs.replace(course, found={name: gentler(one, value) for name, one in course.found.items()})

    def _rung_rows(self, index: int, entry: Search, setting: Setting) -> tuple[bool | None, list[Row]]:
        """Return whether a rung passes (``None``: not known yet), and the rows of its runs so far."""
        whole = setting.over(self._card.stock)
        rows: list[Row] = []
        for load in entry.loads:
            runs = self._pool.get(self._keys.at("", whole, load), [])
            fitting = [run for run in runs if self._answers_to(run, entry.exposure)]
            bad = next((run for run in fitting if status_of_row(run) != RunStatus.DONE), None)
            shown = fitting[-entry.passes :] if bad is None else [bad]
            rows += [Row(index, rung_step(entry, setting, load), status_of_row(run), run) for run in shown]
            if bad is not None:
                return False, rows
            if self._implied("", whole, load):
                return False, rows
            if len(shown) < entry.passes:
                return None, rows
        return True, rows

    # -- confirmations -------------------------------------------------------------------------------------------

    def _runs_of(self, index: int) -> list[RunSummary]:
        """Return the runs that this plan's entry has had, as far as they say something."""
        runs = self._evidence.runs if self._evidence is not None else ()
        return [run for run in runs if run.plan_id in self._own and run.step == index and run.outcome in NOT_MADE_AGAIN]

    def _confirmed(self, index: int, entry: Confirmation | PickRuns, open_yet: bool) -> list[Row]:
        """Return the runs that followed from the pick, the next, and those that are expected."""
        mine = self._runs_of(index)
        rows = [Row(index, run_as_made(entry, run), status_of_row(run), run) for run in mine]
        expected = [Row(index, step, RunStatus.EXPECTED) for step in expected_runs(entry, self._card, len(mine))]
        if entry.skip:
            return rows or [Row(index, expected[0].step, RunStatus.SKIPPED, reason="left out by hand")]
        if not confirm_s_of(entry) and self._later_began(index):  # what came after rests on it: it is not taken up again
            return rows
        if open_yet or self._then is None:
            return rows if rows and self._then is None else [*rows, *expected]
        following = self._then(entry, len(mine))
        return rows if following is None else [*rows, Row(index, following, RunStatus.AHEAD), *expected[1:]]

    def _later_began(self, index: int) -> bool:
        """Return whether a run of this plan was made for an entry after this one."""
        runs = self._evidence.runs if self._evidence is not None else ()
        return any(run.plan_id in self._own and run.step > index for run in runs)


def _but_for_fans(whole: Setting, groups: set[str]) -> Setting:
    duties = {group: duty for group, duty in whole.fan_duty.items() if group not in groups}
    return msgspec.structs.replace(whole, fan_duty=duties)


def status_of_row(run: RunSummary) -> RunStatus:
    """Return how a run that answers a step stands."""
    if run.failures or run.outcome == RunOutcome.FAILED:
        return RunStatus.FAILED
    ended = {RunOutcome.GUARD: RunStatus.GUARD, RunOutcome.SKIPPED: RunStatus.SKIPPED}
    return ended.get(run.outcome, RunStatus.DONE) if run.outcome is not None else RunStatus.DONE


def answers(run: RunSummary, exposure: Exposure, period_s: float) -> bool:
    """Return whether a run lasted, or came to be known, as an exposure rule wants; one that did not end itself does."""
    if run.outcome != RunOutcome.DONE or run.failures:
        return True
    if run.seconds < exposure.min_s - 1.5 * period_s:
        return False
    if exposure.known_to_k is None or run.seconds >= exposure.max_s - 1.5 * period_s:
        return True
    return run.settled.known_to(exposure.known_to_k)
