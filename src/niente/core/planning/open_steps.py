"""Steps whose setting follows from what was measured by then: a search's result, a fan speed, a level."""

from collections.abc import Callable, Sequence

import msgspec
import numpy as np

from niente.core.analysis.evidence import RunSummary
from niente.core.analysis.models import noise_of, speeds_seen
from niente.core.model.errors import NotEnoughError
from niente.core.model.plan import Step
from niente.core.model.quantities import quantity_of
from niente.core.model.rig_card import RigCard
from niente.core.model.runs import RunOutcome
from niente.core.science.arrays import Array, Vector

SearchResults = Callable[[str], dict[str, float] | None]
"""What a search found, by its name; ``None`` while it is not over."""


def is_open(step: Step) -> bool:
    """Return whether a step's setting depends on what is measured before it."""
    return bool(step.takes or step.speed_rpm or step.level_dba is not None)


def resolved(step: Step, card: RigCard, runs: Sequence[RunSummary], found: SearchResults) -> Step:
    """Return a step with its setting as it is run. Raises ``NotEnoughError`` where what it depends on is not known."""
    setting = step.setting
    if step.takes:
        values = found(step.takes)
        if values is None:
            raise _missing(f"what {step.takes!r} finds is not known yet", "Let that search end first.")
        for control, value in values.items():
            setting = setting.replaced(control, value)
    for group, rpm in step.speed_rpm.items():
        setting = setting.replaced(f"fan_duty.{group}", duty_at_speed(card, runs, group, rpm))
    if step.level_dba is not None:
        for group, duty in duties_at_level(card, runs, step.level_groups, step.level_dba).items():
            setting = setting.replaced(f"fan_duty.{group}", duty)
    return msgspec.structs.replace(step, setting=setting, takes="", speed_rpm={}, level_dba=None, level_groups=())


def duty_at_speed(card: RigCard, runs: Sequence[RunSummary], group: str, rpm: float) -> float:
    """Return the duty in % at which a fan group turns at a speed, from the duties that were run, on the rig's steps.

    Raises ``NotEnoughError`` where no duty run so far comes to it.
    """
    pairs = np.array(speeds_seen([run for run in runs if run.outcome == RunOutcome.DONE], group))
    if pairs.shape[0] < 2 or not pairs[:, 1].min() <= rpm <= pairs[:, 1].max():
        seen = f"{pairs[:, 1].min():.0f} to {pairs[:, 1].max():.0f} rpm" if pairs.shape[0] > 1 else "no two speeds"
        raise _missing(f"no duty of the {group} fans is known that gives {rpm:g} rpm: {seen} were seen", "Run a fan sweep.")
    order = np.argsort(pairs[:, 1])
    return _on_grid(card, group, float(np.interp(rpm, pairs[order, 1], pairs[order, 0])))


def _speeds_together(heard: Sequence[RunSummary], every: Sequence[str], moved: Sequence[str]) -> tuple[Vector, Array]:
    """Return duties ``(n,)`` that all moved groups were heard at, and the speeds ``(n, groups)`` of every group there; the
    groups that are not moved stay at their median."""
    grid = np.arange(0.0, 100.5, 0.5)
    columns, low, high = [], 0.0, 100.0
    for group in every:
        pairs = np.array(speeds_seen(list(heard), group)).reshape(-1, 2)
        if group in moved and pairs.shape[0] > 1:
            low, high = max(low, pairs[:, 0].min()), min(high, pairs[:, 0].max())
            columns.append(np.interp(grid, pairs[:, 0], pairs[:, 1]))
        else:
            columns.append(np.full(grid.shape, float(np.median(pairs[:, 1])) if pairs.shape[0] else 0.0))
    inside = (grid >= low) & (grid <= high)
    return grid[inside], np.stack(columns, axis=-1)[inside]


def duties_at_level(card: RigCard, runs: Sequence[RunSummary], groups: tuple[str, ...], level_dba: float) -> dict[str, float]:
    """Return one duty for these groups together at which the machine is as loud as wanted in the room.

    The other groups stay as they were in most of the readings. Raises ``NotEnoughError`` where no duty comes to it.
    """
    heard = [run for run in runs if run.outcome == RunOutcome.DONE and np.isfinite([run.noise_dba, run.noise_se_db]).all()]
    if len(heard) < 3:
        raise _missing("fewer than three noise readings were taken", "Run a fan sweep.")
    every = card.fan_groups()
    model = noise_of(every, heard)
    duties, speeds = _speeds_together(heard, every, groups)
    if not duties.shape[0]:
        raise _missing("no duties of these groups were heard in common", "Run a fan sweep.")
    levels = model.in_room(speeds)[0]
    levels = np.maximum.accumulate(levels)
    if not levels[0] - 0.3 <= level_dba <= levels[-1] + 0.3:
        unit = quantity_of("noise_dba").with_unit
        raise _missing(
            f"the fans come to {unit(float(levels[0]))} to {unit(float(levels[-1]))} in the room, not to {level_dba:g}",
            "Choose a level between these.",
        )
    duty = float(np.interp(level_dba, levels, duties))
    return {group: _on_grid(card, group, duty) for group in groups}


def _on_grid(card: RigCard, group: str, duty: float) -> float:
    control = card.control(f"fan_duty.{group}")
    step = control.step if control is not None else 1.0
    return float(f"{round(duty / step) * step:.6g}")


def _missing(what: str, remedy: str) -> NotEnoughError:
    return NotEnoughError(f"This run cannot be set yet: {what}.", safe="The rig was not touched for it.", remedy=remedy)
