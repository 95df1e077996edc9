"""What a run in the book amounts to: its settled temperature, means, hold, and what went wrong, from its samples."""

import math
import re
from pathlib import Path
from typing import Any

import msgspec
import numpy as np

from niente.core.analysis.channel_means import JUMPS, ChannelMean, channel_means
from niente.core.analysis.settled_readings import BURST_S, SOURCES, settled_beside, warmed_late
from niente.core.model.frame import RigEventKind
from niente.core.model.names import kind_of
from niente.core.model.plan import Entry, Plan
from niente.core.model.quantities import QUANTITIES
from niente.core.model.rig_card import CountedTemperature, LoadKind, RigCard
from niente.core.model.runs import CONCLUSIVE, RunKind, RunOutcome
from niente.core.model.setting import Setting
from niente.core.science.acoustics import level_mean
from niente.core.science.arrays import Array, Codes, Vector
from niente.core.science.clock_limiter import ClockLimiter, limiter_shares, limiters_from_readings
from niente.core.science.exponentials import TimeConstant, time_constants
from niente.core.science.settling import Settled, learn, not_yet, settle
from niente.core.science.spikes import without_spikes
from niente.core.science.statistics import Z95, mean_by_work, mean_of_known, mean_with_error
from niente.core.storage.connection import damaged
from niente.core.storage.kinds import READING
from niente.core.storage.reader import BookEvent, BookReader, RunRecord

TAIL_S = 240.0
"""Means of power, clock, throughput and noise are taken over the last samples of a run, this many seconds of them."""
TEACHES_S = 420.0
"""A run this long or longer teaches the next ones about the slow time constants."""
HAND_READING_SE_DB = 0.5
"""How well a level is read off a meter that moves, as a standard error. Common practice, no source."""
CORE_NAMED = re.compile(r"\bcore (\d{1,3})\b")
"""How an error says in words which core it comes from."""
FAILURES = frozenset({RigEventKind.WRONG_RESULT, RigEventKind.DROP_OUT, RigEventKind.CRASH, RigEventKind.SHUT_DOWN})


class RunSummary(msgspec.Struct, frozen=True):
    """One run, summed up. Means are over its last minutes, of levels as energies, of a clock by the work that is done where
    that comes in bursts; ``*_se`` are standard errors.

    ``core_c`` is what the temperature that counts read then, settled or not; ``sources_w`` the heat that is metered beside
    the package's. ``heat_limited`` says that the firmware's temperature cap limited the clock: the settled temperature is
    then the cap and only bounds the heat path. ``clean_s`` are seconds under the load, ``failures`` what went wrong in them,
    ``crashed`` whether that took the machine down, ``failed_cores`` the cores that its errors named; ``at_s`` is the rig's time
    at its end. ``channels`` are all channels in the last minutes, ``highest`` what each quantity came to in the whole run, by
    its name; ``beside`` is where air, coolant, board and graphics settle, by channel; ``follows`` says why it was made, where
    that followed from other runs.
    """

    run_id: int
    plan_id: int
    step: int
    setting: Setting
    load: str
    load_kind: LoadKind
    outcome: RunOutcome | None
    seconds: float
    settled: Settled
    room_c: float
    power_w: float
    clock_mhz: float
    throughput_per_s: float
    noise_dba: float
    noise_se_db: float
    fan_rpm: dict[str, float]
    limiter_shares: dict[str, float]
    failures: int
    opened_at: float = 0.0
    variant: str = ""
    core_c: float = math.nan
    throughput_se: float = math.nan
    at_s: float = math.nan
    voltage_v: float = math.nan
    sources_w: dict[str, float] = msgspec.field(default_factory=dict)
    crashed: bool = False
    failed_cores: tuple[str, ...] = ()
    channels: dict[str, ChannelMean] = msgspec.field(default_factory=dict)
    highest: dict[str, float] = msgspec.field(default_factory=dict)
    beside: dict[str, Settled] = msgspec.field(default_factory=dict)
    follows: str = ""

    @property
    def running(self) -> bool:
        """Whether the run is still open."""
        return self.outcome is None

    @property
    def size(self) -> float:
        """How many of its voices or streams the load ran; 0 where it took all that it got."""
        return self.setting.load_size.get(self.load, 0.0)

    @property
    def noise_hw_db(self) -> float:
        """The 95 % half width of the level in the room, dB."""
        return Z95 * self.noise_se_db

    @property
    def rise_k(self) -> float:
        """The settled rise of the hottest core over the (lagged) room, K."""
        return self.settled.value_c - self.settled.room_c

    @property
    def heat_limited(self) -> bool:
        """Whether heat limited the clock for more than a twentieth of the last minutes."""
        return self.limiter_shares.get(ClockLimiter.TEMPERATURE_CAP.words, 0.0) > 0.05

    @property
    def power_limited(self) -> bool:
        """Whether the sustained limit limited the clock for most of the last minutes."""
        return self.limiter_shares.get(ClockLimiter.SUSTAINED_LIMIT.words, 0.0) > 0.5


