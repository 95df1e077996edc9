"""What the models say of one setting under one load in one room: each figure with its interval, and whether it lies inside
what was measured."""

import math

import msgspec

from niente.core.analysis.coverage import outside_words
from niente.core.analysis.listener import ListenerPlace, listener_of_card
from niente.core.analysis.models import Models
from niente.core.analysis.prediction import (
    LoadPrediction,
    headroom,
    heard_levels,
    percent_of_stock,
    predict_under_load,
)
from niente.core.analysis.setting_batch import one_setting
from niente.core.model.errors import DocumentError
from niente.core.model.setting import Setting
from niente.core.science.heat.sum import COMMON, OF_GROUP, SHARED
from niente.core.science.power.operating_point import SettingLimiter
from niente.core.science.statistics import Z95

USELESS_K, USELESS_DB, USELESS_SHARE = 30.0, 15.0, 0.5
"""A figure known no better than this is not given: K, dB, and a share of itself."""
LIMITER_WORDS = {
    SettingLimiter.CLOCK: "clock cap",
    SettingLimiter.POWER: "sustained limit",
    SettingLimiter.HEAT: "temperature cap",
}
RUNAWAY_WORDS = {
    SettingLimiter.CLOCK: "it runs away: no temperature below 160 °C balances what leakage adds, and nothing limits the clock",
    SettingLimiter.POWER: "no clock keeps it below its power limit: it would throttle to its slowest and still draw more",
    SettingLimiter.HEAT: "no clock keeps it below its temperature cap: it would throttle to its slowest and may shut down",
}


class Figure(msgspec.Struct, frozen=True):
    """A figure with its 95 % half width; ``None`` where there is none, and then ``reason`` says why. ``at_most``: the value
    is a bound that the truth lies under with 95 %, and has no half width."""

    value: float | None
    half_width: float | None = None
    reason: str = ""
    at_most: bool = False


class PointPrediction(msgspec.Struct, frozen=True, rename={"limiter": "holds"}):
    """What the models say of a setting. Temperatures in the room asked for; ``limiter`` is what limits the clock there;
    ``outside`` says in words where the setting lies beyond what was measured, and is empty inside it."""

    setting: Setting
    load: str
    room_c: float
    core_c: Figure
    headroom_k: Figure
    in_room_dba: Figure
    at_listener_dba: Figure
    alone_dba: Figure
    throughput_percent: Figure
    clock_mhz: Figure
    power_w: Figure
    limiter: str
    outside: tuple[str, ...]

    @property
    def inside(self) -> bool:
        """Whether it lies inside the hull of what was measured."""
        return not self.outside


def predict_point(
    models: Models, wanted: Setting, load: str, room_c: float, air: float = 1.0, listening: ListenerPlace | None = None
) -> PointPrediction:
    """Return what the models say of a setting, whatever it leaves open as the runs had it; ``listening`` is where meter and
    listener are (none: where the driver says).

    Raises ``DocumentError`` for a setting that the rig refuses or a load that it does not have.
    """
    card = models.card
    refused = card.refusals(wanted) + ([] if card.load(load) is not None else [f"this rig has no load {load!r}"])
    if refused:
        raise DocumentError(
            f"Nothing can be said of that: {'; '.join(refused)}.",
            safe="Nothing was changed.",
            remedy="Name controls, values and a load of this rig.",
        )
    whole = wanted.over(models.base)
    one = one_setting(whole)
    runs = load in models.power.loads
    steady = predict_under_load(models, one, load if runs else models.heavy_load, room_c, air)
    noise = _noise(models, steady, listening or listener_of_card(card))
    none = Figure(None)
    prediction = PointPrediction(whole, load, room_c, none, none, *noise, none, none, none, "", ())
    if not runs:
        return _without_figures(prediction, f"no run shows what {load} draws and does")
    if steady.runaway[0]:
        return _without_figures(prediction, RUNAWAY_WORDS[SettingLimiter(int(steady.limiter[0]))])
    percent, percent_hw = (float(one[0]) for one in percent_of_stock(models, steady, room_c))
    limiter = SettingLimiter(int(steady.limiter[0]))
    reason = "the temperature cap limits the clock" if limiter == SettingLimiter.HEAT else ""
    left_k = float(headroom(models, one, steady)[0])
    return msgspec.structs.replace(
        prediction,
        core_c=_figure(steady.core_c[0], steady.core_hw[0], reason, USELESS_K),
        headroom_k=_figure(left_k, steady.core_hw[0], reason, USELESS_K),
        throughput_percent=_figure(percent, percent_hw, reason, USELESS_SHARE * max(percent, 10.0)),
        clock_mhz=_figure(steady.clock_mhz[0], steady.clock_hw[0], most=USELESS_SHARE * float(steady.clock_mhz[0])),
        power_w=_figure(steady.power_w[0], steady.power_hw[0], most=USELESS_SHARE * float(steady.power_w[0])),
        limiter=LIMITER_WORDS[limiter],
        outside=outside_words(models, one, steady),
    )


