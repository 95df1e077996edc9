"""What another state of the machine changes in the air and at the core: as far as runs in it were made."""

import math
from collections.abc import Hashable

import msgspec
import numpy as np

from niente.core.analysis.air_rungs import PathSetting
from niente.core.analysis.evidence import RunSummary
from niente.core.analysis.model_runs import heat_runs
from niente.core.analysis.models import Models
from niente.core.model.rig_card import RigCard

LEAST_RUNS = 2


class VariantChange(msgspec.Struct, frozen=True):
    """By how many K a variant changes the core's rise, with its 95 % half width, and that of each place that is read, by place;
    by how many dB the level at equal settings (NaN where no two runs are alike). ``runs`` is on how many runs it rests; with
    none there are no figures."""

    variant: str
    hands: str
    runs: int
    core_k: float = math.nan
    core_half_width_k: float = math.inf
    places_k: dict[str, tuple[float, float]] = msgspec.field(default_factory=dict)
    noise_db: float = math.nan

    @property
    def known(self) -> bool:
        """Whether enough runs were made for figures."""
        return self.runs >= LEAST_RUNS

    @property
    def told(self) -> bool:
        """Whether it is known whether the variant is warmer or cooler."""
        return self.core_half_width_k < abs(self.core_k)


def unmeasured_changes(card: RigCard) -> tuple[VariantChange, ...]:
    """Return the other variants that a rig knows, before anything is measured."""
    return tuple(VariantChange(one.name, one.hands, 0) for one in card.variants if one.name != card.variant)


def variant_changes(models: Models, here: PathSetting) -> tuple[VariantChange, ...]:
    """Return what each other variant that the rig knows changes at a setting; those with runs stand first."""
    card, found = models.card, []
    counts: dict[str, int] = {}
    for _, name in heat_runs(models.evidence, models.heat.groups):
        counts[name] = counts.get(name, 0) + 1
    for variant in card.variants:
        runs = counts.get(variant.name, 0)
        if variant.name == card.variant:
            continue
        if runs < LEAST_RUNS:
            found.append(VariantChange(variant.name, variant.hands, runs))
            continue
        core, wide = here.changed_by(models.heat, variant.name)
        places = {
            place.name: here.changed_by(models.air[place.channel], variant.name)
            for place in (card.air.sensed if card.air is not None else ())
            if place.channel in models.air and models.air[place.channel].knows(variant.name)
        }
        found.append(VariantChange(variant.name, variant.hands, runs, core, wide, places, _noise_db(models, variant.name)))
    return tuple(sorted(found, key=lambda one: (not one.known, -abs(one.core_k) if one.known else 0.0)))


def _noise_db(models: Models, variant: str) -> float:
    """Return by how much the level differs in runs of a variant at settings and loads that were run here too, in dB."""
    here, there = _levels(models.evidence.runs), _levels(models.evidence.in_variant(variant))
    apart = [float(np.mean(there[key]) - np.mean(here[key])) for key in there if key in here]
    return float(np.mean(apart)) if apart else math.nan


def _levels(runs: tuple[RunSummary, ...]) -> dict[Hashable, list[float]]:
    """Return the levels of runs by their setting and load."""
    found: dict[Hashable, list[float]] = {}
    for run in runs:
        if math.isfinite(run.noise_dba):
            found.setdefault((run.setting.key(), run.load), []).append(run.noise_dba)
    return found