def hottest_core(card: RigCard, values: Array, samples: int = 60) -> int | None:
    """Return the channel of the core that was hottest on average over the last samples of ``values`` ``(n, channels)``.

    Average first, then take the maximum: the maximum of twelve noisy sensors reads high. ``None`` without readings.
    """
    indices = card.indices("core_temperature_c")
    if not indices or values.shape[0] == 0:
        return None
    recent = values[-samples:, indices]
    alive = np.isfinite(recent).any(axis=0)
    if not alive.any():
        return None
    means = np.full(len(indices), -np.inf)
    means[alive] = np.nanmean(recent[:, alive], axis=0)
    return indices[int(np.argmax(means))]


def column(card: RigCard, values: Array, name: str) -> Vector:
    """Return one channel's readings ``(n,)``; NaN where the rig has no such channel."""
    index = card.index(name)
    return values[:, index] if index is not None else np.full(values.shape[0], np.nan)


def trusted(card: RigCard, values: Array) -> Array:
    """Return readings ``(n, channels)`` as the person trusts them: offsets and gains that are known taken out."""
    if not card.trust:
        return values
    corrections = [card.trust_in(channel.name) for channel in card.channels]
    offset, gain = np.array([trust.offset for trust in corrections]), np.array([trust.gain for trust in corrections])
    corrected: Array = (values - offset) / gain
    return corrected


def counted(card: RigCard, values: Array) -> Vector | None:
    """Return the temperature that counts ``(n,)``: the hottest core's (averaged first), the mean of the cores', or the
    package's; ``None`` where nothing of it is read."""
    if card.counts == CountedTemperature.PACKAGE:
        package = column(card, values, "package_temperature_c")
        return package if np.isfinite(package).any() else None
    hot = hottest_core(card, values)
    if hot is None:
        return None
    if card.counts == CountedTemperature.MEAN:
        cores = values[:, list(card.indices("core_temperature_c"))]
        read = np.isfinite(cores)
        total, many = np.where(read, cores, 0.0).sum(axis=1), read.sum(axis=1)
        mean: Vector = np.where(many > 0, total / np.maximum(many, 1), np.nan)
        return mean
    hottest: Vector = values[:, hot]
    return hottest


def settled_so_far(card: RigCard, time_s: Vector, values: Array, slow_prior: tuple[float, ...] = ()) -> Settled:
    """Return where the temperature that counts settles, from a run's samples so far: ``(n,)`` and ``(n, channels)``."""
    values = trusted(card, values)
    core = counted(card, values)
    if core is None:
        return not_yet("no core temperature is read")
    from_burst = int(np.searchsorted(time_s - (time_s[0] if time_s.size else 0.0), BURST_S))
    room = without_spikes(column(card, values, "room_temperature_c"), JUMPS["room_temperature_c"])
    core = without_spikes(core, JUMPS["core_temperature_c"])
    settled = settle(time_s[from_burst:], core[from_burst:], room[from_burst:], slow_prior)
    return warmed_late(settled, card, time_s, values)


