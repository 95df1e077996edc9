"""What the margin says of a selected setting, of a line of rise against watts, and of a fan group's noise."""

import math
from collections.abc import Sequence

import numpy as np

from niente.core.analysis.fan_noise import MIN_RPM, GroupNoise, Loudness
from niente.core.analysis.grid import SettingGrid
from niente.core.analysis.listener import ListenerPlace
from niente.core.analysis.maps import SettingMap, difference
from niente.core.analysis.models import Models
from niente.core.analysis.prediction import predict
from niente.core.analysis.rise_lines import WattLine, WattLines
from niente.core.analysis.screening import LeftOut
from niente.core.analysis.setting_batch import SettingBatch
from niente.core.model.limits import Limits
from niente.core.model.names import part_of
from niente.core.model.quantities import NO_BREAK_SPACE, Quantity, number_text, quantity_of, signed_text
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting
from niente.core.science.dynamics import Scale
from niente.core.science.heat.path import HeatPath
from niente.core.selection.explanation import comparison_text, pick_reason
from niente.core.selection.pick import Candidate, Choice
from niente.desktop.services.translation import tr
from niente.desktop.widgets.blocks import Block, Columns, Reading, Readings, Title, Words

MOST_LEFT_OUT = 3
STEPS = {"W": 6.0, "%": 10.0, "mV": 10.0, "MHz": 100.0, "°C": 5.0}
"""How far one step away is, by a control's unit."""


def _line(name: str, known: Quantity, value: float, half_width: float | None = None, mark: str = "") -> Reading:
    spread = ""
    if half_width is not None and math.isfinite(half_width):
        spread = f"±{NO_BREAK_SPACE}{number_text(half_width, known.digits)}"
    return Reading(name, known.text(value) if math.isfinite(value) else "–", spread, known.unit, mark)


def point_text(field_controls: tuple[str, str], point: tuple[float, float]) -> str:
    """Return a point of a map by its two values: ``120 W, 38 %``."""
    return ", ".join(quantity_of(control).with_unit(value) for control, value in zip(field_controls, point, strict=True))


def _alone_line(one: Candidate) -> Reading:
    """Return the machine without the room: with its interval, or as the bound that it lies under."""
    known = quantity_of("noise_dba")
    if one.alone_at_most_dba is not None:
        return Reading(tr("Noise, alone"), f"≤ {known.text(one.alone_at_most_dba)}", "", known.unit)
    return _line(tr("Noise, alone"), known, one.alone_dba, one.alone_hw)


def candidate_blocks(lead: str, name: str, one: Candidate, scale: Scale, listening: ListenerPlace | None) -> list[Block]:
    """Return a setting's readings, a line each, with their intervals; ``listening`` is where meter and listener are."""
    mark = scale.mark(one.in_room_dba)
    bound = one.alone_at_most_dba
    apart = one.alone_hw or max((bound if bound is not None else one.alone_dba) - one.alone_dba, one.in_room_hw)
    there = listening.heard(one.alone_dba, apart) if listening is not None else (math.nan, None)
    of = quantity_of
    lines = (
        _line(tr("Hottest core"), of("hottest_core_c"), one.core_c, one.core_hw),
        _line(tr("Headroom"), of("headroom_k"), one.headroom_k, one.core_hw),
        _line(tr("Noise, room"), of("noise_dba"), one.in_room_dba, one.in_room_hw, mark),
        _alone_line(one),
        _line(tr("Noise, listener"), of("noise_dba"), *there),
        _line(tr("Throughput"), of("throughput_percent"), one.throughput_percent, one.throughput_hw),
        _line(tr("Clock"), of("effective_clock_mhz"), one.clock_mhz, one.clock_hw),
        _line(tr("Package"), of("package_power_w"), one.power_w, one.power_hw),
        _line(tr("Work per watt"), of("throughput_per_watt"), one.throughput_percent / one.power_w),
        _line(tr("Stable a day"), of("probability"), one.stable),
    )
    state = tr("measured") if one.measured else tr("inferred") if one.inside else tr("extrapolated")
    breaks = tr("breaks {limits}").format(limits=", ".join(one.breaks)) if one.breaks else tr("keeps every limit")
    return [Title(lead, name), Readings(state[0].upper() + state[1:], lines, breaks)]


