"""What the margin says of a plan: the run that is selected, the order, when a run ends, and what guards it."""

import math

from niente.core.choosing.models import Models
from niente.core.evidence import RunSummary
from niente.core.plan import Step
from niente.core.planning.foresight import foresee
from niente.core.project import QuietPoint
from niente.core.quantities import NO_BREAK_SPACE, number_text, quantity_of
from niente.core.rigcard import RigCard
from niente.desktop.tongue import tr
from niente.desktop.widgets.blocks import Block, Reading, Readings, Title, Words


def explain(index: int, step: Step, card: RigCard, run: RunSummary | None, models: Models | None) -> list[Block]:
    """Explain one run: what it sets, what it came to or is foreseen to come to, and why it is there."""
    seen = foresee(models, [step])[0]
    lines = []
    quantity = quantity_of("hottest_core_c")
    if run is not None and run.settled.known:
        lines.append(_reading(tr("Core, settled"), quantity.text(run.settled.value_c), run.settled.half_width_k, "°C"))
    elif math.isfinite(seen.core_c):
        lines.append(_reading(tr("Core, foreseen"), quantity.text(seen.core_c), seen.core_hw, "°C"))
    if run is not None and math.isfinite(run.noise_dba):
        lines.append(Reading(tr("Noise in the room"), number_text(run.noise_dba, 1), unit="dBA"))
    elif math.isfinite(seen.noise_dba):
        lines.append(Reading(tr("Noise, foreseen"), number_text(seen.noise_dba, 1), unit="dBA"))
    if run is not None and math.isfinite(run.power_w):
        lines.append(Reading(tr("Package power"), number_text(run.power_w, 1), unit="W"))
    if run is not None and run.failures:
        lines.append(Reading(tr("Wrong results"), f"{run.failures}"))
    words = step.setting.over(card.stock).text(("sustained_power_w", f"fan_duty.{card.lead_group()}"))
    blocks: list[Block] = [Title(tr("Run {n}, {stage}").format(n=index + 1, stage=step.stage), words)]
    if lines:
        blocks.append(Readings(tr("What it says"), tuple(lines)))
    blocks.append(Words(tr("Why it is here"), step.reason + "."))
    return blocks


def about(card: RigCard, question: QuietPoint) -> list[Block]:
    """Explain the plan as a whole."""
    summary = card.summary + (tr(" (simulated)") if card.simulated else "")
    limit = quantity_of("core_temperature_c").with_unit(card.limits.core_temperature_c)
    ends = tr("When the hottest core's settled temperature is known to ±{k} K (95 %), at the latest after {m} min.")
    return [
        Words(f"{card.title}, {card.variant}", summary),
        Words(
            tr("In which order"),
            tr(
                "Noise first: it needs a minute a duty and no heat. Then stock, as found. Then the heaviest load, "
                "power ascending and the machine kept warm. The pick is confirmed last."
            ),
        ),
        Words(tr("When a run ends"), ends.format(k=f"{question.known_to_k:g}", m=f"{question.most_minutes:g}")),
        Words(
            tr("Guard"),
            tr(
                "The load goes off and the safe setting comes back when the hottest core reads {limit} for three "
                "seconds, when a core's sensor goes silent or stands still, or when a fan stalls."
            ).format(limit=limit),
        ),
    ]


def _reading(name: str, value: str, half_width: float, unit: str) -> Reading:
    return Reading(name, value, f"±{NO_BREAK_SPACE}{number_text(half_width, 1)}", unit)