def time_constants_of_run(card: RigCard, time_s: Vector, values: Array) -> tuple[TimeConstant, ...]:
    """Return the time constants that a run's samples, ``(n,)`` and ``(n, channels)``, are long enough to tell."""
    values = trusted(card, values)
    core = counted(card, values)
    if core is None:
        return ()
    first = int(np.searchsorted(time_s - (time_s[0] if time_s.size else 0.0), BURST_S))
    return time_constants(time_s[first:], core[first:], column(card, values, "room_temperature_c")[first:])


def limiters_of(card: RigCard, values: Array, setting: Setting, load: str = "") -> Codes:
    """Return what limits the clock at each sample of ``values`` ``(n, channels)``, codes of ``ClockLimiter``.

    What the load is lets more be told: the heaviest ones take all the clock they get, steadily.
    """
    known = card.load(load)
    steady = known is not None and known.kind == LoadKind.HEAVY
    indices = card.indices("core_temperature_c")
    cores = values[:, indices] if indices else np.full((values.shape[0], 1), np.nan)
    hottest = np.where(np.isfinite(cores).any(axis=1), np.nanmax(np.where(np.isfinite(cores), cores, -np.inf), axis=1), np.nan)
    whole = setting.over(card.stock)
    return limiters_from_readings(
        hottest,
        column(card, values, "package_power_w"),
        column(card, values, "effective_clock_mhz"),
        column(card, values, "throughput_per_s") if steady else None,
        cap_c=whole.temperature_cap_c,
        limit_w=whole.sustained_power_w,
        clock_cap_mhz=_lowest(whole.clock_cap_mhz, whole.fixed_clock_mhz),
        burst_w=whole.burst_power_w,
        takes_all=steady,
    )


def _lowest(*clocks_mhz: float | None) -> float | None:
    """Return the lowest of the clocks that are in force; a fixed clock of 0 is none."""
    in_force = [clock for clock in clocks_mhz if clock]
    return min(in_force) if in_force else None


def summarise(
    card: RigCard,
    run: RunRecord,
    time_s: Vector,
    values: Array,
    failures: int,
    slow_prior: tuple[float, ...] = (),
    by_hand: dict[str, float] | None = None,
) -> RunSummary:
    """Sum a run up from its samples, ``time_s`` ``(n,)`` and ``values`` ``(n, channels)``.

    ``slow_prior`` is what the runs before it taught about the slow time constants (see ``science.settling``); ``by_hand``
    what hands read at its end, by channel, where no cable does.
    """
    load = card.load(run.load)
    kind = load.kind if load is not None else LoadKind.IDLE
    whole = run.setting.over(card.stock)
    believed = trusted(card, values)
    if time_s.shape[0]:
        span = min(TAIL_S, float(time_s[-1] - time_s[0]) / 2)
        tail = believed[time_s >= time_s[-1] - span]
        seconds = float(time_s[-1] - time_s[0]) + card.sample_period_s
    else:
        tail, seconds = values, 0.0
    idle = kind == LoadKind.IDLE
    settled = not_yet("an idle run has no settled load") if idle else settled_so_far(card, time_s, values, slow_prior)
    noise, noise_se = level_mean(without_spikes(column(card, tail, "noise_dba"), JUMPS["noise_dba"]))
    work = column(card, tail, "throughput_per_s")
    throughput, throughput_se = mean_with_error(work)
    if by_hand and "noise_dba" in by_hand:
        noise, noise_se = by_hand["noise_dba"], HAND_READING_SE_DB
    core = counted(card, tail)
    limiters = limiter_shares(limiters_of(card, tail, whole, run.load)) if kind != LoadKind.IDLE else {}
    return RunSummary(
        run_id=run.id,
        plan_id=run.plan_id,
        step=run.step,
        setting=whole,
        load=run.load,
        load_kind=kind,
        outcome=run.outcome,
        seconds=seconds,
        settled=settled,
        room_c=mean_of_known(without_spikes(column(card, tail, "room_temperature_c"), JUMPS["room_temperature_c"])),
        power_w=mean_of_known(column(card, tail, "package_power_w")),
        clock_mhz=mean_by_work(column(card, tail, "effective_clock_mhz"), work),
        throughput_per_s=throughput,
        throughput_se=throughput_se,
        at_s=float(time_s[-1]) if time_s.shape[0] else math.nan,
        noise_dba=noise,
        noise_se_db=noise_se,
        fan_rpm={group: mean_of_known(column(card, tail, f"fan_speed_rpm.{group}")) for group in card.fan_groups()},
        limiter_shares={limiter.words: share for limiter, share in limiters.items()},
        failures=failures,
        opened_at=run.opened_at,
        follows=run.follows,
        variant=card.variant,
        core_c=mean_of_known(core) if core is not None else math.nan,
        voltage_v=mean_of_known(column(card, tail, "core_voltage_v")),
        channels=channel_means(card, tail),
        beside={} if idle else settled_beside(card, time_s, believed),
        highest=_highest(card, believed),
        sources_w={name: mean_of_known(column(card, tail, name)) for name in SOURCES if card.index(name) is not None},
    )


