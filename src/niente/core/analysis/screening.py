"""What a run's summary cannot be: readings that are impossible, by themselves or beside the other runs, are named and left out.

A model that is only robust still leans towards what cannot be true. These are no matter of statistics: no package draws
nothing under a load, no run does ten times the work of its neighbours at the same clock, no room is at -200 °C.
"""

import math
from collections.abc import Sequence

import msgspec
import numpy as np

from niente.core.analysis.evidence import Evidence, RunSummary
from niente.core.model.plan import Search, SearchMethod
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
FACTORS = {"power_w": 4.0, "throughput_per_s": 2.0, "voltage_v": 2.0}
"""By how much a figure over the clock (a voltage: by itself) may differ from the median of the runs of one load: watts over the
clock go with the square of the voltage, and work that waits falls behind it."""
SPEED_FACTOR, SPEED_RPM, STANDS_RPM = 1.6, 150.0, 30.0
"""By how much a fan's speed over its duty may differ from what it is in the other runs, as a factor and in rpm."""
MEASURES_S = 240.0
"""So long an exposure has to be for its last half to lie behind every burst."""
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


def measuring(evidence: Evidence) -> Evidence:
    """Return the evidence without the clean exposures of a structured search that were too brief to measure anything but that
    nothing failed, as a burst reaches far into them; and without loads that ran at a size, whose power and throughput follow
    from that and not from the setting."""

    def brief(run: RunSummary) -> bool:
        entry = evidence.entry_of(run)
        searched = isinstance(entry, Search) and entry.method == SearchMethod.STRUCTURED
        return searched and not run.failures and run.seconds < MEASURES_S

    return msgspec.structs.replace(evidence, runs=tuple(run for run in evidence.runs if not brief(run) and not run.size))


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
            found.append(LeftOut(run.run_id, channel, value, "cannot be under a load that heats"))
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
    """Return runs without figures that are far from the median of the other runs of their load."""

    def ratio(run: RunSummary) -> float:
        value = float(getattr(run, name))
        return value if name == "voltage_v" else value / run.clock_mhz

    by_load: dict[str, list[float]] = {}
    for run in runs:
        if _works(run) and math.isfinite(ratio(run)):
            by_load.setdefault(run.load, []).append(ratio(run))
    usual = {load: float(np.median(ratios)) for load, ratios in by_load.items() if len(ratios) > FEW}
    kept = []
    for run in runs:
        middle = usual.get(run.load)
        if (
            middle is not None
            and _works(run)
            and math.isfinite(ratio(run))
            and not 1.0 / factor <= ratio(run) / middle <= factor
        ):
            reason = f"is more than {factor:g} times off from the other runs under {run.load}"
            found.append(LeftOut(run.run_id, POSSIBLE[name][0], getattr(run, name), reason))
            run = msgspec.structs.replace(run, **{name: math.nan})
        kept.append(run)
    return kept


def _speeds(runs: Sequence[RunSummary], found: list[LeftOut]) -> list[RunSummary]:
    """Return runs without fan speeds that are far from what the same duty gave in the others."""
    kept = list(runs)
    for group in sorted({group for run in runs for group in run.fan_rpm}):
        read = _duties_and_speeds(kept, group)
        by_duty: dict[float, list[float]] = {}
        for duty, rpm in read.values():
            by_duty.setdefault(duty, []).append(rpm)
        usual = {duty: float(np.median(speeds)) for duty, speeds in by_duty.items() if len(speeds) > FEW}
        turning = [(duty, rpm) for duty, rpm in read.values() if duty > 0.0 and rpm > SPEED_RPM]
        for index, (duty, rpm) in read.items():
            if _far(rpm, usual[duty], SPEED_FACTOR) if duty in usual else _strange_speed(duty, rpm, turning):
                found.append(LeftOut(kept[index].run_id, f"fan_speed_rpm.{group}", rpm, f"{duty:g} % gave in no other run"))
                kept[index] = msgspec.structs.replace(kept[index], fan_rpm={**kept[index].fan_rpm, group: math.nan})
    return kept


def _duties_and_speeds(runs: Sequence[RunSummary], group: str) -> dict[int, tuple[float, float]]:
    """Return a group's duty and speed in each run that has both, by the run's index."""
    read = {}
    for index, run in enumerate(runs):
        duty, rpm = run.setting.fan_duty.get(group, math.nan), run.fan_rpm.get(group, math.nan)
        if group not in run.setting.fan_curve and math.isfinite(duty) and math.isfinite(rpm):
            read[index] = (duty, rpm)
    return read


def _strange_speed(duty: float, rpm: float, turning: Sequence[tuple[float, float]]) -> bool:
    """Return whether a duty that few runs had cannot have given a speed, beside the duties and speeds of fans that turn."""
    if len(turning) <= FEW:
        return False
    if rpm < STANDS_RPM:  # it stands at a duty at which even less has turned it
        return sum(at < 0.8 * duty for at, _ in turning) >= FEW
    return _far(rpm, duty * float(np.median([other / at for at, other in turning])), 2.0 * SPEED_FACTOR)


def _far(rpm: float, usual: float, factor: float) -> bool:
    return math.isfinite(usual) and abs(rpm - usual) > SPEED_RPM and not usual / factor <= rpm <= usual * factor
