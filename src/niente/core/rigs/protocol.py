"""The contract between Niente and a machine.

Write a class with these methods and name it ``module:factory``: Niente then measures that machine like any other.
"""

from typing import Protocol, runtime_checkable

from niente.core.model.frame import Frame
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting


class Rig(Protocol):
    """A machine on the bench.

    Once a bench is open, all calls but ``make_safe`` come from one thread, the sampler's, one after the other; before that
    ``describe`` comes from the thread that opens it. ``make_safe`` may come from any thread, while another call is under way,
    and from another process, to which the factory gives a rig of its own: that is how a guardian ends a load whose bench is
    gone.
    """

    def describe(self) -> RigCard:
        """Return what the machine can read, set and run. The card does not change while the rig is open."""

    def check(self, setting: Setting) -> list[str]:
        """Return in words what speaks against a setting; an empty list where nothing does. Touches nothing."""

    def apply(self, setting: Setting) -> str | None:
        """Set every control that ``setting`` names. Return ``None``, or in words what hands have to do first.

        Raises ``RigError`` where the machine refuses.
        """

    def start(self, load: str) -> None:
        """Start a load by its name. Raises ``RigError`` for a load the rig does not have."""

    def stop(self) -> None:
        """End the load. Does nothing where none runs."""

    def frame(self, timeout_s: float) -> Frame | None:
        """Wait for the next sample instant and return its frame.

        Never waits longer than ``timeout_s`` seconds of wall time; returns ``None`` where no sample came by then.
        """

    def make_safe(self) -> None:
        """End the load and put the safe setting back. May be called again, at any time and from any thread; never raises.

        Ends a load also that another process of this driver's started.
        """

    def close(self) -> None:
        """Let go of the machine, after making it safe."""


@runtime_checkable
class Rebuilt(Protocol):
    """A rig that takes on another of its variants by itself, as if hands had changed it: every simulated one."""

    def become(self, variant: str) -> None:
        """Stand in another variant, load off; the card is another one then. Raises ``NienteError`` for one it lacks."""


@runtime_checkable
class Staying(Protocol):
    """A rig that can leave a setting in force when it is let go of."""

    def leave(self) -> None:
        """Let go of the machine as it is: no load runs, and the setting that was applied last stays. Comes in place of
        ``close``."""


@runtime_checkable
class Paced(Protocol):
    """A rig whose clock can be told how fast to go: every simulated one."""

    @property
    def pace(self) -> float | None:
        """Rig seconds a wall second; ``None`` for as fast as it goes."""

    def set_pace(self, pace: float | None) -> None:
        """Change the pace. May be called from any thread."""
