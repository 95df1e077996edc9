"""Machines made up at random from wide ranges of physics, so that no figure rests on those that ship.

Each begins as one of the shipped machines, whose nodes and fans it keeps, and everything that has a size is drawn anew: where
air goes and leaks, with a fan that works against the stream on some, curves of voltage, leakage, sinks and paste, fans with
their speed over duty, laws and resonances, how work follows the clock, limits below caps, a clock that is fused below its cap,
steps and offsets of sensors, and a room that wanders.
"""

import msgspec
import numpy as np

from benchmarks.made_air import drawn_air
from niente.core.model.errors import DocumentError
from niente.core.rigs.simulated.machine import Fan, Hump, Machine, MachineLoad, Pass, ThermalLink
from niente.core.rigs.simulated.machine_files import MachineFile, read_machine, shipped_file, shipped_machines
from niente.core.rigs.simulated.rig import SimulatedRig

HOTTEST_STOCK_K, COOLEST_STOCK_K = 72.0, 18.0
"""Rises at the stock setting that a machine may have without limits: a heatsink is made for what it is put on."""
changed = msgspec.structs.replace


class _Draws:
    """Draws of one machine."""

    def __init__(self, seed: int) -> None:
        self.rng = np.random.default_rng([seed, 77])

    def times(self, value: float, spread: float) -> float:
        """Return a value times a log-normal factor."""
        return float(value * np.exp(spread * np.clip(self.rng.standard_normal(), -2.0, 2.0)))

    def between(self, low: float, high: float) -> float:
        """Return a value between two others."""
        return float(self.rng.uniform(low, high))

    def chance(self, share: float) -> bool:
        """Return whether something is so, in a share of the machines."""
        return bool(self.rng.random() < share)


def made_machine(seed: int) -> MachineFile:
    """Return the machine of a seed; draws that no machine file could hold are drawn again."""
    names = shipped_machines()
    for attempt in range(50):
        draws = _Draws(seed * 1000 + attempt)
        base = shipped_file(names[seed % len(names)]).machine
        try:
            file = read_machine(msgspec.json.encode(_drawn(draws, base, seed)), f"made {seed}")
        except DocumentError:
            continue
        if _works(file):
            return file
    raise RuntimeError(f"no machine came of seed {seed}")


def _works(file: MachineFile) -> bool:
    """Return whether a machine is one that somebody would keep: neither cooked at stock nor hardly warm."""
    rig = SimulatedRig(file, seed=1)
    card = rig.describe()
    heavy = next(load.name for load in card.loads if load.kind == "heavy")
    rise = rig.true_settled(card.stock, heavy, 23.0, hours=3.0).hottest_c - 23.0
    return COOLEST_STOCK_K <= rise <= HOTTEST_STOCK_K


def _drawn(draws: _Draws, base: Machine, seed: int) -> Machine:
    stock_w = base.stock.sustained_power_w or 100.0
    power = next(one for one in base.controls if one.name == "sustained_power_w")
    share = draws.between(0.75, 1.15)  # limits below caps: with the lower ones power limits stock, with the higher the clock
    limit = float(round(min(max(stock_w * share, power.low + 10 * power.step), power.high)))
    stock = base.stock.replaced("sustained_power_w", limit)
    for group in stock.fan_duty:
        if group != "pump":
            stock = stock.replaced(f"fan_duty.{group}", float(round(draws.between(55.0, 90.0))))
    return changed(
        base,
        name=f"made-{seed}",
        title=f"Made {seed}",
        variants=(),
        stock=stock,
        processor=_processor(draws, base, stock.clock_cap_mhz or base.processor.curve_mhz[-1]),
        heat=changed(
            base.heat,
            cores=changed(base.heat.cores, conductance=draws.times(base.heat.cores.conductance, 0.2),
                          spread=draws.between(0.0, 0.15)),
            nodes={name: draws.times(value, 0.3) for name, value in base.heat.nodes.items()},
            links=tuple(_link(draws, link) for link in base.heat.links),
            air=drawn_air(base.heat.air, draws.rng, draws.times, lambda one: _pass(draws, one))
            if base.heat.air is not None
            else None,
            sources=tuple(changed(one, watts=draws.times(one.watts, 0.4)) for one in base.heat.sources),
        ),
        fans={name: _fan(draws, fan) for name, fan in base.fans.items()},
        whine=changed(base.whine, level_db=draws.between(2.0, 20.0), per_decade=draws.between(8.0, 22.0))
        if base.whine is not None
        else None,
        room=changed(
            base.room,
            mean_c=draws.between(18.0, 27.0),
            cycle_k=draws.between(0.05, 0.6),
            drift_k=draws.between(0.1, 1.2),
            wander_db=draws.between(0.1, 1.2),
            night_dba=draws.between(17.0, 27.0),
            day_dba=draws.between(27.0, 33.0),
        ),
        meter=changed(base.meter, scatter_db=draws.between(0.1, 0.6), floor_dba=draws.between(12.0, 20.0)),
        sensors=changed(
            base.sensors,
            temperature_step_k=float(draws.rng.choice([0.1, 0.25, 0.5, 1.0, 1.0])),
            temperature_noise_k=draws.between(0.05, 0.8),
            temperature_offset_k=draws.between(0.0, 1.5),
            power_noise_w=draws.between(0.1, 1.2),
            gains={**base.sensors.gains, "package_power_w": draws.between(0.93, 1.07)},
            offsets={**base.sensors.offsets, "room_temperature_c": draws.between(-1.5, 1.5)},
        ),
        loads=tuple(_load(draws, load) for load in base.loads),
    )  # fmt: skip