def _highest(card: RigCard, values: Array) -> dict[str, float]:
    """Return the highest reading of each quantity in a run's samples ``(n, channels)``; of what jumps, without the jumps."""
    found: dict[str, float] = {}
    for index, channel in enumerate(card.channels):
        name = kind_of(channel.name)
        jump = JUMPS.get(name)
        readings = without_spikes(values[:, index], jump) if jump is not None else values[:, index]
        if np.isfinite(readings).any():
            found[name] = max(found.get(name, -math.inf), float(np.nanmax(readings)))
    return found


class Evidence(msgspec.Struct, frozen=True):
    """Everything measured on one rig so far: its card, and its runs in the variant it is in, summed up, oldest first.

    ``slow_prior`` is what they teach the next run about the slow time constants. ``elsewhere`` are the runs in its other
    variants, by variant; ``plans`` the plans that runs were made for, by number.
    """

    card: RigCard
    runs: tuple[RunSummary, ...]
    slow_prior: tuple[float, ...] = ()
    elsewhere: dict[str, "Evidence"] = msgspec.field(default_factory=dict)
    plans: dict[int, Plan] = msgspec.field(default_factory=dict)

    def in_variant(self, variant: str) -> tuple[RunSummary, ...]:
        """Return the runs in a variant of the machine; those in the present one for an empty name."""
        if variant in ("", self.card.variant):
            return self.runs
        other = self.elsewhere.get(variant)
        return other.runs if other is not None else ()

    def entry_of(self, run: RunSummary) -> Entry | None:
        """Return the entry of the plan that a run was made for; ``None`` where that is not known."""
        plan = self.plans.get(run.plan_id)
        return plan.entries[run.step] if plan is not None and 0 <= run.step < len(plan.entries) else None

    def usable(self) -> list[RunSummary]:
        """Return the runs that say something: those that came to their own end, and failures of the machine."""
        return [run for run in self.runs if run.outcome in CONCLUSIVE]


def evidence_in(book: Path, known: Evidence | None = None) -> Evidence | None:
    """Sum up a book that lies in a file; see ``gather``. Raises ``BookError`` where it is none."""
    reader = BookReader(book)
    try:
        return gather(reader, known)
    finally:
        reader.close()


