"""Evidence made at a stand-in machine without a bench: run after run, each as long as it is asked, summed up as ever."""

import functools
from collections.abc import Sequence

import msgspec
import numpy as np

from niente.core.analysis.evidence import Evidence, summarise
from niente.core.analysis.models import Models, fit_models
from niente.core.model.rig_card import LoadKind, RigCard
from niente.core.model.runs import RunKind, RunOutcome
from niente.core.model.setting import Setting
from niente.core.rigs.simulated.machine_files import shipped_file
from niente.core.rigs.simulated.rig import SimulatedRig
from niente.core.science.settling import learn
from niente.core.storage.reader import RunRecord


def evidence_of(name: str, settings: list[Setting], load: str, minutes: float, *, variant: str = "", seed: int = 3) -> Evidence:
    """Return what runs of a machine in a variant come to."""
    return evidence_of_runs(name, [(setting, load, minutes) for setting in settings], variant=variant, seed=seed)


def evidence_of_runs(
    name: str, runs: Sequence[tuple[Setting, str, float]], *, variant: str = "", seed: int = 3, plan: int = 1
) -> Evidence:
    """Return what runs come to, each with its setting, load and minutes."""
    rig = SimulatedRig(shipped_file(name), seed=seed)
    if variant:
        rig.become(variant)
    evidence = evidence_at(rig, runs, plan=plan)
    rig.close()
    return evidence


def evidence_at(rig: SimulatedRig, runs: Sequence[tuple[Setting, str, float]], *, plan: int = 1) -> Evidence:
    """Return what runs at a stand-in come to, each with its setting, load and minutes."""
    card = rig.describe()
    prior: tuple[float, ...] = ()
    found = []
    for number, (setting, load, minutes) in enumerate(runs, 1):
        whole = setting.over(card.stock)
        rig.apply(whole)
        rig.start(load)
        time_s, values, _ = rig.record(round(60 * minutes))
        channels = tuple(channel.name for channel in card.channels)
        record = RunRecord(
            number, plan, number, RunKind.STEP, 0.0, 0.0, whole, load, channels, RunOutcome.DONE, "", float(time_s[-1]), 1
        )
        run = summarise(card, record, time_s, np.asarray(values), 0, prior)
        if not run.heat_limited:
            prior = learn(prior, run.settled)
        found.append(run)
    return Evidence(card, tuple(found))


def fans(card: RigCard, lead: float, others: float) -> dict[str, float]:
    """Return duties of the leading group and of all others, as low as each can be set."""
    first, found = card.lead_group(), {}
    for group in card.stock.fan_duty:
        control = card.control(f"fan_duty.{group}")
        assert control is not None
        found[group] = max(lead if group == first else others, control.low)
    return found


def settings_of(card: RigCard) -> list[Setting]:
    """Limits and duties crossed, then one setting for each other control that a machine has."""
    stock, top = card.stock.sustained_power_w or 100.0, card.stock.clock_cap_mhz or 4000.0
    found = [
        Setting(sustained_power_w=round(share * stock), fan_duty=fans(card, lead, others))
        for share, lead, others in (
            *((0.5, 35.0, 60.0), (0.5, 80.0, 60.0), (0.7, 35.0, 40.0), (0.7, 60.0, 60.0), (0.7, 100.0, 80.0)),
            *((0.85, 45.0, 80.0), (0.85, 90.0, 45.0), (1.0, 60.0, 80.0), (1.0, 100.0, 60.0)),
        )
    ]
    cool = fans(card, 90.0, 80.0)
    return [
        Setting(),
        *found,
        Setting(sustained_power_w=round(0.8 * stock), voltage_offset_mv=-20.0, fan_duty=cool),
        Setting(sustained_power_w=round(0.75 * stock), voltage_offset_mv=-40.0, fan_duty=fans(card, 70.0, 70.0)),
        Setting(clock_cap_mhz=25.0 * round(0.024 * top), fan_duty=cool),
        Setting(temperature_cap_c=66.0, fan_duty=fans(card, 40.0, 50.0)),
    ]


@functools.cache
def evidence_from(name: str) -> Evidence:
    """Return what a night at a shipped machine comes to: noise, limits and duties crossed, each other control once; two runs
    failed."""
    rig = SimulatedRig(shipped_file(name), seed=5)
    card = rig.describe()
    rig.close()
    heavy = next(load.name for load in card.loads if load.kind == LoadKind.HEAVY)
    others = [load.name for load in card.loads if load.kind in (LoadKind.REALISTIC, LoadKind.MIXED)][:2]
    idle = next(load.name for load in card.loads if load.kind == LoadKind.IDLE)
    settings = settings_of(card)
    runs = [(Setting(fan_duty=fans(card, duty, 100.0 - duty)), idle, 1.5) for duty in (0.0, 20.0, 45.0, 70.0, 100.0)]
    runs += [(setting, heavy, 22.0) for setting in settings]
    runs += [(setting, load, 9.0) for load in others for setting in settings[:: 2 if load == others[0] else 4]]
    found = evidence_of_runs(name, runs, seed=5)
    failed = [msgspec.structs.replace(run, failures=1 + index) for index, run in enumerate(found.runs[-2:])]
    return msgspec.structs.replace(found, runs=(*found.runs[:-2], *failed))


@functools.cache
def models_from(name: str) -> Models:
    """Return the models of that night."""
    return fit_models(evidence_from(name))
