"""What a simulated machine calls its readings and controls, and the card that says so."""

import msgspec

from niente.core.model.names import control_name, kind_of, part_of
from niente.core.model.quantities import QUANTITIES, Quantity
from niente.core.model.rig_card import Channel, Control, LoadCard, Part, RigCard, Variant
from niente.core.model.setting import Setting
from niente.core.rigs.simulated.layout import case_air_of
from niente.core.rigs.simulated.machine import Machine

SAMPLE_PERIOD_S = 1.0
EVERY = "*"
METER_CLASSES = ("no class given", "class 1", "class 2")
ZERO_MAPS = ("core_offset_mv", "point_offset_mv", "load_size")
"""Controls by core, by point of the curve and by load that are 0 where a file does not say."""


def channels_of(machine: Machine) -> tuple[Channel, ...]:
    """Return the channels of a machine, in the order of its frames."""
    step = machine.sensors.temperature_step_k
    readings = {name: QUANTITIES.get(kind_of(name)) for name in machine.heat.readings.values()}
    pump = machine.pump
    graphics = any(load.graphics_w for load in machine.loads)
    return (
        *(Channel(f"core_temperature_c.{i}", f"Core {i}", step) for i in range(1, machine.processor.cores + 1)),
        *(Channel(name, _titled(name, kind), _step_of(name, step)) for name, kind in readings.items()),
        Channel("room_temperature_c", "Room", 0.1),
        Channel("package_power_w", "Package power", 0.1),
        *((Channel("graphics_power_w", "Graphics power", 0.1),) if graphics else ()),
        Channel("wall_power_w", "Wall power", 0.1),
        Channel("effective_clock_mhz", "Effective clock", 1.0),
        Channel("core_voltage_v", "Core voltage", 0.001),
        Channel("throughput_per_s", "Throughput"),
        *(
            Channel(
                f"fan_speed_rpm.{group}",
                f"{'Pump' if pump is not None and pump.group == group else 'Fan'} speed, {group}",
                1.0,
            )
            for group in machine.groups()
        ),
        Channel("noise_dba", f"Noise at {machine.meter.distance_m:g} m", machine.meter.step_db),
    )


def air_probes(machine: Machine) -> tuple[int, ...]:
    """Return the channels that read the air at a place of their own, beside the one that reads it at the processor."""
    names = [channel.name for channel in channels_of(machine)]
    return tuple(index for index, name in enumerate(names) if kind_of(name) == "case_air_temperature_c" and part_of(name))


def _titled(name: str, kind: Quantity | None) -> str:
    """Return what a reading is called, with its part where there are several."""
    part = part_of(name)
    return name if kind is None else f"{kind.title}, {part}" if part else kind.title


def _step_of(name: str, step_k: float) -> float:
    """Sensors in air and coolant are finer than those on the board."""
    return 0.1 if name.startswith(("case_air", "coolant")) else step_k


def controls_of(machine: Machine) -> tuple[Control, ...]:
    """Return the controls of a machine, those that stand for many written out."""
    counts = {"core_offset_mv": machine.processor.cores, "point_offset_mv": len(machine.processor.curve_mhz)}
    found: list[Control] = []
    for control in machine.controls:
        name, part = control_name(control.name)
        if part == EVERY and name in counts:
            found += [msgspec.structs.replace(control, name=f"{name}.{i}") for i in range(1, counts[name] + 1)]
        else:
            found.append(control)
    return tuple(found)


def filled(machine: Machine, setting: Setting) -> Setting:
    """Return a setting of the file with the offsets and sizes that it leaves out written in as 0."""
    for control in controls_of(machine):
        if control.name.startswith(ZERO_MAPS) and setting.value(control.name) is None:
            setting = setting.replaced(control.name, 0.0)
    return setting


def describe(machine: Machine, seed: int, variants: tuple[Variant, ...] = (), base_parts: tuple[Part, ...] = ()) -> RigCard:
    """Return the rig card of one sample of a simulated machine; its seed is its serial number."""
    return RigCard(
        name=machine.name,
        title=machine.title,
        summary=machine.summary,
        simulated=True,
        serial=str(seed),
        variant=machine.variant,
        channels=channels_of(machine),
        controls=controls_of(machine),
        loads=tuple(LoadCard(load.name, load.title, load.kind, load.checks_results, load.counts) for load in machine.loads),
        limits=machine.limits,
        stock=filled(machine, machine.stock),
        safe=filled(machine, machine.safe),
        sample_period_s=SAMPLE_PERIOD_S,
        parts=machine.parts,
        variants=variants,
        curve_sources=machine.curve_sources,
        base_parts=base_parts,
        room={
            "temperature_c": machine.room.mean_c,
            "humidity_percent": machine.room.humidity_percent,
            "altitude_m": machine.room.altitude_m,
            "day_dba": machine.room.day_dba,
            "night_dba": machine.room.night_dba,
            "day_from_h": machine.room.day_from_h,
            "day_to_h": machine.room.day_to_h,
        },
        meter={
            "standard": METER_CLASSES[machine.meter.class_],
            "distance_m": machine.meter.distance_m,
            "place": machine.meter.place,
        },
        air=case_air_of(machine),
        listener=msgspec.to_builtins(machine.listener) if machine.listener is not None else {},
    )
