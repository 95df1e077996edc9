"""The machine as the listener hears it: its level carried there by distance, over the background there, with the meter's
class in the interval."""

import math

import msgspec

from niente.core.model.rig_card import RigCard
from niente.core.model.rig_sheet import RigSheet
from niente.core.science.acoustics import at_listener
from niente.core.science.statistics import Z95

METER_LIMIT_DB = {"class 1": 0.7, "class 2": 1.0}
"""How far a meter of a class may be off at 1 kHz, in dB (acceptance limits of IEC 61672-1:2013; from memory)."""
NO_CLASS_DB = 2.0
"""The same for a meter of no class: assumed, no source."""


class ListenerPlace(msgspec.Struct, frozen=True):
    """Where the meter and the listener are, in m from the machine, the background at the listener's (dBA, ``None``: not known),
    and how far the meter may be off (dB, as a limit)."""

    meter_m: float
    listener_m: float
    background_dba: float | None
    meter_limit_db: float

    @property
    def meter_sd_db(self) -> float:
        """The meter's own error as a standard deviation: anywhere within its limit alike (JCGM 100, 4.3.7; from memory)."""
        return self.meter_limit_db / math.sqrt(3.0)

    def heard(self, alone_dba: float, half_width_db: float) -> tuple[float, float]:
        """Return the level at the listener's place in dBA and its 95 % half width, from the machine alone at the meter."""
        level, error = at_listener(
            alone_dba, math.hypot(half_width_db / Z95, self.meter_sd_db), self.meter_m, self.listener_m, self.background_dba
        )
        return level, Z95 * error


def listener_of_card(card: RigCard, background: str = "night_dba") -> ListenerPlace:
    """Return where a driver says that meter and listener are; at night or by day (``day_dba``), where it knows the
    background."""
    meter_m = float(card.meter.get("distance_m", 1.0))
    night = card.listener.get(background)
    return ListenerPlace(
        meter_m,
        float(card.listener.get("distance_m", meter_m)),
        float(night) if night is not None else None,
        METER_LIMIT_DB.get(str(card.meter.get("standard", "")), NO_CLASS_DB),
    )


def listener_of_sheet(sheet: RigSheet) -> ListenerPlace:
    """Return where a person says that meter and listener are; at night, where the background is known."""
    limit = METER_LIMIT_DB.get(sheet.meter.standard.value, NO_CLASS_DB)
    return ListenerPlace(sheet.meter.distance_m, sheet.listener.distance_m, sheet.listener.night_dba, limit)