def _without_figures(prediction: PointPrediction, why: str) -> PointPrediction:
    """Return what is said of a setting of which only the noise is known, with the reason in place of every other figure."""
    none = Figure(None, None, why)
    names = ("core_c", "headroom_k", "throughput_percent", "clock_mhz", "power_w")
    return msgspec.structs.replace(prediction, outside=(why,), **dict.fromkeys(names, none))


def _figure(value: float, half_width: float, reason: str = "", most: float = math.inf) -> Figure:
    """Return a figure; none where its half width is over ``most``: it would say nothing, and look as if it did."""
    if not math.isfinite(value) or not math.isfinite(half_width):
        return Figure(None, None, reason or "the runs do not tell")
    if half_width > most:
        return Figure(None, None, f"the runs do not tell: it is known to no better than ± {half_width:.3g}")
    return Figure(float(value), float(half_width), reason)


def _noise(models: Models, steady: LoadPrediction, listening: ListenerPlace) -> tuple[Figure, Figure, Figure]:
    """Return the level in the room at the meter, at the listener's place, and the machine alone, at the fans' speeds."""
    heard = heard_levels(models, steady)
    level, half_width = float(heard.in_room_dba[0]), float(heard.in_room_hw[0])
    modelled, error = float(heard.alone_dba[0]), float(heard.alone_hw[0])
    there, there_hw = listening.heard(modelled, error)
    index = f"at {listening.listener_m:g} m, the meter's class in the interval"
    where = index if listening.background_dba is not None else f"{index}; the background there is not known"
    by_itself = Figure(modelled, error, "modelled: carried down the speed laws")
    if heard.bound[0]:
        by_itself = Figure(float(heard.at_most_dba[0]), None, "an upper bound: too close to the room to tell", at_most=True)
    return _figure(level, half_width, most=USELESS_DB), _figure(there, there_hw, where, most=USELESS_DB), by_itself


SHARED_NAMES = (
    "fixed_kpw",
    "beside_w",
    "free_kpw",
    "other_heat_w",
    "flow_exponent",
    "common_kpw",
    "common_still",
    "common_share",
)
GROUP_NAMES = ("kpw", "still", "share", "strength")
SOURCE_NAMES = ("kpw", "warms")
"""What the heat path's parameters are called, in their order in ``science.heat.sum``; a group's stand behind its name, a pair's
is of the one that works against the other, and a source's stand behind its own."""


def parameter_names(models: Models) -> list[str]:
    """Return the names of the heat path's parameters, in their order."""
    heat = models.heat
    names = list(SHARED_NAMES)
    names += [f"{group}_{name}" for group in heat.groups for name in GROUP_NAMES]
    names += [f"{one}_against_{other}" for one in heat.groups for other in heat.groups if one != other]
    names += [f"{source}_{name}" for source in heat.sources for name in SOURCE_NAMES]
    known = {0: "fixed", 2: "free", COMMON: "common", **{SHARED + OF_GROUP * i: group for i, group in enumerate(heat.groups)}}
    return names + [f"{label}: {known.get(parameter, str(parameter))}" for label, parameter in heat.effects]


def parameters(models: Models) -> dict[str, dict[str, float]]:
    """Return the heat path's parameters by name, each with its value and the ends of its 95 % interval; factors of loads and
    variants are ratios."""
    found = {}
    for index, name in enumerate(parameter_names(models)):
        at, error = models.heat.logs[index], math.sqrt(models.heat.covariance[index][index])
        found[name] = {"value": math.exp(at), "low": math.exp(at - Z95 * error), "high": math.exp(at + Z95 * error)}
    return found
