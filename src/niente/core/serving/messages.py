"""What a bench and its clients say to each other. Requests go down, records come up; nothing else is said.

``Hello`` and ``Refused`` are the same in every version, so that another version can be refused in words. A change of any
other message, or of a record, raises ``PROTOCOL``.
"""

import msgspec

from niente.core.acquisition.recovery import InterruptedRun
from niente.core.model.commands import Command, WhenLost
from niente.core.model.errors import ErrorText
from niente.core.model.limits import Limits
from niente.core.model.plan import Plan
from niente.core.model.project import Project
from niente.core.model.records import Record
from niente.core.model.rig_card import RigCard
from niente.core.model.rig_sheet import RigSheet
from niente.core.model.setting import Setting

PROTOCOL = 12


class Hello(msgspec.Struct, frozen=True, tag=True):
    """A client's first word. ``commands``: it wants to command, where nobody does."""

    protocol: int
    version: str
    commands: bool
    when_lost: WhenLost = WhenLost.GO_ON


# -- requests ------------------------------------------------------------------------------------------------------


class StartPlan(msgspec.Struct, frozen=True, tag=True):
    """Run what is left of a plan."""

    plan: Plan
    limits: Limits


class PutInForce(msgspec.Struct, frozen=True, tag=True):
    """Set the machine, and leave it so."""

    setting: Setting


class GiveCommand(msgspec.Struct, frozen=True, tag=True):
    """Command the running plan."""

    command: Command


class StopPlanNow(msgspec.Struct, frozen=True, tag=True):
    """Stop what runs and restore."""


class ConfirmCard(msgspec.Struct, frozen=True, tag=True):
    """Hands are done with the card that is shown."""

    readings: dict[str, float]


class TickBoxes(msgspec.Struct, frozen=True, tag=True):
    """These boxes of the card that is shown are ticked."""

    boxes: tuple[int, ...]


class JudgeRun(msgspec.Struct, frozen=True, tag=True):
    """What the run was that was found open."""

    machine_down: bool


class ChangePlan(msgspec.Struct, frozen=True, tag=True):
    """Go on as another plan from the next run on."""

    plan: Plan


class TakeSheet(msgspec.Struct, frozen=True, tag=True):
    """The machine is what a sheet says."""

    sheet: RigSheet


class ReadCautions(msgspec.Struct, frozen=True, tag=True):
    """The cautions were read."""


class AddNote(msgspec.Struct, frozen=True, tag=True):
    """A note, at this moment."""

    text: str


class SaveProject(msgspec.Struct, frozen=True, tag=True):
    """Keep a version of the project."""

    project: Project


class SetPace(msgspec.Struct, frozen=True, tag=True):
    """The pace of a simulated rig."""

    pace: float | None


class SetWhenLost(msgspec.Struct, frozen=True, tag=True):
    """What the bench does when this client ends without a word."""

    when_lost: WhenLost


class AskForCommand(msgspec.Struct, frozen=True, tag=True):
    """This client wants to command; whoever does is told."""


class HandOverCommand(msgspec.Struct, frozen=True, tag=True):
    """This client commands no more; the one that asked for it does."""


class Leave(msgspec.Struct, frozen=True, tag=True):
    """This client ends, and says so. ``stop``: the plan is stopped and the bench ends, where nobody else looks on."""

    stop: bool


Request = (
    StartPlan
    | PutInForce
    | GiveCommand
    | StopPlanNow
    | ConfirmCard
    | TickBoxes
    | JudgeRun
    | ChangePlan
    | TakeSheet
    | ReadCautions
    | AddNote
    | SaveProject
    | SetPace
    | SetWhenLost
    | AskForCommand
    | HandOverCommand
    | Leave
)


# -- what a bench says -----------------------------------------------------------------------------------------------


class Refused(msgspec.Struct, frozen=True, tag=True):
    """A client that the bench does not take, and why."""

    error: ErrorText


class Welcome(msgspec.Struct, frozen=True, tag=True):
    """How the bench stands when a client comes: what it knows of rig and book, and the first run since it was started."""

    protocol: int
    version: str
    path: str
    card: RigCard
    own_card: RigCard
    first_sheet: RigSheet
    sheet_problems: list[str]
    project: Project | None
    interrupted: InterruptedRun | None
    cautions_read: bool
    busy: bool
    pace: float | None
    commands: bool
    first_run: int
    stays: Setting | None


class Told(msgspec.Struct, frozen=True, tag=True):
    """Records, oldest first."""

    records: list[Record]


class SamplesMissed(msgspec.Struct, frozen=True, tag=True):
    """Samples of a run that were not sent, from one rig time to another; they stand in the book."""

    run_id: int
    first_s: float
    last_s: float


class Denied(msgspec.Struct, frozen=True, tag=True):
    """A request was not carried out; ``request`` is the name of its class."""

    request: str
    error: ErrorText


class PaceSet(msgspec.Struct, frozen=True, tag=True):
    """The rig's pace is another one."""

    pace: float | None


class MetersShown(msgspec.Struct, frozen=True, tag=True):
    """What the meters of a simulated machine show that hands read, by channel."""

    values: dict[str, float]


class CommandPassed(msgspec.Struct, frozen=True, tag=True):
    """Whether this client commands."""

    commands: bool


class CommandWanted(msgspec.Struct, frozen=True, tag=True):
    """Another client asks for command."""


class Ended(msgspec.Struct, frozen=True, tag=True):
    """The bench ends in order; the machine is safe and the book is closed."""

    text: str


Message = Welcome | Refused | Told | SamplesMissed | Denied | PaceSet | MetersShown | CommandPassed | CommandWanted | Ended
