"""A choice under circumstances that were not measured: whether the pick holds there, what would be picked instead, and the
quietest setting that holds in all of them."""

from collections.abc import Sequence

import msgspec
import numpy as np

from niente.core.analysis.circumstances import under, unknown_in
from niente.core.analysis.judged import JudgedSettings, judge
from niente.core.analysis.models import Models
from niente.core.analysis.setting_batch import SettingBatch, one_setting
from niente.core.model.limits import Limits
from niente.core.model.setting import Setting
from niente.core.model.what_if import WhatIf
from niente.core.science.arrays import Mask
from niente.core.selection.kept import Limit, keeps
from niente.core.selection.opening import none_fits
from niente.core.selection.pick import Candidate, Choice, best_of, candidate_at
from niente.core.selection.reach import nearby


class Outcome(msgspec.Struct, frozen=True):
    """A setting in a circumstance: what it comes to there, and the limits that it breaks. ``heard_dba`` and ``mark`` are its
    level where noise is judged there, and the dynamic mark over the background of that place. ``instead`` is what would be
    picked there (``None``: the same, or nothing); ``problem`` says why nothing would be, or why nothing is known of it."""

    what_if: WhatIf
    there: Candidate
    breaks: tuple[Limit, ...]
    heard_dba: float
    mark: str
    instead: Candidate | None = None
    problem: str = ""

    @property
    def known(self) -> bool:
        """Whether anything is known of it there."""
        return bool(self.breaks) or not self.problem

    @property
    def holds(self) -> bool:
        """Whether it is known to keep every limit there."""
        return self.known and not self.breaks


class RobustPick(msgspec.Struct, frozen=True):
    """The best setting that keeps every limit as measured and in each circumstance that it must hold in, as it is where it
    was measured; what it costs in the room (dB) and of the work (%) beside the pick. ``None`` with a ``problem`` where none
    does."""

    pick: Candidate | None
    louder_db: float = 0.0
    slower_percent: float = 0.0
    problem: str = ""


def outcome_of(models: Models, limits: Limits, pick: Setting, what_if: WhatIf, known: SettingBatch) -> Outcome:
    """Return what becomes of a setting in a circumstance, and what would be picked there among ``known`` settings and what
    lies near the best of them."""
    there, within = under(models, limits, what_if)
    own = judge(there, within, one_setting(pick))
    at = candidate_at(there, own, within, 0)
    heard = float(own.figures.heard_dba.value[0])
    background = heard - float(own.figures.over_background_db.value[0])
    mark = msgspec.structs.replace(models.scale, background_dba=background).mark(heard)
    found = Outcome(what_if, at, at.breaks, heard, mark)
    if unknown := unknown_in(models, what_if):
        return msgspec.structs.replace(found, breaks=(), problem=unknown)
    if not at.breaks:
        return found
    field = judge(there, within, nearby(there, within, known))
    best = best_of(field, _holding(field, within), within)
    if best is None:
        return msgspec.structs.replace(found, problem=none_fits(field, within)[0])
    return msgspec.structs.replace(found, instead=candidate_at(there, field, within, best))


def robust(models: Models, choice: Choice, what_ifs: Sequence[WhatIf], known: SettingBatch) -> RobustPick | None:
    """Return the best setting that holds as measured and in every circumstance that it must hold in; ``None`` where it must in
    none."""
    wanted = [one for one in what_ifs if one.must_hold and not one.problem()]
    if not wanted:
        return None
    limits = choice.limits
    unknown = [words for one in wanted if (words := unknown_in(models, one))]
    if unknown:
        return RobustPick(None, problem=f"Not known in all that must hold: {' and '.join(unknown)}.")
    ways = [under(models, limits, one) for one in wanted]
    settings = _together([known, *(nearby(*way, known) for way in ways)])
    for way in [(models, limits), *ways]:  # fewer and fewer
        settings = settings.taken(np.flatnonzero(_holding(judge(*way, settings), way[1])))
        if not settings.count:
            break
    field = judge(models, limits, settings) if settings.count else None
    best = best_of(field, np.ones(settings.count, dtype=bool), limits) if field is not None else None
    if field is None or best is None:
        names = " and ".join(one.kind.value for one in wanted)
        return RobustPick(None, problem=f"No setting keeps every limit as measured and with {names}.")
    pick = candidate_at(models, field, limits, best)
    was = choice.pick
    return RobustPick(pick, pick.in_room_dba - was.in_room_dba, was.throughput_percent - pick.throughput_percent)


def _holding(field: JudgedSettings, limits: Limits) -> Mask:
    """Return which settings keep every limit ``(n,)``."""
    holding: Mask = np.logical_and.reduce(list(keeps(field, limits).values()))
    return holding


def _together(batches: Sequence[SettingBatch]) -> SettingBatch:
    first = batches[0]
    values = {control: np.concatenate([one.of(control) for one in batches]) for control in first.values}
    return SettingBatch(first.base, values, sum(one.count for one in batches))
