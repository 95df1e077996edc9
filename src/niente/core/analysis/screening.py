"""What a run's summary cannot be: readings that are impossible, by themselves or beside the other runs, are named and left out.

A model that is only robust still leans towards what cannot be true. These are no matter of statistics: no package draws
nothing under a load, no run does ten times the work of its neighbours at the same clock, no room is at -200 °C.
"""

import math
from collections.abc import Callable, Sequence

import msgspec
import numpy as np

from niente.core.analysis.evidence import RunSummary
from niente.core.model.quantities import quantity_of
from niente.core.model.rig_card import LoadKind

POSSIBLE = {
    "power_w": ("package_power_w", 0.5, 1500.0),
    "clock_mhz": ("effective_clock_mhz", 100.0, 10000.0),
    "throughput_per_s": ("throughput_per_s", 1e-12, math.inf),
    "voltage_v": ("core_voltage_v", 0.3, 2.2),
}
"""What figures of a run can be under a load that heats: the channel, the least and the most. Common practice, no source."""
ROOM_C, NOISE_DBA = (-20.0, 50.0), (3.0, 125.0)
ROOM_APART_K = 15.0
"""Rooms of one book do not lie further apart than this (K)."""
FACTORS = {"power_w": 3.0, "throughput_per_s": 1.6, "voltage_v": 1.6}
"""By how much a figure over the clock (a voltage: by itself) may differ between the runs of one load."""
SPEED_FACTOR, SPEED_RPM, STANDS_RPM = 1.6, 150.0, 30.0
"""By how much a fan's speed over its duty may differ from what it is in the other runs, as a factor and in rpm."""
FEW = 3
"""Beside fewer other runs than this nothing is said to be off."""


class LeftOut(msgspec.Struct, frozen=True):
    """One figure of a run that is left out of every model: the channel, what it read, and why that cannot be."""

    run_id: int
    channel: str
    value: float
    reason: str

    @property
    def words(self) -> str:
        """The same in words."""
        return f"Run {self.run_id}: {self.channel} reads {self.value:.4g}, which {self.reason}; it is left out"


def screened(runs: Sequence[RunSummary]) -> tuple[tuple[RunSummary, ...], tuple[LeftOut, ...]]:
    """Return the runs with every figure that cannot be as NaN, and what was left out."""
    found: list[LeftOut] = []
    kept = [_possible(run, found) for run in runs]
    kept = _rooms(kept, found)
    for name, factor in FACTORS.items():
        kept = _beside_others(kept, name, factor, found)
    kept = _speeds(kept, found)
    return tuple(kept), tuple(sorted(found, key=lambda one: one.run_id))


def _works(run: RunSummary) -> bool:
    return run.load_kind not in (LoadKind.IDLE, LoadKind.BURST)


def _possible(run: RunSummary, found: list[LeftOut]) -> RunSummary:
    """Return a run without figures that are impossible by themselves."""
    changes: dict[str, float] = {}
    for name, (channel, low, high) in POSSIBLE.items():
        value = getattr(run, name)
        if _works(run) and math.isfinite(value) and not low <= value <= high:
            unit = quantity_of(channel).unit
            found.append(LeftOut(run.run_id, channel, value, f"lies outside the {low:.3g} to {high:.4g} {unit} that can be"))
            changes[name] = math.nan
    if math.isfinite(run.noise_dba) and not NOISE_DBA[0] <= run.noise_dba <= NOISE_DBA[1]:
        found.append(LeftOut(run.run_id, "noise_dba", run.noise_dba, "no room and no machine is"))
        changes["noise_dba"] = math.nan
    return msgspec.structs.replace(run, **changes) if changes else run


def _rooms(runs: Sequence[RunSummary], found: list[LeftOut]) -> list[RunSummary]:
    """Return runs without rooms that no room is, and without the settled temperatures that rest on them."""
    known = [run.room_c for run in runs if math.isfinite(run.room_c) and ROOM_C[0] <= run.room_c <= ROOM_C[1]]
    usual = float(np.median(known)) if len(known) > FEW else math.nan
    kept = []
    for run in runs:
        rooms = [room for room in (run.room_c, run.settled.room_c) if math.isfinite(room)]
        bad = [
            room
            for room in rooms
            if not ROOM_C[0] <= room <= ROOM_C[1] or (math.isfinite(usual) and abs(room - usual) > ROOM_APART_K)
        ]
        if bad:
            found.append(LeftOut(run.run_id, "room_temperature_c", bad[0], "is no room beside those of the other runs"))
            unknown = msgspec.structs.replace(run.settled, value_c=math.nan, room_c=math.nan, reason="the room is not known")
            run = msgspec.structs.replace(run, room_c=math.nan, settled=unknown)
        kept.append(run)
    return kept


