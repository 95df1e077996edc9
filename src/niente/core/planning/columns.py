"""Which controls tell the runs of a plan apart, so that a list of them has columns for these."""

from collections.abc import Sequence

from niente.core.model.names import kind_of
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting
from niente.core.planning.progress import Row

MAX_COLUMNS = 4
BY_PART = ("core_offset_mv", "point_offset_mv")
"""Controls of many parts that share a column."""
SAMPLED = 200
BESIDE = ("noise", "baseline", "confirmation")
"""Stages that set what is varied nowhere else."""
FIRST_SHOWN = ("sustained_power_w", "fan_duty", "voltage_offset_mv", "temperature_cap_c", "clock_cap_mhz", "fixed_clock_mhz")


def _values_seen(card: RigCard, rows: Sequence[Row]) -> dict[str, set[float | None]]:
    """Return the values of each control over a sample of the rows; offsets per core or point count by their deepest."""
    among = [row for row in rows if row.step.stage not in BESIDE] or list(rows)
    names = [kind_of(one.name) if kind_of(one.name) in BY_PART else one.name for one in card.controls]
    seen: dict[str, set[float | None]] = {name: set() for name in names if among}
    for row in among[:: max(1, len(among) // SAMPLED)]:
        whole = row.step.setting
        for name, values in seen.items():
            values.add(deepest(whole, name) if name in BY_PART else whole.value(name))
    return seen


def columns_of(card: RigCard, rows: Sequence[Row]) -> tuple[str, ...]:
    """Return the controls that get a column: those that differ from run to run, at most four; power and the fans that are
    swept where nothing does."""
    seen = _values_seen(card, rows)
    varied = [name for name, values in seen.items() if len(values) > 1]
    lead = f"fan_duty.{card.lead_group()}"
    usual = [name for name in ("sustained_power_w", lead) if name in seen]
    ranked = sorted(dict.fromkeys([*usual, *varied]), key=_rank)
    chosen = [name for name in ranked if name in varied][:MAX_COLUMNS]
    chosen += [name for name in usual if name not in chosen][: MAX_COLUMNS - len(chosen)]
    return tuple(sorted(chosen, key=_rank))


def _rank(control: str) -> int:
    name = kind_of(control)
    return FIRST_SHOWN.index(name) if name in FIRST_SHOWN else len(FIRST_SHOWN)


def deepest(setting: Setting, name: str) -> float | None:
    """Return the deepest value of a control of many parts; ``None`` where it has none."""
    values = getattr(setting, name)
    return min(values.values()) if values else None
