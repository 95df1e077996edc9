"""What the engine tells the world. Events come from the engine's thread, in order."""

from collections.abc import Callable

import msgspec

from niente.core.model.errors import NienteError
from niente.core.model.frame import Frame, RigEvent
from niente.core.model.hand_cards import HandCard
from niente.core.model.plan import Plan, Step
from niente.core.model.rig_card import RigCard
from niente.core.model.runs import RunOutcome
from niente.core.model.states import BenchState
from niente.core.science.exponentials import TimeConstant
from niente.core.science.settling import Settled


class StateChanged(msgspec.Struct, frozen=True):
    """The engine does something else now; ``text`` says in words what, where it needs words."""

    state: BenchState
    text: str = ""


class PlanStarted(msgspec.Struct, frozen=True):
    """A plan begins or goes on; ``done`` of its runs need not be made any more."""

    plan: Plan
    plan_id: int
    done: int


class RunOpened(msgspec.Struct, frozen=True):
    """A run begins: ``index`` is its index among the plan's runs, from 0; ``total`` how many there are by now."""

    run_id: int
    index: int
    total: int
    step: Step


class FrameTaken(msgspec.Struct, frozen=True):
    """A sample came; ``run_id`` is ``None`` between runs."""

    frame: Frame
    run_id: int | None


class ForecastMade(msgspec.Struct, frozen=True):
    """Where the present run's hottest core settles, as far as can be told at a rig time."""

    run_id: int
    rig_time_s: float
    settled: Settled


class TimeConstantsFound(msgspec.Struct, frozen=True):
    """The time constants that a run which came to its end was long enough to tell."""

    run_id: int
    constants: tuple[TimeConstant, ...]


class RunClosed(msgspec.Struct, frozen=True):
    """A run ended; ``outcome`` is one of done, failed, skipped, guard, voided, stopped."""

    run_id: int
    index: int
    outcome: RunOutcome
    reason: str


class RigEventSeen(msgspec.Struct, frozen=True):
    """Something happened on the machine."""

    run_id: int | None
    rig_time_s: float
    event: RigEvent


class RigCardChanged(msgspec.Struct, frozen=True):
    """The machine is another one now, by its sheet or in another variant: this is its card."""

    card: RigCard


class WarningRaised(msgspec.Struct, frozen=True):
    """Something a person should know that ends nothing."""

    text: str


class RunLeftOut(msgspec.Struct, frozen=True):
    """A step is not run, because an earlier failure implies its result; ``text`` says so."""

    index: int
    text: str


class HandCardShown(msgspec.Struct, frozen=True):
    """Hands are wanted: the card says for what; ``ticked`` are the boxes that were ticked when it was shown before. ``None``:
    they are wanted no more."""

    card: HandCard | None
    ticked: tuple[int, ...] = ()


class PlanEnded(msgspec.Struct, frozen=True):
    """A plan is over: ``complete``, or ended early for a reason. The rig has its safe setting."""

    complete: bool
    reason: str
    error: NienteError | None = None


class BenchFailed(msgspec.Struct, frozen=True):
    """A bug of ours ended the plan. ``report`` is the traceback; the rig has its safe setting."""

    report: str


Record = (
    StateChanged
    | PlanStarted
    | RunOpened
    | FrameTaken
    | ForecastMade
    | TimeConstantsFound
    | RunClosed
    | RigEventSeen
    | RigCardChanged
    | WarningRaised
    | RunLeftOut
    | HandCardShown
    | PlanEnded
    | BenchFailed
)
Listener = Callable[[Record], None]