def steps_away(models: Models, limits: Limits, here: Setting, controls: tuple[str, str]) -> Columns:
    """Return what a step along each axis, either way, changes: core (K), noise (dB), throughput (%)."""
    moves = [(control, sign * STEPS.get(quantity_of(control).unit, 5.0)) for control in controls for sign in (1, -1)]
    values = {control: np.full(1 + len(moves), here.value(control) or 0.0) for control in controls}
    for row, (control, step) in enumerate(moves, 1):
        values[control][row] = _within(models.card, control, float(values[control][row] + step))
    predicted = predict(models, SettingBatch(here, values, 1 + len(moves)), limits.design_room_c)
    lines = []
    for row, (control, step) in enumerate(moves, 1):
        name = number_text(step, 0) if step < 0 else f"+{number_text(step, 0)}"
        unit = quantity_of(control).unit
        part = part_of(control)
        lines.append(
            (
                f"{name}{NO_BREAK_SPACE}{unit} {part}".strip(),
                signed_text(predicted.core_c[row] - predicted.core_c[0], 1),
                signed_text(predicted.in_room_dba[row] - predicted.in_room_dba[0], 1),
                signed_text(predicted.throughput_percent[row] - predicted.throughput_percent[0], 1),
            )
        )
    return Columns(tr("One step away"), (tr("core, K"), tr("noise, dB"), tr("thr., %")), tuple(lines))


def _within(card: RigCard, control: str, value: float) -> float:
    known = card.control(control)
    return min(max(value, known.low), known.high) if known is not None else value


def heat_path_words(mapped: SettingMap, one: Candidate | None) -> Words:
    """Return the resistance from core to room, at a setting's watts or those that were measured, and what it rests on."""
    heat = mapped.models.heat
    power = one.power_w if one is not None else mapped.watts.measured_w
    path = quantity_of("thermal_resistance_kpw").with_unit(*heat.resistance(power, heat.full_rpm))
    words = tr("At full fan speed each further watt adds {path}; from {n} settled runs.")
    bounds = tr(" {n} more, limited by their cap, are bounds.").format(n=heat.bounds) if heat.bounds else ""
    return Words(tr("Heat path"), words.format(path=path, n=heat.runs) + bounds)


def why_here(mapped: SettingMap, one: Candidate, choice: Choice | None) -> list[Block]:
    """Say why a setting is or is not the pick, what it leans on, and what to mind about it."""
    blocks: list[Block] = []
    if choice is not None and one.setting == choice.pick.setting:
        blocks.append(Words(tr("Why here"), pick_reason(choice)))
    elif choice is not None and mapped.request.room_c is None and math.isfinite(one.core_c):
        blocks.append(Words(tr("Against the pick"), comparison_text(choice, one)))
    cautions = _cautions(one)
    if cautions:
        blocks.append(Words(tr("Caution"), " ".join(cautions)))
    if mapped.other is not None:
        blocks.append(_against(mapped, mapped.other, one))
    if mapped.models.heat.follows_runs:
        blocks.append(Words(tr("What does not fit"), _misfit_words(mapped.models.heat)))
    if mapped.models.left_out:
        blocks.append(Words(tr("What is left out"), _left_out_words(mapped.models.left_out)))
    return blocks


def _cautions(one: Candidate) -> list[str]:
    """Say what to mind about a setting."""
    cautions: list[str] = []
    if math.isnan(one.core_c):
        cautions.append(tr("No steady state here: no clock keeps the temperature cap, or no temperature balances the leakage."))
    elif one.heat_limited:
        cautions.append(tr("The temperature cap limits the clock here: the core stands at it, and the room decides the work."))
    if not one.inside:
        cautions.append(tr("No runs surround this point: it is extrapolated, and its interval is the models' own."))
    if one.failures:
        cautions.append(tr("It was run, and it failed."))
    if "headroom" in one.breaks and not one.heat_limited:
        cautions.append(tr("The required headroom is not certain here in the design room."))
    return cautions


