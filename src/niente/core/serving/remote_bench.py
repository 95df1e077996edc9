"""The client's side of the protocol: a bench in another process, as a window or a terminal sees it."""

import logging
import queue
import socket
import threading
from pathlib import Path

import msgspec

from niente import __version__
from niente.core.acquisition.client import BenchLost, CommandAsked, CommandGiven, Hearer, PaceChanged
from niente.core.acquisition.refusals import insist_cautions_were_read, insist_sheet_fits
from niente.core.model.cautions import cautions_for
from niente.core.model.commands import Command, WhenLost
from niente.core.model.errors import BookError, ErrorText, RigError
from niente.core.model.hand_cards import HandCard
from niente.core.model.limits import Limits
from niente.core.model.plan import Plan
from niente.core.model.project import Project
from niente.core.model.records import (
    BenchFailed,
    HandCardShown,
    PlanEnded,
    PlanStarted,
    ProjectSaved,
    Record,
    RigCardChanged,
    SettingStays,
    WarningRaised,
)
from niente.core.model.rig_card import RigCard
from niente.core.model.rig_sheet import RigSheet, problems
from niente.core.model.setting import Setting
from niente.core.serving.catching_up import missed_samples, runs_so_far, word_of_guardian
from niente.core.serving.channel import ChannelError, MessageChannel, decoder_for
from niente.core.serving.messages import (
    PROTOCOL,
    AddNote,
    AskForCommand,
    ChangePlan,
    CommandPassed,
    CommandWanted,
    ConfirmCard,
    Denied,
    Ended,
    GiveCommand,
    HandOverCommand,
    Hello,
    JudgeRun,
    Leave,
    Message,
    MetersShown,
    PaceSet,
    PutInForce,
    ReadCautions,
    Refused,
    Request,
    SamplesMissed,
    SaveProject,
    SetPace,
    SetWhenLost,
    StartPlan,
    StopPlanNow,
    TakeSheet,
    TickBoxes,
    Told,
    Welcome,
)

LOG = logging.getLogger(__name__)
WELCOME_S = 5.0
"""A bench that does not answer within this time is not one that can be used."""


