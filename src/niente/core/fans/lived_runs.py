"""A run that a machine made on curves, rehearsed afterwards with what it drew: predicted and measured side by side."""

import math
from pathlib import Path

import numpy as np

from niente.core.analysis.evidence import column, counted, trusted
from niente.core.fans.curve_trials import insist_on_curve
from niente.core.fans.day import DAY_S, DayOfLoad
from niente.core.fans.machine import MachineAtPoint, energy_of
from niente.core.fans.point_work import in_pieces, piece_s_of, trace_of
from niente.core.fans.rehearsal import rehearse, settled_on
from niente.core.fans.told import MeasuredTrace, RehearsedDay
from niente.core.model.errors import NotEnoughError
from niente.core.model.rig_card import RigCard
from niente.core.science.arrays import Vector
from niente.core.storage.reader import BookReader

MIN_SECONDS = 60
LONGEST_GAP_S = 10.0
"""Readings further apart than this are a gap, which is bridged and said."""
MOST_ACTIVITY = 1.4
SHARE = 0.95


def lived_run(book: Path, card: RigCard, machine: MachineAtPoint, run_id: int) -> RehearsedDay:
    """Rehearse a run of a book that was made on curves, with what it drew as the day, beginning at what its core and fans read
    first; of a longer run its first 24 hours.

    Raises ``NotEnoughError`` where the run has too few readings, ``PlanError`` where its curves cannot be rehearsed.
    """
    reader = BookReader(book)
    try:
        record = next(run for run in reader.runs() if run.id == run_id)  # books keep every run
        time_s, raw = reader.frames(record, [channel.name for channel in card.channels])
    finally:
        reader.close()
    values, curves = trusted(card, raw), record.setting.fan_curve
    for group, curve in curves.items():
        insist_on_curve(machine, group, curve)
    core = counted(card, values)
    seconds = min(math.floor(time_s[-1] - time_s[0]) + 1, DAY_S) if time_s.shape[0] else 0
    if core is None or seconds < MIN_SECONDS:
        raise NotEnoughError("This run has too few readings to be rehearsed.", remedy="A run of some minutes does.")
    at_s = time_s[0] + np.arange(seconds)
    core, room, power, level = (
        _each_second(at_s, time_s, one)
        for one in (core, *(column(card, values, name) for name in ("room_temperature_c", "package_power_w", "noise_dba")))
    )
    if not (np.isfinite(core[0]) and np.isfinite(room[0]) and np.isfinite(power[0])):
        raise NotEnoughError("This run has no readings of core, room or power.", remedy="See to the sensor, and run it again.")
    load = int(record.load != machine.loads[0])
    idle_w, full_w = machine.drawn.idle_w, float(machine.drawn.full_w[load])
    works = np.clip((power - idle_w) / max(full_w - idle_w, 1.0), 0.0, MOST_ACTIVITY)
    day = DayOfLoad(f"run {run_id}", np.full(seconds, load, dtype=np.int64), works)
    room_c = float(np.mean(room))
    *_, parts = settled_on(machine, curves, float(works[0]), room_c, load)
    warm = parts * (core[0] - room_c) / max(float(parts.sum()), 1e-6)
    first = {group: float(column(card, values[:1], f"fan_speed_rpm.{group}")[0]) for group in curves}
    turned = [first.get(group, math.nan) for group in machine.groups]  # who is on no curve is at its duty at once
    lived = rehearse(machine, curves, day, room_c, begins=(warm, _duties(machine, turned)))
    off_k = lived.core_c - core
    heard = np.isfinite(level)
    off_db = _mean_level(lived.level_dba[heard]) - _mean_level(level[heard]) if heard.any() else math.nan
    gaps_s = float(np.sum(np.diff(time_s)[np.diff(time_s) > LONGEST_GAP_S]))
    core_read, level_read = (in_pieces(one, piece_s_of(day)).mean(axis=1) for one in (core, level))
    measured = MeasuredTrace(core_read, level_read, float(np.quantile(np.abs(off_k), SHARE)), off_db, gaps_s)
    return RehearsedDay(
        dict(curves), day.name, room_c, lived.figures, trace_of(lived, day), {}, {}, quick=False, measured=measured
    )


def _duties(machine: MachineAtPoint, rpm: list[float]) -> Vector:
    """Return the duties in % ``(g,)`` at which groups turn so fast; NaN for one whose speed nobody read."""
    tables = zip(rpm, machine.fans.rpm, strict=True)
    return np.array([np.interp(one, np.maximum.accumulate(table), np.arange(101.0)) for one, table in tables])


def _each_second(at_s: Vector, time_s: Vector, values: Vector) -> Vector:
    """Return readings at each second ``(n,)``; all NaN where there are none."""
    known = np.isfinite(values)
    found: Vector = np.interp(at_s, time_s[known], values[known]) if known.any() else np.full(at_s.shape, math.nan)
    return found


def _mean_level(level_dba: Vector) -> float:
    return 10.0 * math.log10(float(np.mean(energy_of(level_dba))))
