"""What the questions are built from: settings over axes, exposure rules, the noise stage and the baseline."""

from collections.abc import Iterator, Sequence

import msgspec

from niente.core.model.fan_curve import FanCurve
from niente.core.model.names import kind_of, part_of
from niente.core.model.plan import Confirmation, Exposure, Step
from niente.core.model.question import Axis, FanSchool, Question, Span
from niente.core.model.rig_card import Control, LoadKind, RigCard
from niente.core.model.setting import Setting
from niente.core.planning.axis_values import LEVEL, SPEED, axis_problem, is_fan_axis, snapped

NOISE = Exposure(min_s=30.0, max_s=30.0)
"""Noise needs seconds and no heat: half of a minute, of which the fans take the first half to settle."""
BACKGROUND = Exposure(min_s=60.0, max_s=60.0)
GIVES_THROUGHPUT = Exposure(min_s=300.0, max_s=300.0)
"""Where power limits the clock, throughput is known long before the temperature is."""
FIXED_DUTY = 40.0
"""What a fan group stands at that is not swept and has no fixed duty as found; pumps stay as found."""
USUAL_CURVE = ((40.0, 25.0), (65.0, 50.0), (85.0, 100.0))
"""A curve for fans that are to be measured as used, on a machine that was found without one."""
NOISE_DUTIES = Span(20.0, 100.0, 1.38, by_ratio=True)
"""Each 1.38 times the last: one step is the same change of level wherever it is taken."""


class Spot(msgspec.Struct, frozen=True):
    """One point of the axes: a whole setting, and what of the fans follows from what is measured."""

    setting: Setting
    speed_rpm: dict[str, float] = {}
    level_dba: float | None = None


def until_known(card: RigCard, known_to_k: float = 1.0) -> Exposure:
    """Return the usual rule: until the settled temperature is known, at least 8 min, at most 40 (90 for liquid, whose
    coolant creeps; common practice)."""
    return Exposure(min_s=480.0, max_s=5400.0 if is_liquid(card) else 2400.0, known_to_k=known_to_k)


def is_liquid(card: RigCard) -> bool:
    """Return whether a machine is cooled by liquid, as far as its readings tell."""
    return bool(card.indices("coolant_temperature_c"))


def base_of(card: RigCard, question: Question) -> Setting:
    """Return the whole setting beneath the axes, the fans as the question's school has it."""
    base = question.base.over(card.stock)
    if question.fans != FanSchool.AS_USED:
        return base
    for group in swept_groups(card):
        curve = card.stock.fan_curve.get(group)
        if curve is None and card.curve_sources:
            curve = FanCurve(card.curve_sources[0], USUAL_CURVE)
        if curve is not None and group not in question.base.fan_curve:
            base = base.on_curve(group, curve)
    return base


def fixed_fans(card: RigCard) -> Setting:
    """Return fixed duties for the groups that were found on a curve: a curve hides what a change is worth."""
    setting = Setting()
    for group, curve in card.stock.fan_curve.items():
        setting = setting.replaced(f"fan_duty.{group}", 0.0 if curve.off_below_c is not None else FIXED_DUTY)
    return setting


def swept_groups(card: RigCard) -> tuple[str, ...]:
    """Return the fan groups that are varied: the first two; further ones, and pumps, stay as found."""
    return card.fan_groups()[:2]


def default_fans(card: RigCard, school: FanSchool) -> tuple[Axis, ...]:
    """Return the fan axis a school starts with; none where the fans are left as they are used."""
    lead = card.lead_group()
    if lead is None or school == FanSchool.AS_USED:
        return ()
    if school == FanSchool.SPEED:
        return (Axis(f"{SPEED}.{lead}", (600.0,)),)
    if school == FanSchool.NOISE:
        return (Axis(LEVEL, (38.0,)),)
    return (Axis(f"fan_duty.{lead}", (20.0, 32.0, 52.0, 84.0)),)


def limits_below(card: RigCard, shares: Sequence[float]) -> tuple[float, ...]:
    """Return sustained power limits at shares of the stock one, in fives of the rig's step."""
    power = card.control("sustained_power_w")
    stock = card.stock.sustained_power_w or (power.high if power else 100.0)
    step, low, high = (power.step, power.low, power.high) if power else (1.0, 0.0, stock)
    return tuple(dict.fromkeys(min(max(low, round(stock * share / 5 / step) * 5 * step), high) for share in shares))


def span_of(control: Control, low: float, high: float, step: float) -> Span:
    """Return a span cut to what a control takes, its step no finer than the control's."""
    return Span(max(low, control.low), min(high, control.high), max(step, control.step))


def load_named(card: RigCard, *kinds: LoadKind) -> tuple[str, ...]:
    """Return the first load of each kind that the rig has."""
    return tuple(load.name for kind in kinds if (load := card.load_of(kind)) is not None)


def usable_axes(card: RigCard, question: Question, *, fans: bool = True) -> list[Axis]:
    """Return the axes of a question that a rig has, those over fans last (or without them)."""
    fine = [axis for axis in question.axes if not axis_problem(axis, card)]
    heat = [axis for axis in fine if not is_fan_axis(axis)]
    return heat + ([axis for axis in fine if is_fan_axis(axis)] if fans and question.fans != FanSchool.AS_USED else [])