class RemoteBench:
    """A bench at the other end of a line. ``listener`` is given every record, from a thread of this client's.

    What speaks against a request is raised here where it is known here; what only the bench finds comes as
    ``WarningRaised``, so that nobody waits for it.
    """

    def __init__(
        self, link: socket.socket, listener: Hearer, *, commands: bool = True, when_lost: WhenLost = WhenLost.GO_ON
    ) -> None:
        """Say hello, and wait for the bench's answer. Raises ``NienteError`` where it refuses or does not answer."""
        self._channel: MessageChannel[Message] = MessageChannel(link, decoder_for(Message))
        self._listener = listener
        welcome = self._greet(Hello(PROTOCOL, __version__, commands, when_lost))
        self.path = Path(welcome.path)
        self.card: RigCard = welcome.card
        self.own_card: RigCard = welcome.own_card
        self.first_sheet: RigSheet = welcome.first_sheet
        self.sheet_problems = welcome.sheet_problems
        self.project = welcome.project
        self.interrupted = welcome.interrupted
        self.cautions_read = welcome.cautions_read
        self.busy = welcome.busy
        self.pace = welcome.pace
        self.stays = welcome.stays
        self._putting = False
        """Whether a setting is being put in force, as far as was told."""
        self.shown: dict[str, float] = {}
        self.open_card: HandCard | None = None
        """The card that hands are at, as far as was told."""
        self._commands = welcome.commands
        self._left = False
        self._gone = threading.Event()
        self._requests: queue.SimpleQueue[Request | None] = queue.SimpleQueue()
        self.history = runs_so_far(self.path, self.card, welcome.first_run)
        """The runs since the bench was started, but the one under way, as a strip."""
        self._threads = [
            threading.Thread(target=self._hear_all, name="niente-hearer", daemon=True),
            threading.Thread(target=self._ask_all, name="niente-asker", daemon=True),
        ]
        for thread in self._threads:
            thread.start()

    def _greet(self, hello: Hello) -> Welcome:
        silent = RigError(
            "The bench of this book does not answer.",
            safe="Its guardian watches it; nothing was changed here.",
            remedy="Wait a moment and open the book again; end the process niente-bench if it stays so.",
        )
        try:
            self._channel.patience(WELCOME_S)
            self._channel.send(hello)
            answer = self._channel.receive()
            self._channel.patience(None)
        except (OSError, ChannelError):
            self._channel.close()
            raise silent from None
        if isinstance(answer, Welcome) and answer.protocol == PROTOCOL:
            return answer
        self._channel.close()
        raise answer.error.error() if isinstance(answer, Refused) else silent

    # -- what a window or a terminal does ------------------------------------------------------------------------

    @property
    def follows(self) -> bool:
        """Whether this client only looks on."""
        return not self._commands

    @property
    def lost(self) -> bool:
        """Whether the bench is gone."""
        return self._gone.is_set()

    def start(self, plan: Plan, limits: Limits) -> None:
        """Run what is left of a plan. Raises ``RigError`` while another runs, and ``CautionsError`` on a real machine
        whose cautions nobody has read yet."""
        self._insist_on_command()
        insist_cautions_were_read(self.card, self.unread_cautions())
        self._insist_on_leisure()
        self.busy = True
        self._ask(StartPlan(plan, limits))

    def put_in_force(self, setting: Setting) -> None:
        """Set the machine and leave it so; ``SettingStays`` tells what came of it. Raises as ``start`` does, and ``RigError``
        for a setting out of the rig's range."""
        self._insist_on_command()
        insist_cautions_were_read(self.card, self.unread_cautions())
        self.card.insist(setting)
        self._insist_on_leisure()
        self.busy = self._putting = True
        self._ask(PutInForce(setting))

    def _insist_on_leisure(self) -> None:
        if self.busy:
            raise RigError("The bench is busy.", remedy="Stop the plan that runs first.")

    def send_command(self, command: Command) -> None:
        """Give the running plan a command. Does nothing while none runs."""
        if self.busy:
            self._ask(GiveCommand(command))

    def stop(self) -> None:
        """Stop what runs and restore; where nothing runs, make the rig safe all the same."""
        self._ask(StopPlanNow())

    def confirm(self, readings: dict[str, float] | None = None) -> None:
        """Say that hands are done with the card that is shown. Raises ``DocumentError`` for readings that cannot be."""
        card, given = self.open_card, readings or {}
        if card is not None:
            self._insist_on_command()
            card.insist(given)
            self._ask(ConfirmCard(given))

    def tick(self, boxes: tuple[int, ...]) -> None:
        """Write down which boxes of the card that is shown are ticked."""
        self._insist_on_command()
        self._ask(TickBoxes(boxes))

    def judge(self, *, machine_down: bool) -> None:
        """Say what the run that was found open came to."""
        self._insist_on_command()
        found = self.interrupted
        if found is not None and found.to_be_judged:
            self.interrupted = msgspec.structs.replace(found, machine_down=machine_down)
            self._ask(JudgeRun(machine_down))

    def change_plan(self, plan: Plan) -> None:
        """Let the plan that runs go on as another one, from its next run on."""
        if self.busy and self._commands:
            self._ask(ChangePlan(plan))

    def take_sheet(self, sheet: RigSheet) -> None:
        """Let the machine be what a sheet says, soon: ``RigCardChanged`` tells when it is."""
        self.check_sheet(sheet)
        self._ask(TakeSheet(sheet))

    def check_sheet(self, sheet: RigSheet) -> None:
        """Raise what ``take_sheet`` would raise, and take nothing."""
        self._insist_on_command()
        insist_sheet_fits(problems(sheet, self.own_card), plan_runs=self.busy)

    def unread_cautions(self) -> tuple[str, ...]:
        """Return the cautions that stand before a start; none where they were read, or the machine is simulated."""
        return () if self.cautions_read or self.card.simulated else cautions_for(self.card)

    def read_cautions(self) -> None:
        """Say that the cautions were read; it goes into the book."""
        self._insist_on_command()
        self._ask(ReadCautions())
        self.cautions_read = True

    def note(self, text: str) -> None:
        """Write a note into the book, at this moment."""
        self._insist_on_command()
        self._ask(AddNote(text))

    def save_project(self, project: Project) -> None:
        """Keep a version of the project."""
        self._insist_on_command()
        self._ask(SaveProject(project))

    def set_pace(self, pace: float | None) -> None:
        """Change the pace of a simulated rig; a real one has none."""
        if self._commands:
            self._ask(SetPace(pace))

    def set_when_lost(self, when_lost: WhenLost) -> None:
        """Say what the bench is to do where this client ends without a word."""
        if self._commands:
            self._ask(SetWhenLost(when_lost))

    def ask_for_command(self) -> None:
        """Ask whoever commands to hand over; where nobody does, this client commands from now on."""
        self._ask(AskForCommand())

    def hand_over(self) -> None:
        """Let the client that asked for it command."""
        self._ask(HandOverCommand())

    def leave(self) -> None:
        """Let the bench go on alone, and look on no more."""
        self._end(stop=False, wait_s=2.0)

    def close(self, wait_s: float = 10.0) -> None:
        """Stop what runs, where this client commands, and wait until the bench has restored the machine and ended."""
        self._end(stop=True, wait_s=wait_s)

    def _end(self, *, stop: bool, wait_s: float) -> None:
        if not self._left:
            self._left = True
            self._requests.put(Leave(stop))
            self._requests.put(None)
        if threading.current_thread() not in self._threads:
            self._gone.wait(wait_s)
        self._channel.close()

    def _insist_on_command(self) -> None:
        if self._gone.is_set():
            raise RigError(
                "The bench's process has ended.",
                safe="Every sample is kept.",
                remedy="Open the book again; the plan goes on from where it was.",
            )
        if not self._commands:
            raise BookError(
                f"Another window or terminal commands {self.card.title}; this one is view-only.",
                safe="What runs there goes on.",
                remedy="Ask for command, or do it there.",
            )

    # -- threads of this client ------------------------------------------------------------------------------------

    def _ask(self, request: Request) -> None:
        self._requests.put(request)

    def _ask_all(self) -> None:
        """Send requests as they come, so that nobody waits for a bench that is slow to take them."""
        while (request := self._requests.get()) is not None:
            try:
                self._channel.send(request)
            except OSError:
                return

    def _hear_all(self) -> None:
        """Take in what the bench says, until it ends."""
        ended: Ended | None = None
        try:
            while (message := self._channel.receive()) is not None:
                if isinstance(message, Ended):
                    ended = message
                    break
                self._take(message)
        except (ChannelError, OSError) as error:
            LOG.warning("the bench could not be heard: %s", error)
        except Exception:
            LOG.exception("what the bench said could not be taken in")
        self._gone.set()
        self._requests.put(None)
        self._channel.close()
        if not self._left:
            self._tell_loss(ended)

    def _take(self, message: Message) -> None:
        """Take in what has to do with the record."""
        match message:
            case Told(records):
                for record in records:
                    self._note(record)
                    self._listener(record)
            case SamplesMissed(run_id, first_s, last_s):
                samples = missed_samples(self.path, run_id, first_s, last_s)
                if samples is not None:
                    self._listener(samples)
            case _:
                self._take_word(message)

    def _take_word(self, message: Message) -> None:
        """Take in what is said to this client alone."""
        match message:
            case Denied(request, error):
                self._denied(request, error)
            case PaceSet(pace):
                self.pace = pace
                self._listener(PaceChanged(pace))
            case MetersShown(values):
                self.shown = values
            case CommandPassed(commands):
                self._commands = commands
                self._listener(CommandGiven(commands))
            case CommandWanted():
                self._listener(CommandAsked())
            case _:
                return

    def _denied(self, request: str, error: ErrorText) -> None:
        """Tell that the bench did not carry a request out; what it did not begin has ended."""
        ended: dict[str, Record] = {
            StartPlan.__name__: PlanEnded(False, error.happened, error),
            PutInForce.__name__: SettingStays(self.stays, str(error)),
        }
        record = ended.get(request, WarningRaised(str(error)))
        self._note(record)
        self._listener(record)

    def _note(self, record: Record) -> None:
        """Keep what is asked for between records."""
        match record:
            case PlanStarted():
                self.busy, self._putting = True, False  # whatever becomes of a setting now, a plan runs
            case PlanEnded() | BenchFailed():
                self.busy = self._putting = False
            case HandCardShown(card):
                self.open_card = card
            case SettingStays(setting):
                self.stays = setting
                if self._putting:
                    self.busy = self._putting = False
            case RigCardChanged(card, own_card):
                self.card, self.own_card = card, own_card or self.own_card
            case ProjectSaved(project):
                self.project = project
            case _:
                return

    def _tell_loss(self, ended: Ended | None) -> None:
        """Say that the bench is gone, and what its guardian did about it."""
        was_busy, self.busy = self.busy, False
        self._listener(BenchLost(ended.text if ended is not None else "", was_busy))
        if ended is not None:
            return
        self._listener(word_of_guardian(self.path, lambda: self._left))


def connect(path: Path, listener: Hearer, *, commands: bool = True, when_lost: WhenLost = WhenLost.GO_ON) -> RemoteBench | None:
    """Return the bench that listens at a socket; ``None`` where none does. Raises ``NienteError`` where it refuses."""
    link = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
    try:
        link.settimeout(WELCOME_S)
        link.connect(str(path))
    except PermissionError:
        link.close()
        raise RigError(
            f"The bench at {path} is not yours to reach.",
            remedy="Open the book as the person who started its bench.",
        ) from None
    except OSError:
        link.close()
        return None
    return RemoteBench(link, listener, commands=commands, when_lost=when_lost)
