"""A rig card: what a machine can read, what can be set on it and by whom, what it can run, and what it must not exceed."""

import math
from enum import StrEnum

import msgspec

from niente.core.model.case_air import CaseAir
from niente.core.model.errors import RigError
from niente.core.model.fan_curve import FanCurve
from niente.core.model.names import kind_of, part_of
from niente.core.model.quantities import quantity_of
from niente.core.model.setting import Setting
from niente.core.science.dynamics import OVER_DB


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
    MIXED = "mixed"
    """Processor and graphics together: the harder test of the case."""
    REAL_TIME = "real_time"
    """Work with deadlines; its throughput is how much of it runs without a drop-out."""
    LIGHT = "light"
    """Few cores at work: where clocks go highest."""
    BURST = "burst"
    """Short work, over before heat counts."""


class Channel(msgspec.Struct, frozen=True):
    """One reading: its name (a quantity of ``quantities``, with a part where there are several), a title, and the step
    it comes in (0 where that is not known). One that hands read gives nothing in a frame and is asked for at a run's end.
    """

    name: str
    title: str
    resolution: float = 0.0
    by: SetBy = SetBy.SOFTWARE


class ControlFile(msgspec.Struct, frozen=True):
    """The kernel's own file that sets a control, as a whole number.

    ``path`` lies in /sys, ``per_unit`` what one unit of the control is there: 2.55 for a duty in % of a file from 0 to 255,
    1000 for MHz in kHz. ``first`` are files that want a value before it takes hold, by path: that value, and the one that
    gives the control back to the machine.
    """

    path: str
    per_unit: float = 1.0
    first: dict[str, tuple[int, int]] = msgspec.field(default_factory=dict)

    def number(self, value: float) -> int:
        """Return a control's value as the file has it."""
        return round(value * self.per_unit)

    def problem(self) -> str:
        """Return in words what speaks against it; empty where nothing does."""
        for path in (self.path, *self.first):
            if not path.startswith("/sys/") or ".." in path.split("/") or not path.isprintable():
                return f"the file {path!r} is none of the kernel's in /sys"
        return "" if math.isfinite(self.per_unit) and self.per_unit != 0.0 else f"a unit is {self.per_unit:g} in its file"


class Control(msgspec.Struct, frozen=True):
    """One thing that can be set: its name, range, step, and who sets it.

    ``rest`` is a value outside of the range that takes it out of force, where there is one: a fixed clock of 0. ``file`` is
    the kernel's own file behind it, where there is one.
    """

    name: str
    low: float
    high: float
    step: float
    set_by: SetBy = SetBy.SOFTWARE
    rest: float | None = None
    file: ControlFile | None = None

    def takes(self, value: float) -> bool:
        """Return whether the control can be set to a value."""
        return self.low <= value <= self.high or value == self.rest

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
    """One load the rig can run. ``checks_results`` says whether a wrong result shows in it.

    One that runs at a size has a control ``load_size.`` with its name, and ``counts`` says what is counted: ``voices``.
    """

    name: str
    title: str
    kind: LoadKind
    checks_results: bool = False
    counts: str = ""


class Part(msgspec.Struct, frozen=True):
    """One part of a machine, by class and never by brand: ``Cooler``, ``tower, six pipes, 158 mm``.

    ``tag`` names the state it is in, where a part has more than one and so tells variants apart: ``filter in``.
    """

    name: str
    words: str
    tag: str = ""


class Variant(msgspec.Struct, frozen=True):
    """One physical state of a machine: its name, what it is, what hands have to do to get there, and the parts that differ
    from those of the first variant."""

    name: str
    words: str = ""
    hands: str = ""
    parts: tuple[Part, ...] = ()


class CountedTemperature(StrEnum):
    """Which temperature of the processor is the one that counts."""

    HOTTEST = "hottest core"
    MEAN = "mean of cores"
    PACKAGE = "package"


class Trust(msgspec.Struct, frozen=True):
    """How far a sensor is to be trusted: it reads ``gain`` times the truth plus ``offset``, as ``reference`` showed.

    ``channel`` names a channel, or a quantity for all of its channels.
    """

    channel: str
    offset: float = 0.0
    gain: float = 1.0
    reference: str = ""


class MakersLimits(msgspec.Struct, frozen=True):
    """What the maker says must not be exceeded, and the margin Niente keeps below it."""

    core_temperature_c: float
    shut_down_c: float
    margin_k: float = 5.0


