"""The fitted models of a rig, and what they say of any setting on its two axes."""

from collections.abc import Sequence

import msgspec
import numpy as np
from numpy.typing import NDArray

from niente.core.errors import NotEnoughError
from niente.core.evidence import Evidence, RunSummary
from niente.core.rigcard import LoadKind
from niente.core.science.dynamics import Scale
from niente.core.science.noise import NoiseModel, fit_noise
from niente.core.science.power import PowerLaw, fit_power_law
from niente.core.science.statistics import Z95
from niente.core.science.thermal import ThermalModel, at_room, fit_rise
from niente.core.setting import Setting

Vector = NDArray[np.float64]
Array = NDArray[np.float64]

POWER = "sustained_power_w"
"""The control along the map; the duty of the rig's leading fan group stands up it."""


SILICON = (
    "voltage_offset_mv",
    "core_offset_mv",
    "point_offset_mv",
    "clock_cap_mhz",
    "active_clock_mhz",
    "fixed_clock_mhz",
    "fixed_voltage_v",
)


class Models(msgspec.Struct, frozen=True):
    """What the runs of a rig come to. ``loads`` has a power law for every load that power was seen to hold.

    ``count_load`` is the load whose throughput counts (the realistic one where it was measured), ``heavy_load`` the
    one to survive; ``stock_throughput`` by load; ``duty_rpm`` the speeds seen for each group's
    duties. ``lead`` is the fan group that is swept, ``other`` the one beside it that cools too.
    """

    evidence: Evidence
    thermal: ThermalModel
    noise: NoiseModel
    loads: dict[str, PowerLaw]
    count_load: str
    heavy_load: str
    stock_throughput: dict[str, float]
    duty_rpm: dict[str, tuple[tuple[float, float], ...]]
    base: Setting
    room_c: float
    lead: str
    other: str | None

    @property
    def scale(self) -> Scale:
        """The dynamic scale of the room, over its background as it was measured."""
        return Scale(self.noise.background_dba, self.evidence.card.marks_over_db)

    @property
    def fans(self) -> str:
        """The control that stands up the map."""
        return f"fan_duty.{self.lead}"

    def rpm(self, group: str, duty: Array) -> Array:
        """Return a group's speed in rpm at duties in %, between the duties that were seen."""
        pairs = np.array(self.duty_rpm[group])
        speed: Array = np.interp(duty, pairs[:, 0], pairs[:, 1])
        return speed

    def speeds(self, duties: dict[str, Array]) -> Array:
        """Return speeds ``(n, groups)`` in rpm for duties ``(n,)`` a group, in the noise model's order."""
        return np.stack([self.rpm(group, duties[group]) for group in self.noise.groups], axis=-1)


class Predicted(msgspec.Struct, frozen=True):
    """What the models say of ``n`` settings; every array ``(n,)``, ``*_hw`` are 95 % half widths.

    ``core_c`` and ``headroom_k`` are for the design room; where heat would hold the clock the headroom is not
    positive. ``alone_dba`` is the machine without the room.
    """

    core_c: Vector
    core_hw: Vector
    headroom_k: Vector
    throughput_percent: Vector
    throughput_hw: Vector
    power_w: Vector
    in_room_dba: Vector
    in_room_hw: Vector
    alone_dba: Vector


def fit_models(evidence: Evidence) -> Models:
    """Fit everything. Raises ``NotEnoughError`` that says which runs are still missing."""
    card = evidence.card
    heavy = card.load_of(LoadKind.HEAVY)
    if heavy is None:
        raise NotEnoughError(f"{card.title} names no heaviest load.", remedy="Add one to the rig's loads.")
    runs = evidence.usable()
    working = [run for run in runs if run.load_kind != LoadKind.IDLE and run.failures == 0]
    settled = [run for run in working if run.load == heavy.name and run.settled.known and not run.heat_held]
    if len(settled) < 3:
        raise NotEnoughError(
            f"The heat path needs three settled runs of {heavy.title.lower()} that heat did not hold, "
            f"and there are {len(settled)}.",
            safe="What was measured is kept.",
            remedy="Run more of the plan.",
        )
    base = _base(settled, f"fan_duty.{card.lead_group()}")
    loads = _power_laws([run for run in working if same_silicon(run.setting, base)])
    if heavy.name not in loads:
        loads = _power_laws(working)
    if heavy.name not in loads:
        raise NotEnoughError(
            "No run shows what the power limit does: power held the clock in none.",
            safe="What was measured is kept.",
            remedy="Add runs at lower sustained power limits.",
        )
    realistic = card.load_of(LoadKind.REALISTIC)
    stock = {run.load: run.throughput_per_s for run in working if run.setting == card.stock}
    counts = realistic.name if realistic is not None and realistic.name in loads and realistic.name in stock else heavy.name
    if counts not in stock:
        raise NotEnoughError(
            "The throughput of the stock setting is not known.",
            safe="What was measured is kept.",
            remedy="Run the baseline: the stock setting under each load.",
        )
    groups = card.fan_groups()
    lead = card.lead_group()
    if lead is None:
        raise NotEnoughError(
            f"{card.title} has no fan group that can be set, and the map is drawn over one.",
            safe="What was measured is kept.",
            remedy="Add a control 'fan_duty.' with the group's name to the rig's card.",
        )
    other = card.held_group()
    heard = [run for run in runs if np.isfinite(run.noise_dba) and np.isfinite(run.noise_se_db)]
    if len(heard) < 2:
        raise NotEnoughError(
            f"{card.title} has given no noise readings, and a quiet point is chosen by them.",
            safe="What was measured is kept.",
            remedy="Attach a sound meter as the channel 'noise_dba'.",
        )
    rise_se = np.array([run.settled.half_width_k / Z95 for run in settled])
    thermal = fit_rise(
        np.array([run.power_w for run in settled]),
        np.array([run.rise_k for run in settled]),
        rise_se,
        _rpm_of(settled, other or ""),
        _rpm_of(settled, lead),
    )
    noise = fit_noise(
        groups,
        np.array([[run.fan_rpm[group] for group in groups] for run in heard]),
        np.array([run.noise_dba for run in heard]),
        np.array([run.noise_se_db for run in heard]),
    )
    return Models(
        evidence=evidence,
        thermal=thermal,
        noise=noise,
        loads=loads,
        count_load=counts,
        heavy_load=heavy.name,
        stock_throughput=stock,
        duty_rpm={group: speeds_seen(runs, group) for group in groups},
        base=base,
        room_c=float(np.mean([run.settled.room_c for run in settled])),
        lead=lead,
        other=other,
    )