def _against(mapped: SettingMap, other: SettingGrid, one: Candidate) -> Columns:
    """Return what the machine gains or loses at a setting against another of its states, and whether that is shown."""
    index = mapped.field.nearest(*(one.setting.value(control) or 0.0 for control in (mapped.field.across, mapped.field.up)))
    here, there = mapped.field.predicted, other.predicted
    rows = []
    for name, a, a_hw, b, b_hw in (
        (tr("Core, K"), here.core_c, here.core_hw, there.core_c, there.core_hw),
        (tr("Noise, dB"), here.in_room_dba, here.in_room_hw, there.in_room_dba, there.in_room_hw),
        (
            tr("Work, %"),
            *(here.throughput_percent, here.throughput_hw),
            *(there.throughput_percent, there.throughput_hw),
        ),
    ):
        apart = difference(a[index], a_hw[index], b[index], b_hw[index])
        verdict = tr("shown") if apart.shown else tr("none")
        spread = f"±{NO_BREAK_SPACE}{number_text(float(apart.half_width), 1)}"
        rows.append((name, signed_text(float(apart.value), 1), spread, verdict))
    return Columns(tr("Less {variant}").format(variant=mapped.request.against), ("", "", ""), tuple(rows))


def _left_out_words(left_out: Sequence[LeftOut]) -> str:
    """Say which figures are in no model, the first few of them whole."""
    words = [f"{one.words}." for one in left_out[:MOST_LEFT_OUT]]
    if len(left_out) > MOST_LEFT_OUT:
        words.append(tr("{n} more are left out; niente-cli fit names them.").format(n=len(left_out) - MOST_LEFT_OUT))
    return " ".join(words)


def _misfit_words(heat: HeatPath) -> str:
    """Say what the sum does not explain, and what the map does about it."""
    if not heat.misfits:
        words = tr("The sum leaves out {n} % of the rise on this machine: the map follows the nearby runs.")
        return words.format(n=number_text(100.0 * heat.share_sd, 0))
    worst = heat.misfits[0]
    words = tr("Run {n} does not fit: {a} K measured, {b} K modelled. Near such runs the map follows the runs.")
    return words.format(n=worst.run_id, a=number_text(worst.measured_k, 1), b=number_text(worst.modelled_k, 1))


# -- rise against watts --------------------------------------------------------------------------------------------------


def line_blocks(lines: WattLines, line: WattLine, scale: Scale, other_heat_w: float) -> list[Block]:
    """Explain a line: its capacity, its slope, and the capacities of all."""
    first = line.capacities[0]
    kpw, watts, dba = quantity_of("thermal_resistance_kpw"), quantity_of("package_power_w"), quantity_of("noise_dba")
    title = (
        f"{number_text(first.power_w, 0)} ± {number_text(first.half_width_w, 0)} W"
        if math.isfinite(first.power_w)
        else tr("no limit met")
    )
    rise, _ = line.at(line.near_w)
    readings = (
        _line(tr("Slope near {w} W").format(w=f"{line.near_w:.0f}"), kpw, line.slope_kpw, line.slope_hw),
        _line(tr("Rise over power"), kpw, rise / line.near_w),
        *(
            _line(tr("At {room} °C").format(room=f"{one.room_c:g}"), watts, one.power_w, one.half_width_w)
            for one in line.capacities
        ),
        _line(tr("Noise, room"), dba, line.in_room_dba, line.in_room_hw, scale.mark(line.in_room_dba)),
        Reading(tr("Runs on this line"), str(len(line.points))),
    )
    rows = tuple(
        (
            f"{one.duty:g}{NO_BREAK_SPACE}%",
            *(number_text(capacity.power_w, 0) if math.isfinite(capacity.power_w) else "–" for capacity in one.capacities),
            number_text(one.in_room_dba, 1),
        )
        for one in lines.lines
    )
    heads = (*(f"W, {room:g}{NO_BREAK_SPACE}°C" for room in lines.rooms_c), tr("dBA"))
    blocks: list[Block] = [
        Title(tr("{group} fans at {duty} %").format(group=lines.group.capitalize(), duty=f"{line.duty:g}"), title),
        Readings(tr("Capacity at the limit"), readings),
        Columns(tr("Capacity"), heads, rows),
    ]
    blocks.append(Words(tr("What the slope says"), _slope_words(lines, line)))
    words = tr("About {w} W of board, memory and cards warm the air before the package does: the lines do not meet at zero.")
    blocks.append(Words(tr("Why the lines miss zero"), words.format(w=number_text(other_heat_w, 0))))
    words = tr("Capacity is where the limit is met, not where to run. Keep the headroom, and the maker's limits.")
    blocks.append(Words(tr("Caution"), words))
    return blocks


