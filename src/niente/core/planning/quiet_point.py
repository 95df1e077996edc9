"""The quiet-point question as a plan: noise first, then stock, then the heaviest load over the axes."""

from niente.core.plan import PLAN_FORMAT, Confirmation, Exposure, Guard, Plan, Step
from niente.core.project import Axis, Limits, Project, QuietPoint
from niente.core.rigcard import LoadKind, RigCard
from niente.core.rigsheet import default_guards
from niente.core.setting import Setting

NOISE_S = 60.0
REALISTIC = Exposure(least_s=300.0, most_s=300.0)
HELD_DUTY = 40.0
"""What the second fan group stands at while the first is swept; further ones, and pumps, stay as found."""


def default_question(card: RigCard) -> QuietPoint:
    """Return the question as it is first asked of a rig: four limits below stock, four duties, all working loads."""
    power = card.control("sustained_power_w")
    lead = card.lead_group()
    stock_w = card.stock.sustained_power_w or (power.high if power else 100.0)
    step = power.step if power else 1.0
    low = power.low if power else 0.0
    limits = [max(low, round(stock_w * share / 5 / step) * 5 * step) for share in (0.48, 0.62, 0.76, 0.90)]
    fans = Axis(f"fan_duty.{lead}", (20.0, 32.0, 52.0, 84.0)) if lead else Axis("fan_duty.case", ())
    held = card.held_group()
    base = Setting(fan_duty={held: HELD_DUTY}) if held is not None else Setting()
    counted = (card.load_of(LoadKind.HEAVY), card.load_of(LoadKind.REALISTIC))
    loads = tuple(load.name for load in counted if load is not None)
    return QuietPoint(power=Axis("sustained_power_w", tuple(limits)), fans=fans, base=base, loads=loads)


def default_project(card: RigCard) -> Project:
    """Return the project a new book starts with."""
    return Project(rig=card.name, question=default_question(card), limits=Limits())


def quiet_point(card: RigCard, question: QuietPoint, guards: tuple[Guard, ...] | None = None) -> Plan:
    """Return the plan for a question, under these guards or the default ones. The same question gives the same plan."""
    base = question.base.over(card.stock)
    steps = [*_noise_steps(card, question, base), *_baseline_steps(card, question)]
    heavy = card.load_of(LoadKind.HEAVY)
    for name in question.loads:
        steps += (
            _heavy_steps(question, base, name)
            if heavy is not None and name == heavy.name
            else _other_steps(question, base, name)
        )
    return Plan(
        format=PLAN_FORMAT,
        rig=card.name,
        question="quiet-point",
        steps=tuple(steps),
        guards=default_guards(card) if guards is None else guards,
        confirm=Confirmation(exposure_s=question.confirm_minutes * 60.0),
    )


def _until_known(question: QuietPoint) -> Exposure:
    return Exposure(least_s=480.0, most_s=max(question.most_minutes * 60.0, 480.0), known_to_k=question.known_to_k)


def _noise_steps(card: RigCard, question: QuietPoint, base: Setting) -> list[Step]:
    """Noise needs a minute a duty and no heat; the first reading, with the fans off, is the room's background."""
    idle = card.load_of(LoadKind.IDLE)
    if idle is None or card.index("noise_dba") is None:
        return []
    once = Exposure(least_s=NOISE_S, most_s=NOISE_S)
    groups = card.fan_groups()
    off = base
    for group in groups:
        off = off.replaced(f"fan_duty.{group}", card.control(f"fan_duty.{group}").low)  # type: ignore[union-attr]
    steps = [Step(off, idle.name, once, "noise", "The room's background")]
    for group in groups:
        if f"fan_duty.{group}" != question.fans.control:
            alone = off.replaced(f"fan_duty.{group}", base.fan_duty.get(group, HELD_DUTY))
            steps.append(Step(alone, idle.name, once, "noise", f"The {group} fan alone"))
    for duty in question.fans.values:
        steps.append(Step(base.replaced(question.fans.control, duty), idle.name, once, "noise", "Noise at this duty"))
    return steps


def _baseline_steps(card: RigCard, question: QuietPoint) -> list[Step]:
    return [Step(card.stock, load, _until_known(question), "baseline", "Stock: what 100 % is") for load in question.loads]


def _heavy_steps(question: QuietPoint, base: Setting, load: str) -> list[Step]:
    """Ascending power, kept warm; the fans' order turns round from one limit to the next, so no step is a long one."""
    steps = []
    for place, limit in enumerate(sorted(question.power.values)):
        duties = sorted(question.fans.values, reverse=place % 2 == 0)
        for duty in duties:
            setting = base.replaced(question.power.control, limit).replaced(question.fans.control, duty)
            steps.append(Step(setting, load, _until_known(question), "capacity", "Heat path and throughput here"))
    return steps


def _other_steps(question: QuietPoint, base: Setting, load: str) -> list[Step]:
    """Throughput follows power and not the fans, as long as heat does not hold: once a limit, at the highest duty."""
    most = max(question.fans.values)
    return [
        Step(
            base.replaced(question.power.control, limit).replaced(question.fans.control, most),
            load,
            REALISTIC,
            "capacity",
            "What this limit leaves",
        )
        for limit in sorted(question.power.values)
    ]
