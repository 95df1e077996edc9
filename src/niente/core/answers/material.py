"""What an answer is worked out from: the plan that asked, its runs, and what all readings come to."""

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from niente.core.analysis.channel_means import ChannelMean
from niente.core.analysis.evidence import Evidence, RunSummary
from niente.core.analysis.model_runs import goes_on
from niente.core.analysis.models import Models
from niente.core.model.answer_document import AnswerState, RestsOn, Value, value_of
from niente.core.model.limits import Limits
from niente.core.model.names import kind_of
from niente.core.model.plan import Plan, Step
from niente.core.model.quantities import duration_text, number_text
from niente.core.model.question import Question
from niente.core.model.rig_card import LoadCard, LoadKind, RigCard
from niente.core.model.runs import RunOutcome
from niente.core.planning.progress import Row, RunStatus
from niente.core.science.arrays import Vector
from niente.core.science.clock_limiter import ClockLimiter
from niente.core.science.statistics import Z95
from niente.core.selection.answer import Answer

LEAKS_PER_K = 0.003
"""By how much of itself package power still grows a kelvin, by leakage alone: what a run that has not settled leaves open."""
CLOCK_PER_POWER = 0.4
"""A clock that a limit holds moves by so much of the power's share (power goes about with the clock's power of 2.5)."""
EXPECTED_DEGREES = 4
IDLE_K, HELD_K = 0.5, 0.6
"""How well a mean of an idle machine's last minutes is known, and of a core that a cap holds: its control swings a little."""
USELESS_K = 10.0
"""A forecast that is known no better than this says nothing."""
KWH_A_DAY = 0.024
"""What a watt comes to in a day."""
LEAST_SHARE = 0.05
"""What limits the clock for less of the time is not named."""


@dataclass(frozen=True)
class AnswerMaterial:
    """One question of a book: the plan that asks it, the rows of that plan, and what the readings come to.

    ``question`` is what the plan follows from, where that is known; ``settle`` returns where a channel of a run settles,
    ``samples`` its readings: times in s and values ``(n,)``, the rig's own clock.
    """

    title: str
    plan: Plan
    rows: tuple[Row, ...]
    findings: Answer
    limits: Limits
    question: Question | None
    settle: Callable[[RunSummary, str], Value]
    samples: Callable[[RunSummary, str], tuple[Vector, Vector]]

    @property
    def evidence(self) -> Evidence:
        """The book, summed up."""
        assert self.findings.evidence is not None
        return self.findings.evidence

    @property
    def card(self) -> RigCard:
        """The machine as it is now."""
        return self.evidence.card

    @property
    def models(self) -> Models | None:
        """What was fitted; ``None`` while there are too few runs."""
        return self.findings.models

    @property
    def runs(self) -> list[RunSummary]:
        """The runs that were made for the question, in the order of its plan."""
        return [row.run for row in self.rows if row.run is not None]

    def stage(self, *names: str) -> list[Row]:
        """Return the rows of some stages that have a run which came to its own end without a failure."""
        return [
            row
            for row in self.rows
            if row.run is not None and row.status == RunStatus.DONE and (not names or row.step.stage in names)
        ]

    def asked(self, row: Row) -> Step:
        """Return what a row asks for: where that is a speed or a level of the fans, that, and not how they were set for it."""
        entry = self.plan.entries[row.entry]
        return entry if isinstance(entry, Step) and (entry.speed_rpm or entry.level_dba is not None) else row.step

    def taken(self, search: str) -> list[Row]:
        """Return the rows of steps that take what a search found, where that is known."""
        entries = {index for index, entry in enumerate(self.plan.entries) if isinstance(entry, Step) and entry.takes == search}
        return [row for row in self.rows if row.entry in entries and not row.waits]

    @property
    def done(self) -> int:
        """How many of the runs need not be made any more."""
        return sum(row.status.closed for row in self.rows)

    @property
    def state(self) -> AnswerState:
        """How far the answer is."""
        if not self.runs:
            return AnswerState.NOTHING
        return AnswerState.COMPLETE if self.done == len(self.rows) else AnswerState.GROWING

    def basis(self, more: Sequence[RestsOn] = ()) -> tuple[RestsOn, ...]:
        """Return what every answer rests on: how many runs, hours and rooms; and what else is given."""
        runs = self.runs
        rooms = [run.room_c for run in runs if math.isfinite(run.room_c)]
        guarded = sum(run.outcome == RunOutcome.GUARD for run in runs)
        found = [
            RestsOn("Runs", f"{self.done} of {len(self.rows)}"),
            RestsOn("Bench time so far", duration_text(sum(run.seconds for run in runs))),
        ]
        if rooms:
            low, high = number_text(min(rooms), 1), number_text(max(rooms), 1)
            found.append(RestsOn("Room", low if low == high else f"{low} to {high}", "°C"))
        if guarded:
            found.append(RestsOn("Ended by a guard", f"{guarded}", "runs"))
        return (*found, *more)


