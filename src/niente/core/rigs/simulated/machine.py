"""A simulated machine as data: what its JSON file holds, and how that is read."""

from importlib import resources

import msgspec

from niente.core.errors import DocumentError
from niente.core.rigcard import Control, LoadKind, MakersLimits, Part
from niente.core.setting import Setting

MACHINES = "niente.core.rigs.simulated.machines"


class Thermal(msgspec.Struct, frozen=True):
    """Heat path. Capacities in J/K, conductances in W/K.

    Cores stand on the spreader, that on the cooler's base, that in two fin stacks (near and far), those in the case
    air, that between the room and the panels. ``*_natural`` is what flows without a fan at 20 K of difference.
    """

    core_capacity: float
    core_conductance: float
    neighbour_conductance: float
    core_spread: float
    spreader_capacity: float
    spreader_base: float
    base_capacity: float
    base_fins: float
    fins_capacity: float
    fins_forced: float
    fins_natural: float
    fins_exponent: float
    recirculation: float
    air_capacity: float
    air_forced: float
    air_natural: float
    panel_capacity: float
    air_panel: float
    panel_room: float
    board_capacity: float
    board_air: float
    filter_loss: float


class Electrical(msgspec.Struct, frozen=True):
    """Power and firmware. ``curve_mhz`` and ``curve_v`` are the stock voltage at each clock.

    Switched capacitance in nF for all cores at activity 1; leakage in W a core at 1 V and 60 °C.
    """

    curve_mhz: tuple[float, ...]
    curve_v: tuple[float, ...]
    switched_nf: float
    leakage_w: float
    leakage_per_v: float
    leakage_per_k: float
    uncore_w: float
    load_line_mohm: float
    board_loss: float
    board_idle_w: float
    other_heat_w: float
    supply_efficiency: float
    average_s: float
    burst_ratio: float
    idle_mhz: float


class Fan(msgspec.Struct, frozen=True):
    """A fan group: its speed at full duty, where it starts and stalls (% duty), its inertia, and its sound at 1 m.

    ``level_db`` is the group's level at full speed, ``per_decade`` its speed law; ``hump_db`` is added where the
    speed meets a resonance at ``hump_rpm`` of half width ``hump_width_rpm``.
    """

    full_rpm: float
    start_duty: float
    stall_duty: float
    inertia_s: float
    level_db: float
    per_decade: float
    hump_rpm: float = 0.0
    hump_width_rpm: float = 1.0
    hump_db: float = 0.0


class RoomModel(msgspec.Struct, frozen=True):
    """The room: mean temperature, heating cycle and slow drift (amplitudes in K, periods in s), background in dBA."""

    mean_c: float
    cycle_k: float
    cycle_s: float
    drift_k: float
    drift_s: float
    background_dba: float


class Silicon(msgspec.Struct, frozen=True):
    """Where results go wrong: the voltage a core needs lies ``margin_mv`` below the stock curve at full activity.

    The margin shrinks with temperature; cores differ by ``spread_mv``. ``scale_mv`` is how steeply the rate rises.
    """

    margin_mv: float
    spread_mv: float
    scale_mv: float
    margin_mv_per_k: float


class Sensors(msgspec.Struct, frozen=True):
    """How readings differ from the truth: steps, noise (standard deviations), gains and the meter's floor."""

    temperature_step_k: float
    temperature_noise_k: float
    temperature_offset_k: float
    power_gain: float
    power_noise_w: float
    clock_noise_mhz: float
    speed_noise_rpm: float
    noise_noise_db: float
    noise_floor_dba: float


class MachineLoad(msgspec.Struct, frozen=True):
    """A load: how much of the cores it switches, its throughput at 1 GHz, how that scales with the clock."""

    name: str
    title: str
    kind: LoadKind
    activity: float
    per_ghz: float
    clock_exponent: float
    checks_results: bool
    unrest: float


class Machine(msgspec.Struct, frozen=True):
    """One simulated machine, whole."""

    name: str
    title: str
    summary: str
    variant: str
    cores: int
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
    text = (resources.files(MACHINES) / f"{name}.json").read_bytes()
    try:
        return msgspec.json.decode(text, type=Machine)
    except msgspec.DecodeError as error:
        raise DocumentError(f"The machine file {name}.json cannot be read: {error}.", remedy="Mend that place.") from None