def _base(runs: list[RunSummary], fans: str) -> Setting:
    """Return the setting that most runs share beneath the two axes; of equals the one used last."""
    shared = [run.setting.replaced(POWER, 0.0).replaced(fans, 0.0).key() for run in runs]
    most = max(shared.count(key) for key in shared)
    last = max(place for place, key in enumerate(shared) if shared.count(key) == most)
    return runs[last].setting


def same_silicon(one: Setting, other: Setting) -> bool:
    """Return whether two settings ask the same of voltage and clock, power limits and fans apart: only then does the same
    power come to the same throughput."""
    return all(getattr(one, name) == getattr(other, name) for name in SILICON)


def _rpm_of(runs: list[RunSummary], group: str) -> Vector:
    return np.array([run.fan_rpm.get(group, 0.0) for run in runs])


def _power_laws(runs: list[RunSummary]) -> dict[str, PowerLaw]:
    laws = {}
    for load in sorted({run.load for run in runs}):
        own = [
            run
            for run in runs
            if run.load == load
            and run.setting.sustained_power_w is not None
            and not run.heat_held
            and np.isfinite([run.power_w, run.throughput_per_s]).all()
        ]
        held = np.array([run.power_held for run in own], dtype=bool)
        if held.any():
            laws[load] = fit_power_law(
                np.array([run.setting.sustained_power_w for run in own], dtype=float),
                np.array([run.power_w for run in own]),
                np.array([run.throughput_per_s for run in own]),
                held,
            )
    return laws


def speeds_seen(runs: Sequence[RunSummary], group: str) -> tuple[tuple[float, float], ...]:
    """Return a fan group's duties in % that were run, rising, each with the mean speed in rpm it came to."""
    seen: dict[float, list[float]] = {}
    for run in runs:
        duty, rpm = run.setting.fan_duty.get(group), run.fan_rpm.get(group, np.nan)
        if duty is not None and np.isfinite(rpm):
            seen.setdefault(duty, []).append(rpm)
    return tuple((duty, float(np.mean(seen[duty]))) for duty in sorted(seen))


def predict(models: Models, limit_w: Vector, duties: dict[str, Vector], room_c: float) -> Predicted:
    """Return what the models say of settings: limits ``(n,)`` in W and duties ``(n,)`` in % a fan group, in a room."""
    heavy, counts = models.loads[models.heavy_load], models.loads[models.count_load]
    speeds = models.speeds(duties)
    places = {group: place for place, group in enumerate(models.noise.groups)}
    cooler = speeds[:, places[models.other]] if models.other is not None else np.zeros(speeds.shape[0])
    power = heavy.power_w(limit_w)
    rise, rise_hw = models.thermal.rise(power, cooler, speeds[:, places[models.lead]])
    core = at_room(rise, models.room_c, room_c)
    ceiling = models.evidence.card.temperature_ceiling_c(models.base)
    throughput, throughput_hw = counts.throughput(limit_w)
    per_percent = 100.0 / models.stock_throughput[models.count_load]
    in_room, in_room_hw = models.noise.in_room(speeds)
    return Predicted(
        core_c=core,
        core_hw=rise_hw,
        headroom_k=ceiling - core,
        throughput_percent=throughput * per_percent,
        throughput_hw=throughput_hw * per_percent,
        power_w=power,
        in_room_dba=in_room,
        in_room_hw=in_room_hw,
        alone_dba=models.noise.machine_alone(speeds),
    )
