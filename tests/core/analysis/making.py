"""Evidence made at a stand-in machine without a bench: run after run, each as long as it is asked, summed up as ever."""

import numpy as np

from niente.core.analysis.evidence import Evidence, summarise
from niente.core.model.runs import RunKind, RunOutcome
from niente.core.model.setting import Setting
from niente.core.rigs.simulated.machine_files import shipped_file
from niente.core.rigs.simulated.rig import SimulatedRig
from niente.core.science.settling import learn
from niente.core.storage.reader import RunRecord


def evidence_of(name: str, settings: list[Setting], load: str, minutes: float, *, variant: str = "", seed: int = 3) -> Evidence:
    """Return what runs of a machine in a variant come to."""
    rig = SimulatedRig(shipped_file(name), seed=seed)
    if variant:
        rig.become(variant)
    card = rig.describe()
    prior: tuple[float, ...] = ()
    found = []
    for number, setting in enumerate(settings, 1):
        whole = setting.over(card.stock)
        rig.apply(whole)
        rig.start(load)
        time_s, values, _ = rig.record(round(60 * minutes))
        channels = tuple(channel.name for channel in card.channels)
        record = RunRecord(
            number, 1, number, RunKind.STEP, 0.0, 0.0, whole, load, channels, RunOutcome.DONE, "", float(time_s[-1]), 1
        )
        run = summarise(card, record, time_s, np.asarray(values), 0, prior)
        if not run.heat_limited:
            prior = learn(prior, run.settled)
        found.append(run)
    rig.close()
    return Evidence(card, tuple(found))
