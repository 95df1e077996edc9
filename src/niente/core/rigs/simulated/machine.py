"""A simulated machine as data: what its JSON file holds, how that is read, and what is refused about it."""

from importlib import resources
from itertools import pairwise
from pathlib import Path
from typing import Annotated

import msgspec

from niente.core.errors import DocumentError
from niente.core.rigcard import Control, LoadKind, MakersLimits, Part
from niente.core.setting import Setting

MACHINES = "niente.core.rigs.simulated.machines"

Positive = Annotated[float, msgspec.Meta(gt=0)]
NotNegative = Annotated[float, msgspec.Meta(ge=0)]
Share = Annotated[float, msgspec.Meta(ge=0, le=1)]
Percent = Annotated[float, msgspec.Meta(ge=0, le=100)]
Celsius = Annotated[float, msgspec.Meta(ge=-40, le=150)]


class Thermal(msgspec.Struct, frozen=True):
    """Heat path. Capacities in J/K, conductances in W/K.

    Cores stand on the spreader, that on the cooler's base, that in two fin stacks (near and far), those in the case
    air, that between the room and the panels. ``*_natural`` is what flows without a fan at 20 K of difference.
    """

    core_capacity: Positive
    core_conductance: Positive
    neighbour_conductance: NotNegative
    core_spread: Share
    spreader_capacity: Positive
    spreader_base: Positive
    base_capacity: Positive
    base_fins: Positive
    fins_capacity: Positive
    fins_forced: Positive
    fins_natural: Positive
    fins_exponent: Positive
    recirculation: Share
    air_capacity: Positive
    air_forced: Positive
    air_natural: Positive
    panel_capacity: Positive
    air_panel: Positive
    panel_room: Positive
    board_capacity: Positive
    board_air: Positive
    filter_loss: NotNegative


class Electrical(msgspec.Struct, frozen=True):
    """Power and firmware. ``curve_mhz`` and ``curve_v`` are the stock voltage at each clock.

    Switched capacitance in nF for all cores at activity 1; leakage in W a core at 1 V and 60 °C.
    """

    curve_mhz: tuple[Positive, ...]
    curve_v: tuple[Positive, ...]
    switched_nf: Positive
    leakage_w: NotNegative
    leakage_per_v: NotNegative
    leakage_per_k: NotNegative
    uncore_w: Positive
    load_line_mohm: NotNegative
    board_loss: NotNegative
    board_idle_w: NotNegative
    other_heat_w: NotNegative
    supply_efficiency: Annotated[float, msgspec.Meta(gt=0, le=1)]
    average_s: Positive
    burst_ratio: Positive
    idle_mhz: Positive


class Fan(msgspec.Struct, frozen=True):
    """A fan group: its speed at full duty, where it starts and stalls (% duty), its inertia, and its sound at 1 m.

    ``level_db`` is the group's level at full speed, ``per_decade`` its speed law; ``hump_db`` is added where the
    speed meets a resonance at ``hump_rpm`` of half width ``hump_width_rpm``.
    """

    full_rpm: Positive
    start_duty: Percent
    stall_duty: Percent
    inertia_s: Positive
    level_db: float
    per_decade: Positive
    hump_rpm: NotNegative = 0.0
    hump_width_rpm: Positive = 1.0
    hump_db: NotNegative = 0.0


class RoomModel(msgspec.Struct, frozen=True):
    """The room: mean temperature, heating cycle and slow drift (amplitudes in K, periods in s), background in dBA."""

    mean_c: Celsius
    cycle_k: NotNegative
    cycle_s: Positive
    drift_k: NotNegative
    drift_s: Positive
    background_dba: NotNegative


class Silicon(msgspec.Struct, frozen=True):
    """Where results go wrong: the voltage a core needs lies ``margin_mv`` below the stock curve at full activity.

    The margin shrinks with temperature; cores differ by ``spread_mv``. ``scale_mv`` is how steeply the rate rises.
    """

    margin_mv: float
    spread_mv: NotNegative
    scale_mv: Positive
    margin_mv_per_k: float


class Sensors(msgspec.Struct, frozen=True):
    """How readings differ from the truth: steps, noise (standard deviations), gains and the meter's floor."""

    temperature_step_k: Positive
    temperature_noise_k: NotNegative
    temperature_offset_k: NotNegative
    power_gain: Positive
    power_noise_w: NotNegative
    clock_noise_mhz: NotNegative
    speed_noise_rpm: NotNegative
    noise_noise_db: NotNegative
    noise_floor_dba: float


class MachineLoad(msgspec.Struct, frozen=True):
    """A load: how much of the cores it switches, its throughput at 1 GHz, how that scales with the clock."""

    name: str
    title: str
    kind: LoadKind
    activity: NotNegative
    per_ghz: NotNegative
    clock_exponent: Positive
    checks_results: bool
    unrest: NotNegative


