"""What the margin says of a setting: its readings with ±, and what one step in each direction would change."""

import numpy as np

from niente.core.choosing.models import Models, predict
from niente.core.choosing.pick import Candidate
from niente.core.choosing.words import short_place
from niente.core.project import Limits
from niente.core.quantities import NO_BREAK_SPACE, number_text, quantity_of
from niente.core.science.dynamics import Scale
from niente.desktop.tongue import tr
from niente.desktop.widgets.blocks import Block, Columns, Reading, Readings, Title

STEPS = ((6.0, 0.0), (-6.0, 0.0), (0.0, 10.0), (0.0, -10.0))


def _line(name: str, quantity: str, value: float, half_width: float | None = None, mark: str = "") -> Reading:
    known = quantity_of(quantity)
    spread = f"±{NO_BREAK_SPACE}{number_text(half_width, known.digits)}" if half_width is not None else ""
    return Reading(name, known.text(value), spread, known.unit, mark)


def candidate_blocks(lead: str, one: Candidate, scale: Scale) -> list[Block]:
    """Return a setting's readings, a line each, with their intervals."""
    mark = scale.mark(one.in_room_dba)
    lines = (
        _line(tr("Hottest core"), "hottest_core_c", one.core_c, one.core_hw),
        _line(tr("Headroom"), "headroom_k", one.headroom_k, one.core_hw),
        _line(tr("Noise in the room"), "noise_dba", one.in_room_dba, one.in_room_hw, mark),
        _line(tr("Machine alone"), "noise_dba", one.alone_dba),
        _line(tr("Throughput"), "throughput_percent", one.throughput_percent, one.throughput_hw),
        _line(tr("Package power"), "package_power_w", one.power_w),
    )
    state = tr("measured") if one.measured else tr("inferred")
    breaks = tr("breaks {limits}").format(limits=", ".join(one.breaks)) if one.breaks else tr("keeps every limit")
    return [Title(lead, short_place(one)), Readings(state[0].upper() + state[1:], lines, breaks)]


def steps_away(models: Models, limits: Limits, one: Candidate) -> Columns:
    """Return what a step of 6 W or 10 % of duty in each direction changes: core (K), noise (dB), throughput (%)."""
    limit = np.array([one.limit_w, *(one.limit_w + w for w, _ in STEPS)])
    duty = np.clip([one.duty, *(one.duty + d for _, d in STEPS)], 0.0, 100.0)
    duties = {group: np.full(limit.shape, models.base.fan_duty.get(group, 0.0)) for group in models.noise.groups}
    duties[models.lead] = duty
    said = predict(models, limit, duties, limits.design_room_c)
    lines = []
    for place, (watts, percent) in enumerate(STEPS, 1):
        name = f"{number_text(watts, 0)} W" if watts else tr("{d} % fans").format(d=number_text(percent, 0))
        name = name if name.startswith("−") else f"+{name}"
        lines.append(
            (
                name,
                _signed(said.core_c[place] - said.core_c[0]),
                _signed(said.in_room_dba[place] - said.in_room_dba[0]),
                _signed(said.throughput_percent[place] - said.throughput_percent[0]),
            )
        )
    return Columns(tr("One step away"), (tr("core, K"), tr("noise, dB"), tr("thr., %")), tuple(lines))


def _signed(value: float) -> str:
    text = number_text(float(value), 1)
    return text if text.startswith(("−", "0.0")) else f"+{text}"
