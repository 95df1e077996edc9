"""The record: everything that happens on a bench, as a closed set of typed records in one order.

The book keeps them, clients of the bench hear them, and a follower of a book reads the same.
"""

from collections.abc import Callable

import msgspec

from niente.core.model.errors import ErrorText
from niente.core.model.frame import Frame, RigEvent
from niente.core.model.hand_cards import HandCard
from niente.core.model.plan import GuardAction, Plan, Step
from niente.core.model.project import Project
from niente.core.model.rig_card import RigCard
from niente.core.model.runs import RunKind, RunOutcome
from niente.core.model.setting import Setting
from niente.core.model.states import BenchState
from niente.core.science.arrays import Array, Vector
from niente.core.science.exponentials import TimeConstant
from niente.core.science.settling import Settled


class BenchStarted(msgspec.Struct, frozen=True, tag=True):
    """A bench opened the book; ``boot`` tells one start of its computer from the next."""

    boot: str


class StateChanged(msgspec.Struct, frozen=True, tag=True):
    """The engine does something else now; ``text`` says in words what, where it needs words. ``pauses_after`` says that it
    pauses once the run under way is over."""

    state: BenchState
    text: str = ""
    pauses_after: bool = False


class PlanStarted(msgspec.Struct, frozen=True, tag=True):
    """A plan begins or goes on; ``done`` of its runs need not be made any more."""

    plan: Plan
    plan_id: int
    done: int


class RunOpened(msgspec.Struct, frozen=True, tag=True):
    """A run begins: ``index`` is its index among the plan's runs, from 0; ``total`` how many there are by now.

    ``setting`` is whole, as it is put in force, where the step's own may leave controls as they are found.
    """

    run_id: int
    index: int
    total: int
    step: Step
    plan_id: int
    entry: int
    setting: Setting
    load: str
    rig_time_s: float
    kind: RunKind = RunKind.STEP


class FrameTaken(msgspec.Struct, frozen=True, tag=True):
    """A sample came; ``run_id`` is ``None`` between runs."""

    frame: Frame
    run_id: int | None


class SamplesTaken(msgspec.Struct, frozen=True, tag=True):
    """Samples of one run that follow on each other, as they are sent or read back: rig times ``(n,)`` and readings
    ``(n, channels)``. A bench itself tells each as ``FrameTaken``."""

    run_id: int | None
    time_s: Vector
    values: Array


class ForecastMade(msgspec.Struct, frozen=True, tag=True):
    """Where the present run's hottest core settles, as far as can be told at a rig time."""

    run_id: int
    rig_time_s: float
    settled: Settled


class TimeConstantsFound(msgspec.Struct, frozen=True, tag=True):
    """The time constants that a run which came to its end was long enough to tell."""

    run_id: int
    constants: tuple[TimeConstant, ...]


class RunClosed(msgspec.Struct, frozen=True, tag=True):
    """A run ended, for a reason in words."""

    run_id: int
    index: int
    outcome: RunOutcome
    reason: str
    rig_time_s: float = 0.0
    kind: RunKind = RunKind.STEP


class RigEventSeen(msgspec.Struct, frozen=True, tag=True):
    """Something happened on the machine."""

    run_id: int | None
    rig_time_s: float
    event: RigEvent


class GuardTripped(msgspec.Struct, frozen=True, tag=True):
    """A guard tripped, and did already what it does."""

    run_id: int | None
    rig_time_s: float
    action: GuardAction
    reason: str


class SampleGap(msgspec.Struct, frozen=True, tag=True):
    """So many seconds of the rig's time went by without a sample in a run."""

    run_id: int
    rig_time_s: float
    seconds: float


class RigCardChanged(msgspec.Struct, frozen=True, tag=True):
    """The machine is another one now, by its sheet or in another variant: this is its card, and that of its driver, where it
    was told."""

    card: RigCard
    own_card: RigCard | None = None


class WarningRaised(msgspec.Struct, frozen=True, tag=True):
    """Something a person should know that ends nothing."""

    text: str


class RunLeftOut(msgspec.Struct, frozen=True, tag=True):
    """A step is not run, because an earlier failure implies its result; ``text`` says so."""

    index: int
    text: str
    entry: int = 0
    reason: str = ""


class HandCardShown(msgspec.Struct, frozen=True, tag=True):
    """Hands are needed: the card says for what; ``ticked`` are the boxes that were ticked when it was shown before. ``None``:
    they are wanted no more."""

    card: HandCard | None
    ticked: tuple[int, ...] = ()


class HandCardTicked(msgspec.Struct, frozen=True, tag=True):
    """These boxes of the card that is shown are ticked."""

    boxes: tuple[int, ...]


class HandCardConfirmed(msgspec.Struct, frozen=True, tag=True):
    """Hands are done with a card; ``sets`` is what they have set, by control."""

    run_id: int | None
    rig_time_s: float
    sets: dict[str, float]


class ReadingTaken(msgspec.Struct, frozen=True, tag=True):
    """What hands read at the end of a run."""

    run_id: int
    rig_time_s: float
    channel: str
    value: float


class NoteAdded(msgspec.Struct, frozen=True, tag=True):
    """What a person wrote, and when."""

    run_id: int | None
    rig_time_s: float
    text: str


class RunJudged(msgspec.Struct, frozen=True, tag=True):
    """What a person says that a run was which an earlier end left open; the closing that it corrects stays."""

    run_id: int
    outcome: RunOutcome


class SettingStays(msgspec.Struct, frozen=True, tag=True):
    """A setting that a person wants the machine to keep is in force, and is left so even once the bench ends; ``None``: none
    is, and the safe setting comes back as ever. ``problem`` says in words why one could not be put in force."""

    setting: Setting | None
    problem: str = ""


class CautionsRead(msgspec.Struct, frozen=True, tag=True):
    """A person has read these cautions."""

    cautions: tuple[str, ...]


class ProjectSaved(msgspec.Struct, frozen=True, tag=True):
    """What a person wants of the machine, as it is from here on."""

    project: Project


class PlanEnded(msgspec.Struct, frozen=True, tag=True):
    """A plan is over: ``complete``, or ended early for a reason. The rig has its safe setting."""

    complete: bool
    reason: str
    error: ErrorText | None = None


class BenchFailed(msgspec.Struct, frozen=True, tag=True):
    """A bug of ours ended the plan. ``report`` is the traceback; the rig has its safe setting."""

    report: str


class MadeSafe(msgspec.Struct, frozen=True, tag=True):
    """The bench's process ended or fell silent, and its guardian made the machine safe, or could not: ``text`` says which."""

    safe: bool
    text: str


Record = (
    BenchStarted
    | StateChanged
    | PlanStarted
    | RunOpened
    | FrameTaken
    | SamplesTaken
    | ForecastMade
    | TimeConstantsFound
    | RunClosed
    | RigEventSeen
    | GuardTripped
    | SampleGap
    | RigCardChanged
    | WarningRaised
    | RunLeftOut
    | HandCardShown
    | HandCardTicked
    | HandCardConfirmed
    | ReadingTaken
    | NoteAdded
    | RunJudged
    | SettingStays
    | CautionsRead
    | ProjectSaved
    | PlanEnded
    | BenchFailed
    | MadeSafe
)
Listener = Callable[[Record], None]