def _beside_others(runs: Sequence[RunSummary], name: str, factor: float, found: list[LeftOut]) -> list[RunSummary]:
    """Return runs without figures that are far from those of the other runs of their load."""
    over_clock = name != "voltage_v"

    def ratio(run: RunSummary) -> float:
        return getattr(run, name) / run.clock_mhz if over_clock else float(getattr(run, name))

    return _apart(runs, _works, lambda run: run.load, ratio, factor, lambda run: _without(run, name, factor, found))


def _without(run: RunSummary, name: str, factor: float, found: list[LeftOut]) -> RunSummary:
    reason = f"is more than {factor:g} times off from the other runs under {run.load}"
    found.append(LeftOut(run.run_id, POSSIBLE[name][0], getattr(run, name), reason))
    return msgspec.structs.replace(run, **{name: math.nan})


def _apart(
    runs: Sequence[RunSummary],
    counts: Callable[[RunSummary], bool],
    group: Callable[[RunSummary], object],
    ratio: Callable[[RunSummary], float],
    factor: float,
    without: Callable[[RunSummary], RunSummary],
) -> list[RunSummary]:
    """Return runs with those changed whose ratio is more than a factor off from the median of the others in their group."""
    ratios: dict[object, list[float]] = {}
    for run in runs:
        if counts(run) and math.isfinite(ratio(run)):
            ratios.setdefault(group(run), []).append(ratio(run))
    usual = {key: float(np.median(values)) for key, values in ratios.items() if len(values) > FEW}
    kept = []
    for run in runs:
        middle = usual.get(group(run)) if counts(run) else None
        own = ratio(run) if middle else math.nan
        off = middle is not None and math.isfinite(own) and not middle / factor <= own <= middle * factor
        kept.append(without(run) if off else run)
    return kept


def _speeds(runs: Sequence[RunSummary], found: list[LeftOut]) -> list[RunSummary]:
    """Return runs without fan speeds that are far from what the same duty gave in the others."""
    kept = list(runs)
    for group in sorted({group for run in runs for group in run.fan_rpm}):
        pairs = [(run.setting.fan_duty.get(group, math.nan), run.fan_rpm.get(group, math.nan)) for run in kept]
        for index, run in enumerate(kept):
            duty, rpm = pairs[index]
            if group in run.setting.fan_curve or not math.isfinite(duty) or not math.isfinite(rpm):
                continue
            if _strange_speed(duty, rpm, pairs[:index] + pairs[index + 1 :]):
                reason = f"{duty:g} % gave in no other run"
                found.append(LeftOut(run.run_id, f"fan_speed_rpm.{group}", rpm, reason))
                kept[index] = msgspec.structs.replace(run, fan_rpm={**run.fan_rpm, group: math.nan})
    return kept


def _strange_speed(duty: float, rpm: float, others: Sequence[tuple[float, float]]) -> bool:
    """Return whether a duty cannot have given a speed, beside what the other runs have of duties and speeds."""
    same = [other for at, other in others if at == duty and math.isfinite(other)]
    if len(same) >= FEW:
        return _far(rpm, float(np.median(same)), SPEED_FACTOR)
    turning = [(at, other) for at, other in others if at > 0.0 and math.isfinite(other) and other > SPEED_RPM]
    if len(turning) <= FEW:
        return False
    if rpm < STANDS_RPM:  # it stands at a duty at which even less has turned it
        return sum(at < 0.8 * duty for at, _ in turning) >= FEW
    return _far(rpm, duty * float(np.median([other / at for at, other in turning])), 2.0 * SPEED_FACTOR)


def _far(rpm: float, usual: float, factor: float) -> bool:
    return math.isfinite(usual) and abs(rpm - usual) > SPEED_RPM and not usual / factor <= rpm <= usual * factor