class RigCard(msgspec.Struct, frozen=True):
    """A machine as Niente knows it. Channel, control and load names are public and stand in docs/reference.

    ``serial`` tells one individual of a kind from another: readings of two are never put into one book. ``variant`` is the
    physical state it is in, ``variants`` those it is known in. ``stock`` is the setting as found; ``safe`` is what is put
    back at every end, trip or failure. ``curve_sources`` are the channels that fan curves may follow; where there are
    none, the rig takes fixed duties only. ``on_this_computer`` says that Niente runs on the machine that is measured, so that
    it goes down with it. ``restart_limit_s`` is how long it may take to come back after a crash (0: it does not). The fan group
    whose control stands first is the one that is swept.
    ``parts`` are those of this variant, ``base_parts`` those of the first one where they differ. ``room``, ``meter`` and
    ``listener`` are what a driver knows of them, by the names of a rig sheet's fields. ``counts``, ``trust`` and
    ``marks_over_db`` are the person's, from the rig sheet. ``air`` says where in the case air stands and goes, if known.
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
    variants: tuple[Variant, ...] = ()
    curve_sources: tuple[str, ...] = ()
    base_parts: tuple[Part, ...] = ()
    counts: CountedTemperature = CountedTemperature.HOTTEST
    trust: tuple[Trust, ...] = ()
    marks_over_db: tuple[float, ...] = OVER_DB
    room: dict[str, float] = msgspec.field(default_factory=dict)
    meter: dict[str, float | str] = msgspec.field(default_factory=dict)
    listener: dict[str, float | str] = msgspec.field(default_factory=dict)
    on_this_computer: bool = False
    restart_limit_s: float = 600.0
    air: CaseAir | None = None

    def index(self, name: str) -> int | None:
        """Return the index of a channel in a frame, or ``None`` where the rig has no such channel."""
        for index, channel in enumerate(self.channels):
            if channel.name == name:
                return index
        return None

    def indices(self, quantity: str) -> tuple[int, ...]:
        """Return the indices of all channels of a quantity, in order."""
        return tuple(i for i, channel in enumerate(self.channels) if kind_of(channel.name) == quantity)

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

    def trust_in(self, channel: str) -> Trust:
        """Return how far a channel is to be trusted: what is said of it, or of its quantity; else wholly."""
        by_channel = {trust.channel: trust for trust in self.trust}
        return by_channel.get(channel) or by_channel.get(kind_of(channel)) or Trust(channel)

    def size_of(self, load: str) -> Control | None:
        """Return the control that sets a load's size; ``None`` for a load that has none."""
        return self.control(f"load_size.{load}")

    def lead_group(self) -> str | None:
        """Return the fan group that is swept: the one whose control stands first; ``None`` without fans."""
        return next(iter(self.fan_groups()), None)

    def fixed_group(self) -> str | None:
        """Return the fan group that is fixed at one duty while the first is swept; ``None`` where there is no second."""
        return next(iter(self.fan_groups()[1:]), None)

    def temperature_ceiling_c(self, setting: Setting) -> float:
        """Return the core temperature that headroom is counted from, °C: the temperature cap in force, or the maker's
        limit less its margin, whichever is lower."""
        ceiling = self.limits.core_temperature_c - self.limits.margin_k
        cap = setting.over(self.stock).temperature_cap_c
        return ceiling if cap is None else min(ceiling, cap)

    def set_by_hands(self, whole: Setting, before: Setting) -> list[Control]:
        """Return the controls that software cannot set and that a whole setting has otherwise than another one has."""
        return [
            control
            for control in self.controls
            if control.set_by != SetBy.SOFTWARE and whole.value(control.name) not in (None, before.value(control.name))
        ]

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
        known_by_name = {control.name: control for control in self.controls}
        for name, value in setting.controls():
            control = known_by_name.get(name)
            if control is None:
                known = ", ".join(known_by_name)
                found.append(f"this rig has no control {name!r}; it has {known}")
            elif not control.takes(value):
                found.append(f"{name} = {value:g} lies outside the rig's range of {control.range_text()}")
        for group, curve in setting.fan_curve.items():
            found += [f"fan_curve.{group}: {problem}" for problem in self._curve_problems(group, curve)]
        return found

    def _curve_problems(self, group: str, curve: FanCurve) -> list[str]:
        if not self.curve_sources:
            return ["this rig takes fixed duties only"]
        if group not in self.fan_groups():
            return [f"this rig has no fan group {group!r}; it has {', '.join(self.fan_groups())}"]
        strange = [source for source in curve.sources if source not in self.curve_sources]
        if strange:
            return [f"it cannot follow {strange[0]!r}; it can follow {', '.join(self.curve_sources)}"]
        return curve.problems()