def gather(book: BookReader, known: Evidence | None = None) -> Evidence | None:
    """Sum up every measuring run of a book; ``None`` where it has no rig yet.

    ``known`` is what was summed up before: on the same card its closed runs are taken over and not computed again.
    """
    cards = book.cards()
    if not cards:
        return None
    latest = {card.variant: card for card in cards.values()}
    first, now = next(iter(cards.values())), next(reversed(cards.values()))
    runs: dict[str, list[RunRecord]] = {variant: [] for variant in latest}
    for run in book.runs():
        if run.kind == RunKind.STEP:
            runs[(cards.get(run.card_id, first) if run.card_id is not None else first).variant].append(run)
    before = {known.card.variant: known, **known.elsewhere} if known is not None else {}
    found = {variant: _summed_up(book, card, runs[variant], before.get(variant)) for variant, card in latest.items()}
    here = found.pop(now.variant)
    others = {variant: other for variant, other in found.items() if other.runs}
    plans = dict(known.plans) if known is not None else {}
    plans |= book.plans(after=max(plans, default=0))
    return Evidence(here.card, here.runs, here.slow_prior, others, plans)


def _summary_of(book: BookReader, card: RigCard, run: RunRecord, slow_prior: tuple[float, ...]) -> RunSummary:
    happened = book.events(run)
    failures = sum(1 for event in happened if event.kind in FAILURES)
    if run.outcome == RunOutcome.FAILED:  # a person may have judged it so, of whom there is no event of the rig's
        failures = max(failures, 1)
    by_hand = _by_hand(book, [event.body for event in happened if event.kind == READING])
    summary = summarise(card, run, *_possible(book, card, run), failures, slow_prior, by_hand)
    said = {event.kind for event in happened if event.kind in FAILURES}
    crashed = RigEventKind.CRASH in said or not said  # it failed and nothing said how: it was lost
    return msgspec.structs.replace(summary, crashed=crashed, failed_cores=_cores_named(happened)) if failures else summary


def _cores_named(happened: list[BookEvent]) -> tuple[str, ...]:
    """Return the cores that errors named, "1" the first."""
    told = [str(event.body) for event in happened if event.kind in FAILURES]
    return tuple(dict.fromkeys(core for text in told for core in CORE_NAMED.findall(text)))


def _by_hand(book: BookReader, bodies: list[Any]) -> dict[str, float]:
    """Return what hands read, by channel. Raises ``BookError`` for what is no reading."""
    try:
        return {str(body["channel"]): float(body["value"]) for body in bodies}
    except (TypeError, KeyError, ValueError) as error:
        raise damaged(book.path, error) from error


def _possible(book: BookReader, card: RigCard, run: RunRecord) -> tuple[Vector, Array]:
    """Return the samples of a run by the channels of a card; a reading that cannot be is none. Raises ``BookError`` where the
    times do not go on."""
    names = [channel.name for channel in card.channels]
    time_s, values = book.frames(run, names)
    if not np.all(np.isfinite(time_s)) or np.any(np.diff(time_s) <= 0.0):
        raise damaged(book.path, ValueError(f"the times of run {run.id} do not go on"))
    known = [QUANTITIES.get(kind_of(name)) for name in names]
    low = np.array([-np.inf if one is None else one.low for one in known])
    high = np.array([np.inf if one is None else one.high for one in known])
    with np.errstate(invalid="ignore"):
        impossible = (values < low) | (values > high)
    return time_s, np.where(impossible, np.nan, values) if np.any(impossible) else values


def _summed_up(book: BookReader, card: RigCard, records: list[RunRecord], known: Evidence | None) -> Evidence:
    """Sum up the runs of one variant, oldest first; each teaches the next."""
    before = {run.run_id: run for run in known.runs} if known is not None and known.card == card else {}
    runs: list[RunSummary] = []
    slow_prior: tuple[float, ...] = ()
    for run in records:
        summary = before.get(run.id)
        if summary is None or summary.running or summary.outcome != run.outcome:
            summary = _summary_of(book, card, run, slow_prior)
        if summary.outcome == RunOutcome.DONE and summary.seconds >= TEACHES_S:
            slow_prior = learn(slow_prior, summary.settled)
        runs.append(summary)
    return Evidence(card, tuple(runs), slow_prior)