def load_card(card: RigCard, load: str) -> LoadCard:
    """Return a load of a rig; one that it does not know any more by its bare name."""
    return card.load(load) or LoadCard(load, load, LoadKind.REALISTIC)


def by_load(rows: Sequence[Row]) -> dict[str, list[RunSummary]]:
    """Return the runs of rows by load, in the order in which loads come first."""
    found: dict[str, list[RunSummary]] = {}
    for row in rows:
        if row.run is not None:
            found.setdefault(row.run.load, []).append(row.run)
    return found


def main_limiter(run: RunSummary) -> str:
    """Return what limits the clock for most of a run's last minutes; empty where nothing is read."""
    shares = {words: share for words, share in run.limiter_shares.items() if share >= LEAST_SHARE}
    return max(shares, key=lambda words: shares[words]) if shares else ""


def names_limit(words: str) -> bool:
    """Return whether a limiter's name says what limits a clock."""
    return words not in ("", ClockLimiter.UNKNOWN.words, ClockLimiter.NOTHING.words)


def settled_core(run: RunSummary) -> Value:
    """Return where the temperature that counts settles; where a cap holds it, what it reads. An idle run's last minutes are its
    settled state; of one that cannot be foreseen there is no interval."""
    if run.load_kind == LoadKind.IDLE:
        return value_of(run.core_c, IDLE_K)
    if run.heat_limited:
        return value_of(run.core_c, HELD_K)
    if run.settled.known and run.settled.half_width_k <= USELESS_K:
        return value_of(run.settled.value_c, run.settled.half_width_k)
    return value_of(run.core_c)


def rise_of(run: RunSummary, settled: Value | None = None) -> Value:
    """Return by how many kelvin the temperature that counts settles over the room; ``settled`` where that is known better."""
    core, room = settled or settled_core(run), run.settled.room_c if run.settled.known else run.room_c
    if core.value is None or not math.isfinite(room):
        return Value()
    return value_of(core.value - room, core.half_width)


def power_in(run: RunSummary, channel: str = "package_power_w") -> Value:
    """Return a power in W as it stands once the run has settled: what leakage may still add is in the interval."""
    read = run.channels.get(channel, ChannelMean())
    return value_of(read.mean, math.hypot(read.half_width, LEAKS_PER_K * read.mean * _unsettled_k(run), _goes_on(run, read)))


def wall_in(run: RunSummary) -> Value:
    """Return the power at the wall in W, likewise."""
    return power_in(run, "wall_power_w")


def clock_of(run: RunSummary) -> Value:
    """Return the effective clock in MHz, likewise."""
    read = run.channels.get("effective_clock_mhz", ChannelMean())
    still = LEAKS_PER_K * CLOCK_PER_POWER * read.mean * _unsettled_k(run) if _held(run) else 0.0
    return value_of(read.mean, math.hypot(read.half_width, still, _goes_on(run, read)))


def work_of(run: RunSummary) -> Value:
    """Return the throughput in the load's own unit, likewise."""
    read = run.channels.get("throughput_per_s", ChannelMean())
    still = LEAKS_PER_K * CLOCK_PER_POWER * read.mean * _unsettled_k(run) if _held(run) else 0.0
    return value_of(read.mean, math.hypot(read.half_width, still, _goes_on(run, read)))


def noise_of_run(run: RunSummary) -> Value:
    """Return the level in the room in dBA."""
    return value_of(run.noise_dba, run.noise_hw_db if math.isfinite(run.noise_se_db) else None)


def _goes_on(run: RunSummary, read: ChannelMean) -> float:
    """Return by how much a reading of a run that heat limits may still move: its temperature is the cap and says nothing of
    what panels and air still have to give off or take up, but the clock goes on as they do."""
    return abs(read.moved) * goes_on(run) if run.heat_limited else 0.0


def _held(run: RunSummary) -> bool:
    return run.power_limited or run.heat_limited


def _unsettled_k(run: RunSummary) -> float:
    """Return by how many kelvin a run's last minutes may lie from where it settles."""
    settled = settled_core(run)
    if settled.value is None:
        return 0.0
    return abs(settled.value - run.core_c) + (settled.half_width if settled.half_width is not None else USELESS_K)


