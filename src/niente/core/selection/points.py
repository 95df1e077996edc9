"""Points that were kept: what each comes to now, and against stock."""

import math

import msgspec

from niente.core.analysis.judged import judge
from niente.core.analysis.models import Models
from niente.core.analysis.setting_batch import one_setting
from niente.core.model.kept_point import KeptPoint
from niente.core.model.limits import Limits
from niente.core.model.quantities import NO_BREAK_SPACE, number_text
from niente.core.model.setting import Setting
from niente.core.selection.pick import Candidate, Choice, candidate_at, is_confirmed, standing_of

HOURS_A_DAY = 8.0
"""Energy is told for so many hours of the heaviest load a day: an assumption, and said with the figure."""


class PointStand(msgspec.Struct, frozen=True):
    """A kept point as the models see it now. ``at`` keeps or breaks the limits that it was kept for; ``None`` where it belongs
    to another variant of the machine. ``words`` are its difference from stock."""

    point: KeptPoint
    at: Candidate | None
    words: str

    @property
    def holds(self) -> bool:
        """Whether it keeps the limits that it was kept for."""
        return self.at is not None and not self.at.breaks


def candidate_of(models: Models, limits: Limits, setting: Setting) -> Candidate:
    """Return what is known of one setting, whatever it leaves open as the runs had it."""
    return candidate_at(models, judge(models, limits, one_setting(setting.over(models.base))), limits, 0)


def chosen(models: Models, point: KeptPoint) -> Choice:
    """Return a kept point as a choice of one, for the limits that it was kept for."""
    at = candidate_of(models, point.limits, point.setting)
    return Choice(
        pick=at,
        confirmed=is_confirmed(at, point.limits),
        runners_up=(),
        costs=(),
        eligible=int(not at.breaks),
        settings=1,
        limits=point.limits,
        standing=standing_of(at, point.limits),
    )


def point_stand(models: Models, point: KeptPoint) -> PointStand:
    """Return how a kept point stands."""
    if point.variant and point.variant != models.card.variant:
        return PointStand(point, None, f"It was kept with {point.variant}; the machine is now with {models.card.variant}.")
    at = candidate_of(models, point.limits, point.setting)
    stock = candidate_of(models, point.limits, models.card.stock)
    return PointStand(point, at, against_stock_words(at, stock))


def against_stock_words(at: Candidate, stock: Candidate) -> str:
    """Say what a setting is against stock: ``10 % slower, 14 dB quieter, 21 K cooler, 45 W less, 0.36 kWh less in 8 h``."""
    watts = at.power_w - stock.power_w
    parts = [
        _apart(at.throughput_percent - 100.0, "%", ("faster", "slower"), 0),
        _apart(at.in_room_dba - stock.in_room_dba, "dB", ("louder", "quieter"), 0),
        _apart(at.core_c - stock.core_c, "K", ("warmer", "cooler"), 0),
        _apart(watts, "W", ("more", "less"), 0),
        _apart(watts * HOURS_A_DAY / 1000.0, "kWh", (f"more in {HOURS_A_DAY:g} h", f"less in {HOURS_A_DAY:g} h"), 2),
    ]
    return ", ".join(part for part in parts if part) or "no different from stock"


def _apart(amount: float, unit: str, words: tuple[str, str], digits: int) -> str:
    """Return an amount with its word; empty where there is none, or it is not known."""
    if not math.isfinite(amount) or round(abs(amount), digits) == 0.0:
        return ""
    return f"{number_text(abs(amount), digits)}{NO_BREAK_SPACE}{unit} {words[0] if amount > 0.0 else words[1]}"
