"""What a window sees of a bench, whether it is at the machine or only looks on."""

from collections.abc import Callable
from pathlib import Path
from typing import Any, Protocol

import msgspec

from niente.core.acquisition.recovery import InterruptedRun
from niente.core.acquisition.strip_chart import StripChart
from niente.core.model.commands import Command, WhenLost
from niente.core.model.limits import Limits
from niente.core.model.plan import Plan
from niente.core.model.project import Project
from niente.core.model.records import Record
from niente.core.model.rig_card import RigCard
from niente.core.model.rig_sheet import RigSheet
from niente.core.model.setting import Setting


class BenchClient(Protocol):
    """A rig and its book. What cannot be done raises ``NienteError``; see ``Bench`` for what each does."""

    @property
    def path(self) -> Path:
        """The book."""

    @property
    def follows(self) -> bool:
        """Whether it only looks on."""

    @property
    def pace(self) -> float | None:
        """Rig seconds a wall second; ``None`` for as fast as it goes."""

    @property
    def card(self) -> RigCard:
        """The rig's card as the person's sheet has it."""

    @property
    def own_card(self) -> RigCard:
        """The card as the rig's driver gives it."""

    @property
    def first_sheet(self) -> RigSheet:
        """What is said of the machine before a person says anything."""

    @property
    def sheet_problems(self) -> list[str]:
        """What of the sheet in the book does not fit the rig any more."""

    @property
    def project(self) -> Project | None:
        """The project as the book held it."""

    @property
    def interrupted(self) -> InterruptedRun | None:
        """What an earlier end left open."""

    @property
    def cautions_read(self) -> bool:
        """Whether the cautions were read."""

    @property
    def busy(self) -> bool:
        """Whether a plan runs."""

    @property
    def stays(self) -> Setting | None:
        """The setting that the machine keeps, the bench gone or not; ``None`` for no other than the safe one."""

    @property
    def shown(self) -> dict[str, float]:
        """What the meters show that hands read."""

    @property
    def lost(self) -> bool:
        """Whether the bench is gone."""

    @property
    def history(self) -> StripChart | None:
        """The runs before the one under way, as a strip; ``None`` where they are not at hand."""

    def start(self, plan: Plan, limits: Limits) -> None:
        """Run what is left of a plan."""

    def put_in_force(self, setting: Setting) -> None:
        """Set the machine, and leave it so."""

    def send_command(self, command: Command) -> None:
        """Give the running plan a command."""

    def stop(self) -> None:
        """Stop what runs and restore."""

    def confirm(self, readings: dict[str, float] | None = None) -> None:
        """Say that hands are done with the card that is shown."""

    def tick(self, boxes: tuple[int, ...]) -> None:
        """Write down which boxes are ticked."""

    def judge(self, *, machine_down: bool) -> None:
        """Say what the run was that was found open."""

    def change_plan(self, plan: Plan) -> None:
        """Let the plan that runs go on as another."""

    def take_sheet(self, sheet: RigSheet) -> None:
        """Let the machine be what a sheet says."""

    def check_sheet(self, sheet: RigSheet) -> None:
        """Raise what ``take_sheet`` would raise."""

    def unread_cautions(self) -> tuple[str, ...]:
        """Return the cautions that stand before a start."""

    def read_cautions(self) -> None:
        """Write that the cautions were read."""

    def note(self, text: str) -> None:
        """Write a note."""

    def save_project(self, project: Project) -> None:
        """Keep a version of the project."""

    def set_pace(self, pace: float | None) -> None:
        """Change the pace of a simulated rig."""

    def set_when_lost(self, when_lost: WhenLost) -> None:
        """Say what the bench is to do where this client ends without a word."""

    def ask_for_command(self) -> None:
        """Ask whoever commands to hand over."""

    def hand_over(self) -> None:
        """Let the client that asked for it command."""

    def leave(self) -> None:
        """Let the bench go on alone, and look on no more."""

    def close(self, wait_s: float = 10.0) -> None:
        """Let go of rig and book."""


class BenchLost(msgspec.Struct, frozen=True):
    """The bench's process is gone: it ended in order (``text`` says why), or without a word (empty). ``ran``: a plan ran."""

    text: str
    ran: bool


class CommandGiven(msgspec.Struct, frozen=True):
    """Whether this client commands the bench from now on."""

    commands: bool


class CommandAsked(msgspec.Struct, frozen=True):
    """Another client asks for command."""


class PaceChanged(msgspec.Struct, frozen=True):
    """The simulated rig's clock goes at another pace from now on; see ``BenchClient.pace``."""

    pace: float | None


Heard = Record | BenchLost | CommandGiven | CommandAsked | PaceChanged
"""What a client is told: the bench's record, and how the client itself stands to it."""
Hearer = Callable[[Any], None]
"""Who is told; it takes every ``Heard``."""
