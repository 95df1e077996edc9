"""Fans that should turn."""

from niente.core.acquisition.guards.trip import Trip
from niente.core.model.frame import Frame
from niente.core.model.names import part_of
from niente.core.model.plan import GuardAction
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting

STALLED_SAMPLES = 5
STANDSTILL_RPM = 60.0


class FanWatch:
    """A fan that stands although it was seen turning at this duty or a lower one has stalled."""

    def __init__(self, card: RigCard) -> None:
        self._fans = [(index, part_of(card.channels[index].name)) for index in card.indices("fan_speed_rpm")]
        self._turns_at = {group: card.safe.fan_duty.get(group, 100.0) for _, group in self._fans}
        self._stopped_samples = {group: 0 for _, group in self._fans}

    def look(self, frame: Frame, setting: Setting) -> Trip | None:
        """Return the trip, if a fan has stalled."""
        for index, group in self._fans:
            duty, rpm = setting.fan_duty.get(group, 0.0), float(frame.values[index])
            stopped = rpm < STANDSTILL_RPM and duty >= self._turns_at[group]
            self._stopped_samples[group] = self._stopped_samples[group] + 1 if stopped else 0
            if self._stopped_samples[group] >= STALLED_SAMPLES:
                return Trip(GuardAction.STOP, f"The {group} fans stand still at {duty:g} % duty.")
        return None

    def learn(self, frame: Frame, setting: Setting) -> None:
        """Take note, at the end of a run, that the fans turn at its duties."""
        for index, group in self._fans:
            if frame.values[index] > 2 * STANDSTILL_RPM and setting.fan_duty.get(group, 0.0) > 0.0:
                self._turns_at[group] = min(self._turns_at[group], setting.fan_duty[group])