def spots(card: RigCard, base: Setting, axes: Sequence[Axis], *, falling_fans: bool = True) -> list[Spot]:
    """Return every point of the axes, the first turning slowest and each next one turning back from pass to pass, so that
    no step is a long one. Values rise; a fan axis begins at its highest, where the machine is coolest."""
    values = [sorted(snapped(axis, card)) for axis in axes]
    starts_falling = [falling_fans and is_fan_axis(axis) for axis in axes]
    found: list[Spot] = []
    passes = [0] * len(axes)

    def go(depth: int, spot: Spot) -> None:
        if depth == len(axes):
            found.append(spot)
            return
        falling = starts_falling[depth] != bool(passes[depth] % 2)
        passes[depth] += 1
        for value in reversed(values[depth]) if falling else values[depth]:
            go(depth + 1, at_point(card, spot, axes[depth].control, value))

    go(0, Spot(base))
    return found


def at_point(card: RigCard, spot: Spot, control: str, value: float) -> Spot:
    """Return a spot with one more axis at a value. A control's bare quantity stands for all its parts."""
    name = kind_of(control)
    if name == SPEED:
        return msgspec.structs.replace(spot, speed_rpm={**spot.speed_rpm, part_of(control): value})
    if name == LEVEL:
        return msgspec.structs.replace(spot, level_dba=value)
    setting = spot.setting
    for each in control_parts(card, control):
        setting = setting.replaced(each, value)
    return msgspec.structs.replace(spot, setting=setting)


def control_parts(card: RigCard, control: str) -> tuple[str, ...]:
    """Return a control's own name, or for a bare quantity the names of all its parts on a rig."""
    if card.control(control) is not None:
        return (control,)
    return tuple(one.name for one in card.controls if kind_of(one.name) == control)


def step_at(card: RigCard, spot: Spot, load: str, exposure: Exposure, stage: str, reason: str) -> Step:
    """Return the run at a spot."""
    groups = swept_groups(card) if spot.level_dba is not None else ()
    return Step(
        spot.setting,
        load,
        exposure,
        stage,
        reason,
        speed_rpm=spot.speed_rpm,
        level_dba=spot.level_dba,
        level_groups=groups,
    )


def confirmation(card: RigCard, question: Question) -> list[Confirmation]:
    """Return the confirmation of the pick; none where the rig names no heaviest load."""
    if card.load_of(LoadKind.HEAVY) is None:
        return []
    return [Confirmation(exposure_s=question.confirm_minutes * 60.0)]


def fans_off(card: RigCard, base: Setting) -> Setting:
    """Return a setting with every fan group at its lowest duty."""
    for group in card.fan_groups():
        own = card.control(f"fan_duty.{group}")
        if own is not None:
            base = base.replaced(own.name, own.low)
    return base


def _alone(card: RigCard, off: Setting, group: str, duties: Sequence[float]) -> list[Setting]:
    """Return a group at each duty that it takes, the others off."""
    own = card.control(f"fan_duty.{group}")
    if own is None:
        return []
    return [off.replaced(own.name, duty) for duty in duties if own.takes(duty) and off.value(own.name) != duty]


def noise_steps(
    card: RigCard, base: Setting, swept: Sequence[float], variant: str = "", *, every_group: bool = False
) -> list[Step]:
    """Return the noise map: the room with the fans off, every group alone, and the swept group with the others as in
    ``base``. It needs half a minute a duty and no heat; a group that is not swept is heard alone at its one duty, unless
    ``every_group`` is to be heard at many.
    """
    idle = card.load_of(LoadKind.IDLE)
    lead = card.lead_group()
    if idle is None or card.index(LEVEL) is None or lead is None:
        return []
    off = fans_off(card, base)
    duties = sorted({*swept, *snapped(Axis(f"fan_duty.{lead}", span=NOISE_DUTIES), card)})
    steps = [Step(off, idle.name, BACKGROUND, "noise", "The room's background", variant)]
    for group in card.fan_groups():
        alone = duties if group == lead or every_group else [base.fan_duty.get(group, FIXED_DUTY)]
        for setting in _alone(card, off, group, alone):
            steps.append(Step(setting, idle.name, NOISE, "noise", f"The {group} fans alone", variant))
    for duty in swept:
        setting = base.replaced(f"fan_duty.{lead}", duty)
        if all(step.setting != setting for step in steps):  # with one group, it was heard alone already
            steps.append(Step(setting, idle.name, NOISE, "noise", "All fans at this duty", variant))
    return steps


def baseline_steps(card: RigCard, loads: Sequence[str], exposure: Exposure) -> list[Step]:
    """Return the stock setting under each load: what 100 % is."""
    return [Step(card.stock, load, exposure, "baseline", "Stock: what 100 % is") for load in loads]


def one_core_steps(card: RigCard, loads: Sequence[str]) -> list[Step]:
    """Return stock under work on one core, for long enough to tell its throughput; none where that is among the loads."""
    light = card.load_of(LoadKind.LIGHT)
    if light is None or light.name in loads:
        return []
    return [Step(card.stock, light.name, GIVES_THROUGHPUT, "baseline", "What one core does, as found")]


def each_load(question: Question) -> Iterator[tuple[str, str]]:
    """Yield the loads of a question, each with what it is run for."""
    for load in question.loads:
        yield load, "has to be stable under it" if load in question.survive else "has to be quiet under it"
