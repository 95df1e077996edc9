"""What samples are held against while they are taken, and what ends that."""

import msgspec

from niente.core.acquisition.guards.guard_set import GuardSet
from niente.core.acquisition.guards.trip import Trip
from niente.core.acquisition.plan_stop import StopPlan
from niente.core.model.frame import Frame, RigEvent, RigEventKind
from niente.core.model.runs import RunOutcome
from niente.core.model.setting import Setting

BY_PERSON = "stopped by the person at the bench"


class Interruption(msgspec.Struct, frozen=True):
    """What ended sampling before anybody wanted it to end: a guard, a failure of the machine, a gap of so many seconds, or an
    error. The load is off by then."""

    trip: Trip | None = None
    failure: RigEvent | None = None
    gap_s: float | None = None
    error: Exception | None = None


class Batch(msgspec.Struct, frozen=True):
    """The samples that came, oldest first, and what ended sampling, where something did."""

    frames: list[Frame]
    ended: Interruption | None = None


class Watch(msgspec.Struct):
    """What samples belong to and are held against: the run they are written to, the setting in force, and the guards."""

    run_id: int | None
    setting: Setting
    guards: GuardSet
    acts: bool
    """Whether a trip ends anything; while a guard is waited for to become quiet it does not."""
    load: str = ""
    """The load that runs."""
    begun: bool = False


def got_out(abandoned: bool, words: str) -> StopPlan:
    """Return what ends a plan whose rig was given up, or whose bench is closing, for a reason in words."""
    words = "the rig did not answer" if abandoned else words
    return StopPlan(words, RunOutcome.STOPPED)


def shut_down(failure: RigEvent) -> StopPlan | None:
    """Return what ends a plan where the machine shut itself down."""
    if failure.kind != RigEventKind.SHUT_DOWN:
        return None
    return StopPlan(f"The machine shut itself down: {failure.detail}.", RunOutcome.FAILED)