def _slope_words(lines: WattLines, line: WattLine) -> str:
    """Say what the next line up would win, and whether that is more than the intervals."""
    index = lines.lines.index(line)
    if index + 1 >= len(lines.lines):
        return tr("These are the fastest fans that were run: what is left is the path that no fan changes.")
    faster = lines.lines[index + 1]
    wins = line.slope_kpw - faster.slope_kpw
    louder = faster.in_room_dba - line.in_room_dba
    spread = math.hypot(line.slope_hw, faster.slope_hw)
    if wins <= spread:
        words = tr("Fans at {duty} % cost {db} dB and gain nothing beyond the intervals: something else limits it.")
        return words.format(duty=f"{faster.duty:g}", db=number_text(louder, 1))
    words = tr("Fans at {duty} % take {k} K off every 100 W for {db} dB.")
    return words.format(duty=f"{faster.duty:g}", k=number_text(100.0 * wins, 1), db=number_text(louder, 1))


# -- noise ----------------------------------------------------------------------------------------------------------------


def noise_blocks(
    shown: Loudness, one: GroupNoise | None, duty: float, scale: Scale, law: tuple[float, float] | None
) -> list[Block]:
    """Explain a group's noise at a duty, or that of all together; ``law`` is its dB a decade of speed with the error."""
    dba, rpm = quantity_of("noise_dba"), quantity_of("fan_speed_rpm")
    if one is None:
        level = float(np.interp(duty, shown.duty, shown.together_dba))
        spread = float(np.interp(duty, shown.duty, shown.together_hw))
        lines: tuple[Reading, ...] = (_line(tr("In the room"), dba, level, spread, scale.mark(level)),)
        parts = [(group.group, float(np.interp(duty, group.duty, group.alone_dba))) for group in shown.groups]
        rows = tuple((name, number_text(value, 1)) for name, value in sorted(parts, key=lambda part: -part[1]))
        return [
            Title(tr("All groups together"), f"{duty:.0f}{NO_BREAK_SPACE}%"),
            Readings(tr("Inferred from each group"), lines),
            Columns(tr("Each alone"), (tr("dBA"),), rows),
            Words(
                tr("How levels add"), tr("As energies: two equal groups are 3 dB above one, and one 10 dB under is not heard.")
            ),
        ]
    level = float(np.interp(duty, one.duty, one.in_room_dba))
    spread = float(np.interp(duty, one.duty, one.in_room_hw))
    alone, apart = (float(np.interp(duty, one.duty, known)) for known in (one.alone_dba, one.alone_hw))
    speed = float(np.interp(duty, one.duty, one.rpm))
    readings = [
        _line(tr("Speed"), rpm, speed),
        _line(tr("In the room"), dba, level, spread, scale.mark(level)),
        _line(tr("The group alone"), dba, alone, apart) if speed > MIN_RPM else Reading(tr("The group alone"), tr("it stands")),
        Reading(tr("Readings"), str(len(one.heard))),
    ]
    if law is not None:
        spread_text = f"±{NO_BREAK_SPACE}{number_text(law[1], 0)}"
        readings.insert(3, Reading(tr("Speed law"), number_text(law[0], 0), spread_text, tr("dB/decade")))
    blocks: list[Block] = [
        Title(tr("{group} fans alone").format(group=one.group.capitalize()), f"{duty:.0f}{NO_BREAK_SPACE}%"),
        Readings(tr("At this duty"), tuple(readings)),
    ]
    if alone < shown.background_dba - 6.0:
        words = tr("More than 6 dB under the room it cannot be measured here: its level is extrapolated by the speed law.")
        blocks.append(Words(tr("Inferred"), words))
    if not one.seen[0] <= duty <= one.seen[1]:
        words = tr("This group was heard from {a} to {b} %.").format(a=f"{one.seen[0]:g}", b=f"{one.seen[1]:g}")
        blocks.append(Words(tr("Not measured"), words))
    return blocks
