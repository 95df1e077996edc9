"""What the models say of one setting under one load in one room, each figure with its interval, and whether it lies inside
what was measured; and what of the measured runs they do not explain."""

import math

import msgspec
import numpy as np
from numpy.typing import NDArray

from niente.core.choosing.models import Models, predict, same_silicon
from niente.core.errors import DocumentError
from niente.core.evidence import RunSummary
from niente.core.science.power import fit_power_law
from niente.core.setting import Setting

Vector = NDArray[np.float64]
Array = NDArray[np.float64]

HULL_SLACK = 0.02
"""So far over the edge of what was measured, as a share of its span, still counts as inside."""
RPM_SLACK = 15.0


class Figure(msgspec.Struct, frozen=True):
    """A figure with its 95 % half width; ``None`` where there is none, and then ``reason`` says why."""

    value: float | None
    half_width: float | None = None
    reason: str = ""


class Said(msgspec.Struct, frozen=True):
    """What the models say of a setting. Temperatures in the room asked for; ``outside`` says in words where the setting lies
    beyond what was measured, and is empty inside it."""

    setting: Setting
    load: str
    room_c: float
    core_c: Figure
    headroom_k: Figure
    in_room_dba: Figure
    alone_dba: Figure
    throughput_percent: Figure
    clock_mhz: Figure
    power_w: Figure
    outside: tuple[str, ...]

    @property
    def inside(self) -> bool:
        """Whether it lies inside the hull of what was measured."""
        return not self.outside


class Misfit(msgspec.Struct, frozen=True):
    """A run that the heat path does not explain: what was measured and what the model says of it, K over the room."""

    run_id: int
    measured_k: float
    modelled_k: float
    half_width_k: float


def say(models: Models, wanted: Setting, load: str, room_c: float) -> Said:
    """Return what the models say of a setting, whatever it leaves open as the runs had it.

    Raises ``DocumentError`` for a setting that the rig refuses or a load that it does not have.
    """
    card = models.evidence.card
    refused = card.refusals(wanted) + ([] if card.load(load) is not None else [f"this rig has no load {load!r}"])
    if refused:
        raise DocumentError(
            f"Nothing can be said of that: {'; '.join(refused)}.",
            safe="Nothing was changed.",
            remedy="Name controls, values and a load of this rig.",
        )
    whole = wanted.over(models.base)
    limit = whole.sustained_power_w
    duties = {group: np.array([whole.fan_duty.get(group, 0.0)]) for group in models.noise.groups}
    law = models.loads.get(load)
    if limit is None or law is None:
        none = f"no run shows what a power limit does to {load}"
        return _nothing(whole, load, room_c, none)
    said = predict(models, np.array([limit]), duties, room_c)
    heavy = load == models.heavy_load
    other = f"the heat path is known under {models.heavy_load}"
    throughput, throughput_hw = law.throughput(np.array([limit]))
    stock = models.stock_throughput.get(load)
    percent = 100.0 / stock if stock else math.nan
    clock = _clock(models, load, limit)
    headroom = float(card.temperature_ceiling_c(whole) - said.core_c[0])
    return Said(
        setting=whole,
        load=load,
        room_c=room_c,
        core_c=_figure(said.core_c, said.core_hw) if heavy else Figure(None, None, other),
        headroom_k=Figure(headroom, float(said.core_hw[0])) if heavy else Figure(None, None, other),
        in_room_dba=_figure(said.in_room_dba, said.in_room_hw),
        alone_dba=Figure(float(said.alone_dba[0]), None, "modelled: carried down the speed laws"),
        throughput_percent=_figure(throughput * percent, throughput_hw * percent)
        if stock
        else Figure(None, None, f"the stock setting was not run under {load}"),
        clock_mhz=clock,
        power_w=Figure(float(law.power_w(np.array([limit]))[0])),
        outside=_outside(models, whole, load),
    )


def _figure(value: Array, half_width: Array) -> Figure:
    return Figure(float(value[0]), float(half_width[0]))


def _nothing(whole: Setting, load: str, room_c: float, why: str) -> Said:
    none = Figure(None, None, why)
    return Said(whole, load, room_c, none, none, none, none, none, none, none, (why,))


def _clock(models: Models, load: str, limit_w: float) -> Figure:
    """Return the effective clock under a limit, by the same law as throughput."""
    own = [
        run
        for run in models.evidence.usable()
        if run.load == load
        and run.failures == 0
        and not run.heat_held
        and same_silicon(run.setting, models.base)
        and run.setting.sustained_power_w is not None
        and math.isfinite(run.clock_mhz)
        and math.isfinite(run.power_w)
    ]
    held = np.array([run.power_held for run in own], dtype=bool)
    if not held.any():
        return Figure(None, None, f"power held the clock in no run of {load}")
    law = fit_power_law(
        np.array([run.setting.sustained_power_w for run in own], dtype=float),
        np.array([run.power_w for run in own]),
        np.array([run.clock_mhz for run in own]),
        held,
    )
    clock, half_width = law.throughput(np.array([limit_w]))
    cap = models.base.clock_cap_mhz
    return _figure(np.minimum(clock, cap) if cap is not None else clock, half_width)


