"""The strip: every sample since a rig was attached, with what follows from it, ready to be drawn at any width."""

from collections.abc import Sequence

import msgspec
import numpy as np

from niente.core.acquisition.samples import Samples
from niente.core.analysis.evidence import limiters_of
from niente.core.model.frame import Frame, RigEventKind
from niente.core.model.plan import Step
from niente.core.model.rig_card import LoadKind, RigCard
from niente.core.science.arrays import Array, Codes, Vector
from niente.core.science.clock_limiter import REFERENCE, ClockLimiter, limiter_shares

MEAN_CORE, THROUGHPUT_PERCENT = "mean_core_c", "throughput_percent"
_FAULTS = {RigEventKind.DROP_OUT: ClockLimiter.DROP_OUT}
"""What a rig's events are on the limiter band, where they are not plain faults."""
BLOCK = 16
MOST = 200_000
"""Samples kept; beyond, the older half goes (it stays in the book)."""


class StripRun(msgspec.Struct, frozen=True):
    """A run on the strip: its number in the plan, from 1, its step, and the rig time of its first sample."""

    run_id: int
    number: int
    step: Step
    start_s: float
    stock_throughput: float | None


class Pyramid:
    """Least and greatest of every ``BLOCK`` samples, and of every ``BLOCK`` of those, per column.

    A view of many samples then costs what it has pixels, and no spike is lost. Samples are only ever appended.
    """

    def __init__(self) -> None:
        self._levels: list[tuple[Array, Array]] = []

    def extend(self, values: Array) -> None:
        """Take ``values`` ``(n, columns)`` in, of which all but the newest were seen before."""
        low = high = values
        index = 0
        while low.shape[0] >= BLOCK:
            if index == len(self._levels):
                self._levels.append((np.empty((0, values.shape[1])), np.empty((0, values.shape[1]))))
            old_low, old_high = self._levels[index]
            done, whole = old_low.shape[0], low.shape[0] // BLOCK
            if whole > done:
                fresh = slice(done * BLOCK, whole * BLOCK)
                shape = (whole - done, BLOCK, values.shape[1])
                old_low = np.concatenate([old_low, np.fmin.reduce(low[fresh].reshape(shape), axis=1)])
                old_high = np.concatenate([old_high, np.fmax.reduce(high[fresh].reshape(shape), axis=1)])
                self._levels[index] = (old_low, old_high)
            low, high = self._levels[index]
            index += 1

    def envelope(self, time_s: Vector, values: Array, column: int, first: int, last: int, pixels: int) -> tuple[Vector, Vector]:
        """Return the line of samples ``first`` to ``last`` of a column: the samples themselves while they are few,
        otherwise the least and greatest of blocks about a pixel wide."""
        size, index = 1, -1
        while (last - first) / (size * BLOCK) >= pixels and index + 1 < len(self._levels):
            size, index = size * BLOCK, index + 1
        if index < 0:
            return time_s[first:last], values[first:last, column]
        low, high = (level[:, column] for level in self._levels[index])
        begin, end = first // size, min(-(-last // size), low.shape[0])
        rest = slice(end * size, last)
        at = time_s[begin * size : end * size : size]
        low, high = low[begin:end], high[begin:end]
        many = max((end - begin) // pixels, 1)
        if many > 1:  # blocks are still narrower than a pixel: take several of them together
            low, high, at = _together(low, many, np.fmin), _together(high, many, np.fmax), at[::many]
        both = np.stack([low, high], axis=1).ravel()
        return np.concatenate([np.repeat(at, 2), time_s[rest]]), np.concatenate([both, values[rest, column]])


def _together(values: Vector, many: int, least_or_greatest: np.ufunc) -> Vector:
    """Return the least or greatest of every so many values; the last group may be smaller."""
    whole = values.shape[0] // many * many
    found: Vector = least_or_greatest.reduce(values[:whole].reshape(-1, many), axis=1)
    if whole < values.shape[0]:
        found = np.append(found, least_or_greatest.reduce(values[whole:]))
    return found


BETWEEN = 240
"""So many samples say how far guards are where no run goes on."""


class StripChart:
    """Samples of one rig in the order they came, of every run and between runs."""

    def __init__(self, card: RigCard, most: int = MOST) -> None:
        self.card = card
        self._most = most
        self._columns = {channel.name: index for index, channel in enumerate(card.channels)}
        self._cores = list(card.indices("core_temperature_c"))
        for name in (MEAN_CORE, THROUGHPUT_PERCENT):
            self._columns[name] = len(self._columns)
        self.runs: list[StripRun] = []
        self._clear()

    def _clear(self) -> None:
        self._samples = Samples(len(self._columns), self._most)
        self._run = np.full(512, -1, dtype=np.int32)
        self._limiters = np.full(512, ClockLimiter.NOTHING, dtype=np.int8)
        self._reported = np.full(512, ClockLimiter.NOTHING, dtype=np.int8)
        self._derived = 0
        self._pyramid = Pyramid()

    @property
    def time_s(self) -> Vector:
        """Rig times ``(n,)``."""
        return self._samples.time_s

    @property
    def limiters(self) -> Codes:
        """What limited the clock at each sample, codes of ``ClockLimiter``; as far as ``catch_up`` has come."""
        return self._limiters[: self._derived]

    def begin(self, run_id: int, number: int, step: Step, start_s: float, stock_throughput: float | None) -> None:
        """A run begins; what it does under its load is set against the stock throughput of that load."""
        self.runs.append(StripRun(run_id, number, step, start_s, stock_throughput))

    def add(self, frame: Frame, run_id: int | None) -> None:
        """Take a sample in."""
        if self._samples.count >= self._most:
            self._forget()
        count = self._samples.count
        if count == self._run.shape[0]:
            self._grow()
        self._samples.add(Frame(frame.time_s, np.append(frame.values, (np.nan, np.nan))))
        self._run[count] = -1 if run_id is None else run_id
        self._reported[count] = max(
            (_FAULTS.get(event.kind, ClockLimiter.FAULT) for event in frame.events), default=ClockLimiter.NOTHING
        )

    def extend(
        self, run_id: int | None, time_s: Vector, values: Array, events: Sequence[tuple[float, RigEventKind]] = ()
    ) -> None:
        """Take the samples ``(n,)`` and ``(n, channels)`` of one run in, and what happened in it at which rig time."""
        while time_s.shape[0] and self._samples.count + time_s.shape[0] > self._most and self._samples.count:
            self._forget()
        count = self._samples.count
        end = count + time_s.shape[0]
        while self._run.shape[0] < end:
            self._grow()
        derived = np.full((time_s.shape[0], 2), np.nan)
        self._samples.extend(time_s, np.concatenate([values, derived], axis=1))
        self._run[count:end] = -1 if run_id is None else run_id
        for at, kind in events:
            index = min(int(np.searchsorted(time_s, at)), time_s.shape[0] - 1)
            self._reported[count + index] = _FAULTS.get(kind, ClockLimiter.FAULT)

    def _grow(self) -> None:
        count = self._run.shape[0]
        self._run = np.concatenate([self._run, np.full(count, -1, dtype=np.int32)])
        self._limiters = np.concatenate([self._limiters, np.full(count, ClockLimiter.NOTHING, dtype=np.int8)])
        self._reported = np.concatenate([self._reported, np.full(count, ClockLimiter.NOTHING, dtype=np.int8)])

    def catch_up(self) -> None:
        """Work out what follows from the samples since the last time."""
        count = self._samples.count
        if count == self._derived:
            return
        fresh = slice(self._derived, count)
        values = self._samples.values
        new = values[fresh]
        if self._cores:
            cores = new[:, self._cores]
            alive = np.isfinite(cores)
            total = np.where(alive, cores, 0.0).sum(axis=1)
            new[:, self._columns[MEAN_CORE]] = np.where(alive.any(axis=1), total / np.maximum(alive.sum(axis=1), 1), np.nan)
        known = {run.run_id: run for run in self.runs[-64:]}
        ids = self._run[fresh]
        for run_id in np.unique(ids):
            run = known.get(int(run_id))
            load = self.card.load(run.step.load) if run is not None else None
            if run is None or load is None or load.kind == LoadKind.IDLE:
                continue
            mine = ids == run_id
            behind = self._behind(int(run_id))
            known_values = np.concatenate([behind, new[mine]])[:, : len(self.card.channels)]
            limiters = limiters_of(self.card, known_values, run.step.setting, run.step.load)[behind.shape[0] :]
            reported = self._reported[fresh][mine]
            self._limiters[fresh][mine] = np.where(reported != ClockLimiter.NOTHING, reported, limiters)
            index = self._columns.get("throughput_per_s")
            if run.stock_throughput and index is not None:
                new[mine, self._columns[THROUGHPUT_PERCENT]] = 100.0 * new[mine, index] / run.stock_throughput
        self._derived = count
        self._pyramid.extend(values)

    def _behind(self, run_id: int) -> Array:
        """Return the samples of a run that were worked out already, as many as the next are set against."""
        recent = slice(max(self._derived - REFERENCE, 0), self._derived)
        kept: Array = self._samples.values[recent][self._run[recent] == run_id]
        return kept

    def between_runs(self, most: int = BETWEEN) -> Samples:
        """Return the latest samples since the last run ended, at most so many; none while one goes on."""
        count = self._samples.count
        ids = self._run[max(count - most, 0) : count]
        in_runs = np.flatnonzero(ids >= 0)
        first = count - ids.shape[0] + (int(in_runs[-1]) + 1 if in_runs.size else 0)
        found = Samples(len(self.card.channels))
        found.extend(self._samples.time_s[first:], self._samples.values[first:, : len(self.card.channels)])
        return found

    def limiter_shares(self, run_id: int) -> dict[ClockLimiter, float]:
        """Return the share of a run's samples that each limiter takes, as far as ``catch_up`` has come."""
        return limiter_shares(self.limiters[self._run[: self._derived] == run_id])

    def window(self, from_s: float, to_s: float) -> tuple[int, int]:
        """Return the first sample of a span of rig time, and the one after its last, each one wider than the span."""
        time_s = self.time_s[: self._derived]
        first, last = np.searchsorted(time_s, (from_s, to_s))
        return max(int(first) - 1, 0), min(int(last) + 1, self._derived)

    def line(self, name: str, from_s: float, to_s: float, pixels: int) -> tuple[Vector, Vector]:
        """Return a channel over a span of rig time, as finely as ``pixels`` can show it; empty where there is none."""
        column = self._columns.get(name)
        if column is None or not self._derived:
            return np.empty(0), np.empty(0)
        first, last = self.window(from_s, to_s)
        return self._pyramid.envelope(self.time_s, self._samples.values, column, first, last, pixels)

    def at(self, name: str, rig_time_s: float) -> float:
        """Return a channel's reading nearest to a rig time; NaN where there is none."""
        column = self._columns.get(name)
        if column is None or not self._derived:
            return float("nan")
        return float(self._samples.values[self.index_of(rig_time_s), column])

    def index_of(self, rig_time_s: float) -> int:
        """Return the index of the sample nearest to a rig time."""
        time_s = self.time_s[: self._derived]
        after: int = min(int(np.searchsorted(time_s, rig_time_s)), time_s.shape[0] - 1)
        before = max(after - 1, 0)
        nearer = float(rig_time_s - time_s[before]) < float(time_s[after] - rig_time_s)
        return before if nearer else after

    def _forget(self) -> None:
        """Let the older half go."""
        self.catch_up()
        keep = self._samples.count // 2
        time_s, values = self.time_s[-keep:].copy(), self._samples.values[-keep:].copy()
        newest = slice(self._samples.count - keep, self._samples.count)
        run, limiters, reported = self._run[newest].copy(), self._limiters[newest].copy(), self._reported[newest].copy()
        self._clear()
        self._samples.extend(time_s, values)
        self._run, self._limiters, self._reported, self._derived = run, limiters, reported, keep
        self.runs = [one for one in self.runs if one.run_id in set(np.unique(run).tolist())]
        self._pyramid.extend(self._samples.values)
