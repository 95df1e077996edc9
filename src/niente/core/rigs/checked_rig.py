"""A rig as the bench calls it: no driver is taken at its word, and none can take the bench along.

What a driver raises becomes a ``RigError`` that names the driver's own line; what it returns is held against the contract; and
``make_safe``, the last line of all, runs under a watch of its own.
"""

import logging
import math
import threading
import traceback
from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

import msgspec
import numpy as np

from niente.core.model.errors import NienteError, RigError
from niente.core.model.frame import Frame, RigEvent
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting
from niente.core.rigs.card_problems import card_problems
from niente.core.rigs.protocol import Paced, Rebuilt, Rig, Staying

SAFE_S = (3.0, 2.0, 2.0)
"""``make_safe`` and ``close`` are waited for so long (seconds), and called again where that was in vain."""
BY_HAND = "Go to the machine now: end its load there, or switch it off, and let it cool."
"""What is left to do where a machine could not be made safe."""
Answer = TypeVar("Answer")
LOG = logging.getLogger(__name__)


class CheckedRig:
    """One rig. All calls but ``make_safe`` come from one thread, as the contract promises its driver."""

    def __init__(self, driver: Rig) -> None:
        self.driver = driver
        self._title = type(driver).__name__
        self._channels = 0
        self._last_s = -math.inf
        self._paced = driver if isinstance(driver, Paced) else None
        self._rebuilt = driver if isinstance(driver, Rebuilt) else None
        self._staying = driver if isinstance(driver, Staying) else None

    # -- the contract ------------------------------------------------------------------------------------------

    def describe(self) -> RigCard:
        """Return the machine's card. Raises ``RigError`` where it is none, or lacks what every rig has."""
        card = self._call("describe", self.driver.describe)
        if not isinstance(card, RigCard):
            raise self._broken("describe", f"it returned {_kind(card)} in place of a rig card")
        try:
            card = msgspec.convert(msgspec.to_builtins(card), RigCard)
            found = card_problems(card)
        except (TypeError, ValueError, msgspec.ValidationError) as error:
            found = [_words(error)]
        if found:
            raise self._broken("describe", f"its card cannot be used: {'; '.join(found)}")
        self._title, self._channels = card.title, len(card.channels)
        return card

    def check(self, setting: Setting) -> list[str]:
        """Return in words what speaks against a setting."""
        found = self._call("check", self.driver.check, setting)
        if not isinstance(found, list | tuple) or not all(isinstance(one, str) for one in found):
            raise self._broken("check", f"it returned {_kind(found)} in place of a list of sentences")
        return list(found)

    def apply(self, setting: Setting) -> str | None:
        """Set every control that ``setting`` names; return in words what hands have to do first."""
        left = self._call("apply", self.driver.apply, setting)
        if left is not None and not isinstance(left, str):
            raise self._broken("apply", f"it returned {_kind(left)} in place of nothing or a sentence")
        return left

    def start(self, load: str) -> None:
        """Start a load."""
        self._call("start", self.driver.start, load)

    def stop(self) -> None:
        """End the load."""
        self._call("stop", self.driver.stop)

    def frame(self, timeout_s: float) -> Frame | None:
        """Wait for the next sample. Raises ``RigError`` also for one that is none, and for a time that does not go on."""
        given = self._call("frame", self.driver.frame, timeout_s)
        if given is None:
            return None
        if not isinstance(given, Frame):
            raise self._broken("frame", f"it returned {_kind(given)} in place of a frame")
        return Frame(self._checked_time(given.time_s), self._checked_values(given.values), self._checked_events(given.events))

    def make_safe(self) -> str:
        """End the load and put the safe setting back; return what went wrong, in words, and nothing where all went well.

        Each try runs in a thread of its own, since a driver may hang. Never raises; returns within ``SAFE_S`` altogether.
        """
        return self._insist("make_safe", self.driver.make_safe)

    def close(self, *, stays: bool = False) -> str:
        """Let go of the machine, as it is set where that ``stays``; return in words what went wrong, and nothing where all
        went well."""
        if stays and self._staying is not None:
            return self._insist("leave", self._staying.leave)
        return self._insist("close", self.driver.close)

    # -- what a rig may have besides -----------------------------------------------------------------------------

    @property
    def pace(self) -> float | None:
        """Rig seconds a wall second; ``None`` for as fast as it goes. A real machine's are seconds."""
        if self._paced is None:
            return 1.0
        try:
            pace = self._paced.pace
        except Exception:
            LOG.exception("a driver does not know its pace, and is taken to have none")
            self._paced = None
            return 1.0
        return float(pace) if isinstance(pace, int | float) and pace > 0 else None if pace is None else 1.0

    @property
    def is_paced(self) -> bool:
        """Whether the rig's clock can be told how fast to go."""
        return self._paced is not None

    def set_pace(self, pace: float | None) -> None:
        """Change the pace of a rig that has one."""
        if self._paced is not None:
            self._call("set_pace", self._paced.set_pace, pace)

    @property
    def can_stay(self) -> bool:
        """Whether the rig can leave a setting in force when it is let go of."""
        return self._staying is not None

    @property
    def is_rebuilt(self) -> bool:
        """Whether the rig takes on another of its variants by itself."""
        return self._rebuilt is not None

    def become(self, variant: str) -> None:
        """Stand in another variant, where the rig can."""
        if self._rebuilt is not None:
            self._call("become", self._rebuilt.become, variant)

    # -- inside --------------------------------------------------------------------------------------------------

    def _call(self, name: str, method: Callable[..., Answer], *given: Any) -> Answer:
        try:
            return method(*given)
        except NienteError:
            raise
        except Exception as error:
            raise self._failed(name, error) from error
        except BaseException as error:
            ours = threading.current_thread() is threading.main_thread() and type(error) is not SystemExit
            if ours:  # somebody ends this process by a signal, which is heard in this thread
                raise
            raise self._failed(name, error) from error

    def _failed(self, name: str, error: BaseException) -> RigError:
        LOG.warning("the driver of %s failed in %s", self._title, name, exc_info=error)
        return self._broken(name, f"{_words(error)}{_place(error)}")

    def _broken(self, name: str, what: str) -> RigError:
        return RigError(
            f"The driver of {self._title} failed in {name}: {what}.",
            safe="The machine is told to end its load and take its safe setting; every sample is kept.",
            remedy="Look at the machine, then mend the driver; niente-cli rigs check names what is wrong with it.",
        )

    def _checked_time(self, time_s: object) -> float:
        is_number = isinstance(time_s, int | float | np.floating | np.integer) and not isinstance(time_s, bool)
        if not is_number or not math.isfinite(time_s):  # type: ignore[arg-type]
            raise self._broken("frame", f"its time is {time_s!r}, which is no time")
        now = float(time_s)  # type: ignore[arg-type]
        if now <= self._last_s:
            way = "stands still" if now == self._last_s else "goes back"
            raise self._broken("frame", f"its time {way}, from {self._last_s:g} to {now:g} s: no guard could be trusted")
        self._last_s = now
        return now

    def _checked_values(self, values: object) -> np.ndarray:
        if not isinstance(values, np.ndarray) or values.dtype.kind not in "fiu":
            raise self._broken("frame", f"its values are {_kind(values)} in place of an array of numbers")
        if values.shape != (self._channels,):
            raise self._broken("frame", f"its values have the shape {values.shape}; the card has {self._channels} channels")
        return values.astype(np.float64)  # a copy: a driver may fill the same array again

    def _checked_events(self, events: object) -> tuple[RigEvent, ...]:
        if not events:
            return ()
        if not isinstance(events, list | tuple) or not all(isinstance(one, RigEvent) for one in events):
            raise self._broken("frame", f"its events are {_kind(events)} in place of a tuple of rig events")
        return tuple(events)

    def _insist(self, name: str, method: Callable[[], object]) -> str:
        problem = ""
        for limit_s in SAFE_S:
            problem = self._try(name, method, limit_s)
            if not problem:
                return ""
            LOG.error("%s: %s", self._title, problem)
        return problem

    @staticmethod
    def _try(name: str, method: Callable[[], object], limit_s: float) -> str:
        found: list[str] = []

        def work() -> None:
            try:
                method()
                found.append("")
            except BaseException as error:
                found.append(f"its driver failed in {name}: {_words(error)}{_place(error)}")

        thread = threading.Thread(target=work, name="niente-safe", daemon=True)
        thread.start()
        thread.join(limit_s)
        return found[0] if found else f"its driver has not returned from {name} within {limit_s:g} s"


def checked(rig: Rig | CheckedRig) -> CheckedRig:
    """Return a rig with its calls checked, once."""
    return rig if isinstance(rig, CheckedRig) else CheckedRig(rig)


def _kind(what: object) -> str:
    return "nothing" if what is None else f"a {type(what).__name__}"


def _words(error: BaseException) -> str:
    """Return an error in words; one whose own text fails has none."""
    try:
        text = str(error)
    except Exception:
        text = ""
    return f"{type(error).__name__}: {text}" if text else type(error).__name__


def _place(error: BaseException) -> str:
    """Return where an error was raised: the innermost place, which is the driver's or what it called."""
    frames = traceback.extract_tb(error.__traceback__)
    last = next((one for one in reversed(frames) if one.filename != __file__), None)
    return f" ({Path(last.filename).name}, line {last.lineno})" if last is not None else ""