class Machine(msgspec.Struct, frozen=True):
    """One simulated machine, whole."""

    name: str
    title: str
    summary: str
    variant: str
    cores: Annotated[int, msgspec.Meta(ge=1, le=256)]
    thermal: Thermal
    electrical: Electrical
    fans: dict[str, Fan]
    room: RoomModel
    silicon: Silicon
    sensors: Sensors
    loads: tuple[MachineLoad, ...]
    controls: tuple[Control, ...]
    limits: MakersLimits
    stock: Setting
    safe: Setting
    parts: tuple[Part, ...] = ()


def shipped_machines() -> tuple[str, ...]:
    """Return the names of the machines that ship, Larkspur first."""
    names = sorted(
        entry.name.removesuffix(".json") for entry in resources.files(MACHINES).iterdir() if entry.name.endswith(".json")
    )
    return tuple(sorted(names, key=lambda name: name != "larkspur"))


def load_machine(name: str) -> Machine:
    """Return a machine that ships. Raises ``DocumentError`` where its file is not what it should be."""
    return read_machine((resources.files(MACHINES) / f"{name}.json").read_bytes(), f"{name}.json")


def machine_from(path: Path) -> Machine:
    """Return the machine in a file of a person's own. Raises ``DocumentError`` that names the field and the reason."""
    try:
        text = path.read_bytes()
    except OSError as error:
        raise DocumentError(f"{path} cannot be read: {error.strerror}.", remedy="Check its name.") from None
    return read_machine(text, path.name)


def read_machine(text: bytes, source: str) -> Machine:
    """Return the machine in a JSON text; fields that are not known are left alone. Raises ``DocumentError``."""
    try:
        machine = msgspec.json.decode(text, type=Machine)
    except (msgspec.DecodeError, UnicodeDecodeError) as error:
        what, _, where = str(error).partition(" - at ")
        place = where.strip("`").removeprefix("$").removeprefix(".") or "the top"
        raise _refused(source, [f"{place}: {what}"]) from None
    problems = impossible(machine)
    if problems:
        raise _refused(source, problems)
    return machine


def _refused(source: str, problems: list[str]) -> DocumentError:
    return DocumentError(
        f"The machine file {source} is refused: {'; '.join(problems)}.",
        safe="The file is untouched and no rig was opened.",
        remedy="Mend these places.",
    )


def impossible(machine: Machine) -> list[str]:
    """Return what cannot be about a machine, each with the path of its field; an empty list where all of it can."""
    found = []
    curve = machine.electrical
    if len(curve.curve_mhz) != len(curve.curve_v) or len(curve.curve_mhz) < 2:
        found.append("electrical.curve_v: as many voltages are wanted as electrical.curve_mhz has clocks, and at least two")
    for name, values in (("curve_mhz", curve.curve_mhz), ("curve_v", curve.curve_v)):
        if any(b < a for a, b in pairwise(values)):
            found.append(f"electrical.{name}: it falls; a curve goes up")
    for group, fan in machine.fans.items():
        if fan.stall_duty > fan.start_duty:
            found.append(f"fans.{group}.stall_duty: {fan.stall_duty:g} % lies above start_duty = {fan.start_duty:g} %")
    found += [f"fans: the group {group!r} is missing" for group in ("case", "cooler") if group not in machine.fans]
    limits = machine.limits
    if limits.core_temperature_c >= limits.shut_down_c:
        found.append("limits.core_temperature_c: it does not lie below limits.shut_down_c")
    if limits.core_temperature_c - limits.margin_k <= machine.room.mean_c + machine.room.cycle_k + machine.room.drift_k:
        found.append("limits.core_temperature_c: less its margin it does not lie above the room")
    found += [
        f"loads: none of kind {kind.value!r}"
        for kind in (LoadKind.IDLE, LoadKind.HEAVY)
        if all(load.kind != kind for load in machine.loads)
    ]
    names = [load.name for load in machine.loads]
    found += [f"loads: {name!r} stands there twice" for name in sorted({name for name in names if names.count(name) > 1})]
    controls = {control.name: control for control in machine.controls}
    for at, setting in (("stock", machine.stock), ("safe", machine.safe)):
        for name, value in setting.controls():
            control = controls.get(name)
            if control is None:
                found.append(f"{at}.{name}: the machine has no such control")
            elif not control.low <= value <= control.high:
                found.append(f"{at}.{name}: {value:g} lies outside {control.low:g} to {control.high:g}")
        found += [f"{at}: {name} is not set" for name in controls if setting.value(name) is None]
    return found
