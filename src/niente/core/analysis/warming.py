"""How the machine of a book warms: every run's readings from its first on, for the response of its heat path."""

import numpy as np

from niente.core.analysis.channel_means import JUMPS
from niente.core.analysis.evidence import RunSummary, column, counted, trusted
from niente.core.analysis.models import Models
from niente.core.model.rig_card import LoadKind, RigCard
from niente.core.science.arrays import Array, Vector
from niente.core.science.heat.response import HeatResponse, Warming, fit_response
from niente.core.science.settling import ROOM_LAG_S, lagged
from niente.core.science.spikes import without_spikes
from niente.core.storage.reader import BookReader, RunRecord

LONGEST_S = 5400.0
"""Later readings of a run say nothing new of how it warmed."""
SHORTEST_S = 120.0
"""A run that is over sooner has not warmed."""


def response_in(book: BookReader, models: Models) -> HeatResponse | None:
    """Fit how fast the machine of a book warms, from the runs that its models stand on; ``None`` where none tells."""
    return fit_response(models.heat, warmings_in(book, models))


def warmings_in(book: BookReader, models: Models) -> list[Warming]:
    """Return the runs of a book as they warmed."""
    return [warming for _, warming in told_runs(book, models)]


def told_runs(book: BookReader, models: Models) -> list[tuple[RunRecord, Warming]]:
    """Return the runs that tell how a machine warms, oldest first, and how they did: those that the models stand on, fans
    fixed, long enough, and not held by heat (there the readings are the cap's)."""
    wanted = {run.run_id: run for run in models.usable() if _tells(run)}
    found = [(run, _warming(book, models, run, wanted[run.id])) for run in book.runs() if run.id in wanted]
    return [(run, warming) for run, warming in found if warming is not None]


def readings_of(book: BookReader, record: RunRecord, card: RigCard) -> tuple[Vector, Array]:
    """Return the moments ``(n,)`` in s and the readings ``(n, channels)`` of a run, as far as they tell how it warmed."""
    time_s, raw = book.frames(record, [channel.name for channel in card.channels])
    first = time_s <= (time_s[0] if time_s.size else 0.0) + LONGEST_S
    return time_s[first], raw[first]


def _tells(run: RunSummary) -> bool:
    fixed = not run.setting.fan_curve
    return fixed and run.load_kind != LoadKind.IDLE and run.seconds >= SHORTEST_S and not run.heat_limited


def _warming(book: BookReader, models: Models, record: RunRecord, run: RunSummary) -> Warming | None:
    """Return one run's readings; ``None`` where a channel is missing."""
    card = models.card
    time_s, raw = readings_of(book, record, card)
    values = trusted(card, raw)
    core = counted(card, values)
    power, room = column(card, values, "package_power_w"), column(card, values, "room_temperature_c")
    if core is None or time_s.shape[0] < 2 or not np.isfinite(power).any() or not np.isfinite(room).any():
        return None
    rpm = tuple(run.fan_rpm.get(group, 0.0) for group in models.heat.groups)
    if not np.all(np.isfinite(rpm)):
        return None
    rise = core - lagged(time_s, _bridged(without_spikes(room, JUMPS["room_temperature_c"])), ROOM_LAG_S)
    spacing = float(time_s[-1] - time_s[0]) / (time_s.shape[0] - 1)
    sources = tuple(run.sources_w.get(name, 0.0) for name in models.heat.sources)
    return Warming(float(time_s[0]), spacing, rise, _bridged(power), rpm, sources, run.load)


def _bridged(values: Vector) -> Vector:
    """Return readings ``(n,)`` with gaps bridged by straight lines."""
    known = np.isfinite(values)
    at = np.arange(values.shape[0])
    bridged: Vector = values if known.all() else np.interp(at, at[known], values[known])
    return bridged
