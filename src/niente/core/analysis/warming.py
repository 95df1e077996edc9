"""How the machine of a book warms: every run's readings from its first on, for the response of its heat path."""

import msgspec
import numpy as np

from niente.core.analysis.channel_means import JUMPS
from niente.core.analysis.evidence import RunSummary, column, counted, trusted
from niente.core.analysis.models import Models
from niente.core.model.names import kind_of
from niente.core.model.rig_card import LoadKind, RigCard
from niente.core.science.arrays import Vector
from niente.core.science.heat.response import Warming, tells_response
from niente.core.science.settling import ROOM_LAG_S, lagged
from niente.core.science.spikes import without_spikes
from niente.core.storage.reader import BookReader, RunRecord

OF_CORE_OR_ROOM = ("core_temperature_c", "package_temperature_c", "room_temperature_c")
LONGEST_S = 5400.0
"""Later readings of a run say nothing new of how it warmed."""
SHORTEST_S = 120.0
"""A run that is over sooner has not warmed."""


class ToldRun(msgspec.Struct, frozen=True):
    """A run that tells how a machine warms, and the rise over the room of each other sensor in it, in K ``(n,)`` by channel."""

    warming: Warming
    sensors_k: dict[str, Vector]


def told_runs(book: BookReader, models: Models) -> list[ToldRun]:
    """Return the runs of a book as they warmed, oldest first: those that the models stand on, fans fixed, long enough, and not
    held by heat (there the readings are the cap's)."""
    wanted = {run.run_id: run for run in models.usable() if _tells(run)}
    found = [_told(book, models, run, wanted[run.id]) for run in book.runs() if run.id in wanted]
    return [one for one in found if one is not None and tells_response(one.warming)]


def other_sensors(card: RigCard) -> list[str]:
    """Return the temperatures of a card that are neither the core's nor the room's."""
    names = [channel.name for channel in card.channels if kind_of(channel.name).endswith("_temperature_c")]
    return [name for name in names if kind_of(name) not in OF_CORE_OR_ROOM]


def _tells(run: RunSummary) -> bool:
    fixed = not run.setting.fan_curve
    return fixed and run.load_kind != LoadKind.IDLE and run.seconds >= SHORTEST_S and not run.heat_limited


def _told(book: BookReader, models: Models, record: RunRecord, run: RunSummary) -> ToldRun | None:
    """Return one run's readings; ``None`` where a channel is missing."""
    card = models.card
    time_s, raw = book.frames(record, [channel.name for channel in card.channels])
    first = time_s <= (time_s[0] if time_s.size else 0.0) + LONGEST_S
    time_s, values = time_s[first], trusted(card, raw[first])
    core = counted(card, values)
    power, room = column(card, values, "package_power_w"), column(card, values, "room_temperature_c")
    if core is None or time_s.shape[0] < 2 or not np.isfinite(power).any() or not np.isfinite(room).any():
        return None
    rpm = tuple(run.fan_rpm.get(group, 0.0) for group in models.heat.groups)
    sources = tuple(run.sources_w.get(name, 0.0) for name in models.heat.sources)
    if not np.all(np.isfinite([*rpm, *sources])):
        return None
    room_c = lagged(time_s, _bridged(without_spikes(room, JUMPS["room_temperature_c"])), ROOM_LAG_S)
    spacing = float(time_s[-1] - time_s[0]) / (time_s.shape[0] - 1)
    warming = Warming(float(time_s[0]), spacing, core - room_c, _bridged(power), rpm, sources, run.load)
    return ToldRun(warming, {name: column(card, values, name) - room_c for name in other_sensors(card)})


def _bridged(values: Vector) -> Vector:
    """Return readings ``(n,)`` with gaps bridged by straight lines."""
    known = np.isfinite(values)
    at = np.arange(values.shape[0])
    bridged: Vector = values if known.all() else np.interp(at, at[known], values[known])
    return bridged
