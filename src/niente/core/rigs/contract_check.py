"""The contract held against a rig: each part of it is tried, and what breaks it is said in words."""

import math
import threading
import time
from collections.abc import Callable, Iterator

from niente.core.model.errors import RigError
from niente.core.model.frame import Frame
from niente.core.model.quantities import quantity_of
from niente.core.model.rig_card import LoadKind, RigCard
from niente.core.rigs.checked_rig import CheckedRig, checked
from niente.core.rigs.protocol import Rig

FRAMES, UNDER_LOAD = 5, 10
PATIENCE_S = 30.0
"""A rig that gives no sample for so long, or for five of its sample periods, gives none."""
GRACE_S = 0.5
"""How much longer than its timeout a call may take on a busy computer."""
WORK, POWER = "throughput_per_s", "package_power_w"


class ContractCheck:
    """Tries one rig. ``with_load`` also starts its heaviest load, for some samples."""

    def __init__(self, rig: Rig | CheckedRig, say: Callable[[str], None], *, with_load: bool) -> None:
        self._rig = checked(rig)
        self._say = say
        self._with_load = with_load
        self._card: RigCard

    def run(self) -> list[str]:
        """Return what breaks the contract; an empty list where nothing does. The rig is safe and closed afterwards."""
        parts: list[tuple[str, Callable[[], Iterator[str]]]] = [
            ("the card", self._describes),
            ("settings", self._settings),
            ("samples at idle", self._frames),
            ("make_safe from another thread", self._made_safe_meanwhile),
        ]
        if self._with_load:
            parts.append(("the heaviest load", self._under_load))
        found: list[str] = []
        for name, part in parts:
            self._say(f"{name} …")
            try:
                found += [f"{name}: {problem}" for problem in part()]
            except RigError as error:
                found.append(f"{name}: {error.happened}")
                if part == self._describes:
                    break  # without a card nothing else can be held against anything
        for call in (self._rig.make_safe, self._rig.close):
            if problem := call():
                found.append(problem)
        return found

    def _describes(self) -> Iterator[str]:
        self._card = self._rig.describe()
        if self._rig.describe() != self._card:
            yield "describe returns another card the second time"

    def _settings(self) -> Iterator[str]:
        card = self._card
        for name, setting in (("stock", card.stock), ("safe", card.safe)):
            if said := self._rig.check(setting):
                yield f"check speaks against the {name} setting: {'; '.join(said)}"
            self._rig.apply(setting)
        for control in card.controls:
            if not self._rig.check(card.stock.replaced(control.name, control.high + 1000.0)):
                yield f"check says nothing of {control.name} far beyond its range"
        try:
            self._rig.start("no such load")
        except RigError as error:
            if "failed in start" in error.happened:
                yield f"start refuses a load that there is none of by an error of its own: {error.happened}"
        else:
            yield "start takes a load that is not on the card"

    def _frames(self) -> Iterator[str]:
        for frame in self._some(FRAMES):
            yield from self._impossible(frame)
        begun = time.monotonic()
        self._rig.frame(0.01)
        taken = time.monotonic() - begun
        if taken > 0.01 + GRACE_S:
            yield f"frame(0.01) took {taken:.1f} s: it never waits longer than its timeout"

    def _made_safe_meanwhile(self) -> Iterator[str]:
        over, said = threading.Event(), []

        def keep_safe() -> None:
            while not over.wait(0.01):
                if problem := self._rig.make_safe():
                    said.append(problem)
                    return

        other = threading.Thread(target=keep_safe, name="niente-check", daemon=True)
        other.start()
        try:
            for _ in self._some(FRAMES):
                pass
        finally:
            over.set()
            other.join()
        yield from said

    def _under_load(self) -> Iterator[str]:
        card = self._card
        heavy = card.load_of(LoadKind.HEAVY)
        if heavy is None:
            yield "the card has no heavy load"
            return
        self._rig.apply(card.safe)
        idle = list(self._some(2))[-1]
        self._rig.start(heavy.name)
        busy = list(self._some(UNDER_LOAD))[-1]
        if problem := self._rig.make_safe():
            yield problem
        after = list(self._some(UNDER_LOAD))[-1]
        for name in (WORK, POWER):
            index = card.index(name)
            if index is None:
                continue
            before, under, then = (float(frame.values[index]) for frame in (idle, busy, after))
            if not under > before:
                yield f"{name} does not rise under the heaviest load ({before:g}, then {under:g})"
            elif not then < 0.5 * (before + under):
                yield f"{name} does not fall once make_safe was called ({under:g}, then {then:g}): the load is still on"

    def _some(self, count: int) -> Iterator[Frame]:
        """Give so many samples. Raises ``RigError`` where they do not come."""
        patience = max(PATIENCE_S, 5.0 * self._card.sample_period_s)
        until = time.monotonic() + patience
        while count:
            frame = self._rig.frame(0.5)
            if frame is not None:
                count, until = count - 1, time.monotonic() + patience
                yield frame
            elif time.monotonic() > until:
                raise RigError(f"no sample came within {patience:.0f} s", remedy="Look at the driver.")

    def _impossible(self, frame: Frame) -> Iterator[str]:
        for channel, value in zip(self._card.channels, frame.values.tolist(), strict=True):
            quantity = quantity_of(channel.name)
            if not math.isnan(value) and not quantity.low <= value <= quantity.high:
                yield f"{channel.name} reads {value:g} {quantity.unit}, which cannot be"
