"""What the margin says of the run under way: guards as distances, what limited the clock, noise in its three figures."""

import numpy as np

from niente.core.acquisition.guard_distance import Distance, distances
from niente.core.acquisition.samples import Samples
from niente.core.analysis.evidence import column
from niente.core.analysis.models import Models
from niente.core.model.quantities import duration_text, number_text, quantity_of, sentence
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting
from niente.core.science.acoustics import level_mean, machine_alone
from niente.core.science.noise import HeardLevels
from niente.core.science.statistics import Z95, mean_with_error
from niente.desktop.services.translation import tr
from niente.desktop.session.live_run import LiveRun
from niente.desktop.session.session import Session
from niente.desktop.widgets.blocks import Block, Far, LimiterLegend, Reading, Readings, Words

NOISE_SAMPLES = 60
"""The level in the room is the mean of so many samples."""
MIN_SHARE = 0.005
SHOWN_NOTES = 3


def explained(session: Session) -> list[Block]:
    """Return the blocks for the run under way, or for a bench at which nothing runs yet."""
    live, card, plan = session.live, session.card, session.plan
    if live is None or card is None or plan is None or live.samples.count == 0:
        words = tr("They are active from the first sample of a run on, and end it before harm is done.")
        return [Words(tr("Guards"), words), LimiterLegend(tr("Limiter band"))]
    setting, samples = _now(session, live, card)
    far = distances(card, plan.guards, setting, samples)
    return [
        Far(tr("Guards"), tr("distance; time at this slope"), far),
        *_held_by(session, live),
        LimiterLegend(tr("Limiter band")),
        *_noise(session, samples),
        *_this_run(live, far),
        *(Words(f"N{note.number}", note.text) for note in session.notes[-SHOWN_NOTES:]),
    ]


def _now(session: Session, live: LiveRun, card: RigCard) -> tuple[Setting, Samples]:
    """Return the setting in force and the samples that say how the machine stands: those of the run under way, or once it is
    over those since then."""
    if live.closed is None or session.strip is None:
        return live.opened.step.setting, live.samples
    since = session.strip.between_runs()
    setting = live.opened.step.setting if session.busy() else card.safe
    return setting, since if since.count else live.samples


def _held_by(session: Session, live: LiveRun) -> list[Block]:
    """Say what limited the clock, and for how much of this run."""
    limiter_shares = session.strip.limiter_shares(live.opened.run_id) if session.strip is not None else {}
    if not limiter_shares:
        return []
    most = sorted(limiter_shares.items(), key=lambda one: -one[1])
    lines = tuple(
        Reading(tr(limiter.words).capitalize(), f"{100.0 * share:.0f}", unit="%")
        for limiter, share in most
        if share >= MIN_SHARE
    )
    return [Readings(tr("What limited the clock"), lines, tr("share of this run"))]


def _noise(session: Session, samples: Samples) -> list[Block]:
    """Say the level in the room, what the machine alone comes to, and what the model makes of it; never one for another."""
    card, models = session.card, session.answer.models
    if card is None or models is None or card.index("noise_dba") is None:
        return []
    level, error = level_mean(column(card, samples.values[-NOISE_SAMPLES:], "noise_dba"))
    if not np.isfinite(level):
        return []
    background = models.noise.background_dba
    alone = machine_alone(level, error, background, models.noise.background_sd_db)
    quantity = quantity_of("noise_dba")
    spread = f"±{number_text(Z95 * error, 1)}"
    lines = [Reading(tr("In the room"), quantity.text(level), spread, "dBA", models.scale.mark(level))]
    if alone.bound:
        lines.append(Reading(tr("Machine alone"), f"≤ {quantity.text(alone.dba)}", "", "dBA"))
    else:
        lines.append(Reading(tr("Machine alone"), quantity.text(alone.dba), f"±{number_text(alone.half_width_db, 1)}", "dBA"))
    modelled = _modelled(models, samples)
    if modelled is not None and modelled.bound:
        lines.append(Reading(tr("Modelled alone"), f"≤ {quantity.text(float(modelled.at_most_dba))}", "", "dBA"))
    elif modelled is not None:
        spread = f"±{number_text(float(modelled.alone_hw), 1)}"
        lines.append(Reading(tr("Modelled alone"), quantity.text(float(modelled.alone_dba)), spread, "dBA"))
    room = tr("room {level}").format(level=quantity.with_unit(background))
    found: list[Block] = [Readings(tr("Noise at the meter"), tuple(lines), room)]
    if alone.bound:
        words = tr(
            "This is an upper bound (ISO 3746). A quieter hour, or the meter nearer to the machine, would give the level."
        )
        found.append(Words(tr("Too close to the room to tell"), words))
    return found


def _modelled(models: Models, samples: Samples) -> HeardLevels | None:
    """Return the level of the machine alone by the fitted laws, at the speeds and watts of the latest samples; ``None`` where a
    speed is not read."""
    card = models.evidence.card
    speeds = [
        mean_with_error(column(card, samples.values[-NOISE_SAMPLES:], f"fan_speed_rpm.{group}"))[0]
        for group in models.noise.groups
        if card.index(f"fan_speed_rpm.{group}") is not None
    ]
    if len(speeds) != len(models.noise.groups) or not np.all(np.isfinite(speeds)):
        return None
    watts, _ = mean_with_error(column(card, samples.values[-NOISE_SAMPLES:], "package_power_w"))
    return models.noise.hear(np.array(speeds), watts if np.isfinite(watts) else 0.0)


def _this_run(live: LiveRun, far: tuple[Distance, ...]) -> list[Block]:
    """Say why it is run, what has been taken, and what it taught."""
    taken = tr("{t} of the rig's time, {n} samples, all in the book.").format(
        t=duration_text(live.samples.seconds), n=live.samples.count
    )
    words = f"{sentence(live.opened.step.reason)} {taken}"
    if live.constants:
        constants = tr(" and ").join(duration_text(one.seconds) for one in live.constants)
        words += " " + tr("It settled with time constants of {constants}.").format(constants=constants)
    found: list[Block] = [Words(tr("This run"), words)]
    if any(one.by_firmware and one.quantity == "core_temperature_c" and one.left < 1.5 for one in far):
        text = tr("The temperature cap limits the clock here: the reading is the cap, and says nothing of the heat path.")
        found.append(Words(tr("Caution"), text))
    return found
