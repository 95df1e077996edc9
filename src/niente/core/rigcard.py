"""A rig card: what a machine can read, what can be set on it and by whom, what it can run, and what it must not exceed."""

from enum import StrEnum

import msgspec

from niente.core.errors import RigError
from niente.core.quantities import part_of, quantity_of
from niente.core.setting import Setting


class SetBy(StrEnum):
    """Who can set a control."""

    SOFTWARE = "software"
    FIRMWARE = "firmware"
    HANDS = "hands"


class LoadKind(StrEnum):
    """What a load is for."""

    IDLE = "idle"
    HEAVY = "heavy"
    """The heaviest load: what the machine must survive."""
    REALISTIC = "realistic"
    """The work that the machine is for: what it must be quiet under."""


class Channel(msgspec.Struct, frozen=True):
    """One reading: its name (a quantity of ``quantities``, with a part where there are several), a title, and the step
    it comes in (0 where that is not known).
    """

    name: str
    title: str
    resolution: float = 0.0


class Control(msgspec.Struct, frozen=True):
    """One thing that can be set: its name, range, step, and who sets it."""

    name: str
    low: float
    high: float
    step: float
    set_by: SetBy = SetBy.SOFTWARE

    @property
    def title(self) -> str:
        """The control's name as a person reads it: ``Sustained power limit``, ``Fan duty, case``."""
        part = part_of(self.name)
        return quantity_of(self.name).title + (f", {part}" if part else "")

    def range_text(self) -> str:
        """Return the range in words: ``45 to 180 W in steps of 1``."""
        quantity = quantity_of(self.name)
        return f"{quantity.text(self.low)} to {quantity.with_unit(self.high)} in steps of {self.step:g}"


class LoadCard(msgspec.Struct, frozen=True):
    """One load the rig can run. ``checks_results`` says whether a wrong result shows in it."""

    name: str
    title: str
    kind: LoadKind
    checks_results: bool = False


class Part(msgspec.Struct, frozen=True):
    """One part of a machine, by class and never by brand: ``Cooler``, ``tower, six pipes, 158 mm``.

    ``tag`` names the state it is in, where a part has more than one and so tells variants apart: ``filter in``.
    """

    name: str
    words: str
    tag: str = ""


class MakersLimits(msgspec.Struct, frozen=True):
    """What the maker says must not be exceeded, and the margin Niente keeps below it."""

    core_temperature_c: float
    shut_down_c: float
    margin_k: float = 5.0


class RigCard(msgspec.Struct, frozen=True):
    """A machine as Niente knows it. Channel, control and load names are public and stand in docs/reference.

    ``serial`` tells one individual of a kind from another: readings of two are never put into one book. ``stock`` is the
    setting as found; ``safe`` is what is put back at every end, trip or failure.
    """

    name: str
    title: str
    summary: str
    simulated: bool
    serial: str
    variant: str
    channels: tuple[Channel, ...]
    controls: tuple[Control, ...]
    loads: tuple[LoadCard, ...]
    limits: MakersLimits
    stock: Setting
    safe: Setting
    sample_period_s: float = 1.0
    parts: tuple[Part, ...] = ()

    def index(self, name: str) -> int | None:
        """Return the place of a channel in a frame, or ``None`` where the rig has no such channel."""
        for place, channel in enumerate(self.channels):
            if channel.name == name:
                return place
        return None

    def indices(self, quantity: str) -> tuple[int, ...]:
        """Return the places of all channels of a quantity, in order."""
        return tuple(i for i, channel in enumerate(self.channels) if channel.name.partition(".")[0] == quantity)

    def control(self, name: str) -> Control | None:
        """Return a control by name, or ``None``."""
        return next((control for control in self.controls if control.name == name), None)

    def load(self, name: str) -> LoadCard | None:
        """Return a load by name, or ``None``."""
        return next((load for load in self.loads if load.name == name), None)

    def load_of(self, kind: LoadKind) -> LoadCard | None:
        """Return the first load of a kind, or ``None``."""
        return next((load for load in self.loads if load.kind == kind), None)

    def fan_groups(self) -> tuple[str, ...]:
        """Return the names of the fan groups that can be set."""
        return tuple(part_of(control.name) for control in self.controls if control.name.startswith("fan_duty."))

    def temperature_ceiling_c(self, setting: Setting) -> float:
        """Return the core temperature that headroom is counted from, °C: the temperature cap in force, or the maker's
        limit less its margin, whichever is lower."""
        ceiling = self.limits.core_temperature_c - self.limits.margin_k
        cap = setting.over(self.stock).temperature_cap_c
        return ceiling if cap is None else min(ceiling, cap)

    def insist(self, setting: Setting) -> None:
        """Raise ``RigError``, with everything in words, for a setting that this rig does not have or does not reach."""
        refusals = self.refusals(setting)
        if refusals:
            raise RigError(
                f"{self.title} refuses the setting: {'; '.join(refusals)}.",
                safe="The setting in force was not changed.",
                remedy="Choose a value inside the range.",
            )

    def refusals(self, setting: Setting) -> list[str]:
        """Return, in words, everything about a setting that this rig does not have or does not reach."""
        found = []
        for name, value in setting.controls():
            control = self.control(name)
            if control is None:
                known = ", ".join(c.name for c in self.controls)
                found.append(f"this rig has no control {name!r}; it has {known}")
            elif not control.low <= value <= control.high:
                found.append(f"{name} = {value:g} lies outside the rig's range of {control.range_text()}")
        return found