def _processor(draws: _Draws, base: Machine, cap_mhz: float):  # type: ignore[no-untyped-def]
    made = base.processor
    mhz = np.array(made.curve_mhz)
    x = (mhz - mhz[0]) / (mhz[-1] - mhz[0])
    low, high = draws.between(0.6, 0.8), draws.between(1.1, 1.4)
    bent = low + (high - low) * x ** draws.between(1.0, 2.2)
    bent[1:-1] += 0.012 * draws.rng.standard_normal(mhz.shape[0] - 2)  # points are set in steps, by hand
    volts = np.maximum.accumulate(np.round(bent, 3))
    return changed(
        made,
        curve_v=tuple(volts.tolist()),
        switched_nf=draws.times(made.switched_nf, 0.15),
        leakage_w=draws.times(made.leakage_w, 0.5),
        leakage_per_v=draws.between(2.5, 5.5),
        leakage_per_k=draws.between(0.008, 0.022),
        uncore_w=draws.times(made.uncore_w, 0.3),
        load_line_mohm=draws.times(made.load_line_mohm, 0.5),
        average_s=draws.between(8.0, 56.0),
        all_core_mhz=float(round(cap_mhz * draws.between(0.85, 0.99) / 25.0) * 25.0) if draws.chance(0.3) else 0.0,
        silicon=changed(
            made.silicon,
            margin_mv=draws.between(50.0, 130.0),
            spread_mv=draws.between(3.0, 12.0),
            scale_mv=draws.between(2.0, 6.0),
            margin_mv_per_k=draws.between(0.0, 0.35),
        ),
    )


def _link(draws: _Draws, link: ThermalLink) -> ThermalLink:
    return changed(link, conductance=draws.times(link.conductance, 0.25), natural=draws.times(link.natural, 0.3))


def _pass(draws: _Draws, one: Pass) -> Pass:
    return changed(one, ua=draws.times(one.ua, 0.25), exponent=draws.between(0.45, 0.85))


def _fan(draws: _Draws, fan: Fan) -> Fan:
    full = draws.times(fan.full_rpm, 0.2)
    return changed(
        fan,
        full_rpm=full,
        pressure_pa=draws.times(fan.pressure_pa, 0.3),
        flow_m3h=draws.times(fan.flow_m3h, 0.2),
        level_db=fan.level_db + 3.0 * float(draws.rng.standard_normal()),
        per_decade=draws.between(47.0, 60.0),
        bend=draws.between(0.2, 0.9),
        tone_db=draws.between(-24.0, -6.0),
        blades=int(draws.rng.integers(5, 12)),
        speed_exponent=draws.between(0.8, 1.2),
        humps=tuple(
            Hump(full * draws.between(0.3, 1.0), full * draws.between(0.03, 0.08), draws.between(0.5, 3.5))
            for _ in range(int(draws.rng.integers(0, 4)))
        ),
    )


def _load(draws: _Draws, load: MachineLoad) -> MachineLoad:
    if load.is_idle:
        return load
    return changed(
        load,
        clock_exponent=draws.between(0.85, 1.0),
        waits=draws.between(0.0, 0.2) if draws.chance(0.7) else 0.0,
        unrest=draws.times(load.unrest, 0.7),
        activity=draws.times(load.activity, 0.1),
    )