def _outside(models: Models, whole: Setting, load: str) -> tuple[str, ...]:
    """Return in words where a setting lies beyond what was measured."""
    found = []
    if not same_silicon(whole, models.base):
        found.append("its voltage, clock or temperature cap is not that of the runs")
    runs = [run for run in models.evidence.usable() if run.load == load and run.failures == 0]
    law = models.loads[load]
    limit = whole.sustained_power_w or 0.0
    span = max(law.highest_w - law.lowest_w, 1.0)
    if not law.lowest_w - HULL_SLACK * span <= limit <= law.highest_w + HULL_SLACK * span:
        found.append(f"the limit lies outside {law.lowest_w:g} to {law.highest_w:g} W")
    points = np.array([_place(run, models) for run in runs if math.isfinite(run.power_w)])
    duties = {group: np.array([whole.fan_duty.get(group, 0.0)]) for group in models.noise.groups}
    here = np.array([float(law.power_w(np.array([limit]))[0]), *models.speeds(duties)[0].tolist()])
    if points.shape[0] and not in_hull(points, here, np.array([HULL_SLACK * span, *[RPM_SLACK] * len(duties)])):
        found.append("no runs surround these watts and fan speeds together")
    for group in models.noise.groups:
        seen = [duty for duty, _ in models.duty_rpm[group]]
        duty = whole.fan_duty.get(group)
        if duty is not None and seen and not min(seen) <= duty <= max(seen):
            found.append(f"{group} fans were run at {min(seen):g} to {max(seen):g} %")
    return tuple(found)


def _place(run: RunSummary, models: Models) -> list[float]:
    return [run.power_w, *(run.fan_rpm.get(group, 0.0) for group in models.noise.groups)]


def in_hull(points: Array, here: Vector, slack: Vector) -> bool:
    """Return whether a place ``(d,)`` lies in the convex hull of points ``(n, d)``, each coordinate give or take its slack.

    A linear programme: are there shares of the points, none negative and one in all, that come to the place (definition of
    the convex hull)? It also holds where the points lie in a plane of fewer dimensions.
    """
    from scipy.optimize import linprog

    n = points.shape[0]
    scaled = points / slack
    target = here / slack
    found = linprog(
        np.zeros(n),
        A_ub=np.vstack([scaled.T, -scaled.T]),
        b_ub=np.concatenate([target + 1.0, -(target - 1.0)]),
        A_eq=np.ones((1, n)),
        b_eq=[1.0],
        bounds=(0.0, None),
    )
    return bool(found.status == 0)


def misfits(models: Models) -> tuple[Misfit, ...]:
    """Return the settled runs of the heaviest load that lie further from the heat path than both intervals together, the
    worst first: where the model does not fit it says so."""
    found = []
    for run in models.evidence.usable():
        if run.load != models.heavy_load or not run.settled.known or run.heat_held or run.failures:
            continue
        other = run.fan_rpm.get(models.other or "", 0.0)
        rise, half_width = models.thermal.rise(
            np.array(run.power_w), np.array(other), np.array(run.fan_rpm.get(models.lead, 0.0))
        )
        both = math.hypot(float(half_width), run.settled.half_width_k)
        if abs(run.rise_k - float(rise)) > both:
            found.append(Misfit(run.run_id, run.rise_k, float(rise), both))
    return tuple(sorted(found, key=lambda one: -abs(one.measured_k - one.modelled_k) / one.half_width_k))


PARAMETERS = ("fixed_kpw", "cooler_kpw", "cooler_offset", "case_kpw", "case_offset", "other_heat_w", "flow_exponent")
"""What the heat path's parameters are called: theta0, a, w, b, u, other heat, m of ``science.thermal``."""


def parameters(models: Models) -> dict[str, dict[str, float]]:
    """Return the heat path's parameters by name, each with its value and the ends of its 95 % interval."""
    logs, errors = np.asarray(models.thermal.logs), np.sqrt(np.diag(np.asarray(models.thermal.covariance)))
    return {
        name: {"value": math.exp(at), "low": math.exp(at - 1.96 * error), "high": math.exp(at + 1.96 * error)}
        for name, at, error in zip(PARAMETERS, logs.tolist(), errors.tolist(), strict=True)
    }