def mean_of_cores(run: RunSummary) -> Value:
    """Return where the mean of the cores settles (°C): as far from its last minutes as the temperature that counts."""
    cores = [one.mean for name, one in run.channels.items() if kind_of(name) == "core_temperature_c"]
    return _with_counted(run, sum(cores) / len(cores)) if cores else Value()


def hottest_settled(run: RunSummary) -> Value:
    """Return where the hottest core settles (°C), whichever temperature counts."""
    cores = [one.mean for name, one in run.channels.items() if kind_of(name) == "core_temperature_c"]
    return _with_counted(run, max(cores)) if cores else Value()


def package_settled(run: RunSummary) -> Value:
    """Return where the package's sensor settles (°C)."""
    read = run.channels.get("package_temperature_c")
    return _with_counted(run, read.mean) if read is not None else Value()


def _with_counted(run: RunSummary, mean_c: float) -> Value:
    """Return where a reading of the processor settles that moves as the temperature that counts does."""
    settled = settled_core(run)
    if settled.value is None:
        return value_of(mean_c)
    return value_of(mean_c + settled.value - run.core_c, settled.half_width)


def peak_of(run: RunSummary) -> float | None:
    """Return the highest reading of any core in a run's last minutes (°C)."""
    cores = [one.highest for name, one in run.channels.items() if kind_of(name) == "core_temperature_c"]
    return max(cores) if cores else None


def cores_apart(run: RunSummary) -> float | None:
    """Return by how many kelvin the hottest core's mean lies over the coolest one's."""
    cores = [one.mean for name, one in run.channels.items() if kind_of(name) == "core_temperature_c"]
    return max(cores) - min(cores) if len(cores) > 1 else None


def leading_core(run: RunSummary) -> str:
    """Return the number of the hottest core; empty without readings."""
    cores = {name: one.mean for name, one in run.channels.items() if kind_of(name) == "core_temperature_c"}
    return max(cores, key=lambda name: cores[name]).rpartition(".")[2] if cores else ""


def pooled(values: Sequence[Value]) -> Value:
    """Return the mean of figures of runs that were made alike, with the half width that they have together.

    How they scatter is known beforehand as well as from four degrees of freedom, by their own intervals, and by each run more
    (a scaled inverse chi-squared prior; Gelman and others, Bayesian Data Analysis, 3.3; from memory).
    """
    known = [one for one in values if one.value is not None]
    if not known:
        return Value()
    count = len(known)
    mean = sum(one.value for one in known if one.value is not None) / count
    widths = [one.half_width for one in known]
    if any(width is None for width in widths):
        return value_of(mean)
    own = math.sqrt(sum(width * width for width in widths if width is not None)) / count
    if count < 2:
        return value_of(mean, own)
    from scipy.stats import t

    squares = sum((one.value - mean) ** 2 for one in known if one.value is not None)
    expected = sum((width / Z95) ** 2 for width in widths if width is not None) / count
    degrees = EXPECTED_DEGREES + count - 1
    scatter = math.sqrt((EXPECTED_DEGREES * expected + squares) / degrees)
    return value_of(mean, float(t.ppf(0.975, degrees)) * scatter / math.sqrt(count))


def pooled_over(reading: Callable[[RunSummary], Value], runs: Sequence[RunSummary]) -> Value:
    """Return a reading of runs that were made alike."""
    return pooled([reading(run) for run in runs])


def against(reading: Callable[[RunSummary], Value], here: Sequence[RunSummary], there: Sequence[RunSummary]) -> Value:
    """Return by how much a reading of some runs lies over that of others."""
    return minus(pooled_over(reading, here), pooled_over(reading, there))


def times(value: Value, factor: float) -> Value:
    """Return a figure so many times as large."""
    if value.value is None:
        return Value()
    return value_of(value.value * factor, value.half_width * abs(factor) if value.half_width is not None else None)


def minus(value: Value, other: Value) -> Value:
    """Return the difference of two figures that were measured apart from each other."""
    if value.value is None or other.value is None:
        return Value()
    widths = value.half_width, other.half_width
    if widths[0] is None or widths[1] is None:
        return value_of(value.value - other.value)
    return value_of(value.value - other.value, math.hypot(widths[0], widths[1]))


def share_of(value: Value, other: Value) -> Value:
    """Return a figure in per cent of another one."""
    if value.value is None or not other.value:
        return Value()
    percent = 100.0 * value.value / other.value
    widths = value.half_width, other.half_width
    if widths[0] is None or widths[1] is None or not value.value:
        return value_of(percent)
    return value_of(percent, percent * math.hypot(widths[0] / value.value, widths[1] / other.value))
