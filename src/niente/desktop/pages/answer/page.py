"""The Answer page: what the book says to the questions that were asked of it, one beside the other."""

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QWidget

from niente.core.answers.card_check import CheckedCard, plan_of_check
from niente.core.answers.hand_over import entered_words
from niente.core.model.answer_document import AnswerDocument, AnswerState
from niente.core.model.errors import NienteError, NotEnoughError
from niente.core.model.hand_over_card import HandOverCard, read_card
from niente.core.model.question import TemplateName
from niente.core.model.setting import Setting
from niente.core.model.small_files import read_small_file
from niente.core.planning.confirmation import confirming_point
from niente.core.planning.risk import raised_in
from niente.core.planning.templates import template
from niente.core.selection.setting_words import setting_text
from niente.desktop.actions.registry import Actions
from niente.desktop.commands.plan_commands import PlanCommands
from niente.desktop.dialogs import prompts
from niente.desktop.pages.answer.choice_view import POINTS, ChoiceView
from niente.desktop.pages.answer.document_view import DocumentView
from niente.desktop.pages.page import Page
from niente.desktop.services.theme import Look
from niente.desktop.services.translation import tr
from niente.desktop.session.notices import Notice
from niente.desktop.session.session import Session
from niente.desktop.widgets.blocks import Block, Buttons, Reading, Readings, Title, Words
from niente.desktop.widgets.labels import ShortLabel, label
from niente.desktop.widgets.page_stack import PageStack
from niente.desktop.widgets.views import NamedViews


class AnswerPage(Page):
    """A sentence with its interval, the picture and the table behind it; for a quiet point the choice among all settings."""

    name = "Answer"

    def __init__(self, session: Session, actions: Actions, look: Look, plan_commands: PlanCommands) -> None:
        super().__init__(session, actions, look)
        self._commands = plan_commands
        self._shown = ""
        """The kind of question that a person chose to see; empty: the one that is asked now."""
        self.views = NamedViews()
        self.views.chosen.connect(self._view_chosen)
        self.tag = label("", "tag")
        self.consequence = ShortLabel("consequence")
        self.words.addWidget(self.consequence)
        self.head.addWidget(self.tag, 0, Qt.AlignmentFlag.AlignBottom)
        self.head.addWidget(self.views, 0, Qt.AlignmentFlag.AlignBottom)
        self.choice = ChoiceView(session, actions, look)
        self.document = DocumentView(look, actions)
        self.stack = PageStack()
        self.stack.addWidget(self.choice)
        self.stack.addWidget(self.document)
        self.body.addWidget(self.stack, 1)
        self.offer(self.choice.scatter, "edit.undo", "edit.redo", "page.map", "help.here")
        self.offer(self.choice.table, "page.map", "help.here")
        self.offer(self.document, "answer.surer", "page.plan", "help.here")
        self._stays: Setting | None = None
        """The setting that the machine was last seen to keep."""
        for signal in (session.state_changed, session.busy_changed, session.command_changed):
            signal.connect(self._bench_changed)
        session.analyst.card_written.connect(self._card_written)
        self._checked: tuple[Path, CheckedCard] | None = None
        """The book that a card was checked in, and what was found."""
        session.analyst.card_checked.connect(self._card_checked)
        session.analyst.found_beside.connect(self._found_beside)
        self.choice.selection_changed.connect(self._selection_changed)
        self.follow(session.answered, session.project_changed, session.documents_changed)

    @property
    def current(self) -> AnswerDocument | None:
        """The answer that is shown; ``None`` before there is one."""
        documents = self.session.documents
        return next((one for one in documents if one.question == self._kind()), None)

    def _kind(self) -> str:
        """Return the kind of question that is shown: what a person chose, or the one that is asked now."""
        kinds = [one.question for one in self.session.documents]
        project = self.session.project
        now = project.question.template if project is not None else ""
        return self._shown if self._shown in kinds else now

    def _view_chosen(self, kind: str) -> None:
        self._shown = kind
        self.refresh()
        self.margin_changed.emit()

    @property
    def is_choice(self) -> bool:
        """Whether a choice is shown, as it is for a quiet point and for questions of one's own."""
        return self._kind() in (TemplateName.QUIET_POINT, "")

    def refresh(self) -> None:
        """Show the answer as it stands."""
        document = self.current
        self.views.show_names([(one.question, tr(one.title)) for one in self.session.documents], self._kind())
        self.stack.setCurrentWidget(self.choice if self.is_choice else self.document)
        self.choice.refresh()
        self.actions_["answer.surer"].setEnabled(document is not None and document.surer is not None)
        self._offer()
        if self.is_choice:
            self.set_head(*self.choice.head())
            self.tag.hide()
            self.consequence.hide()
            return
        if document is None:
            self.set_head(self._title(), tr("Nothing has been run for it yet"))
        else:
            self.set_head(document.lead, document.sentence)
        self.tag.setText(document.tag if document is not None else "")
        self.tag.setVisible(bool(document is not None and document.tag))
        self.consequence.setText(document.consequence if document is not None else "")
        self.consequence.setVisible(bool(self.consequence.text()))
        self.document.show_answer(document, self._kind())

    def _offer(self) -> None:
        """Let be chosen what can be done with the pick, the setting that is pointed at, or the kept point that is current."""
        allow, point = self.actions_.allow, self.choice.kept_point() if self.is_choice else None
        has_pick = self.session.answer.choice is not None and not self.choice.is_behind()
        selected = self.choice.selected is not None
        allow("answer.card", has_pick or point is not None, tr("There is no pick to hand over yet."))
        for name in ("answer.keep", "answer.copy"):
            allow(name, has_pick or selected, tr("There is no pick yet."))
        for name in ("answer.let_go", "answer.take_limits"):
            allow(name, point is not None, tr("No kept point is current: choose one under Kept points."))
        nothing = tr("No setting beside the pick is pointed at.")
        allow("answer.run_here", selected or point is not None, nothing)
        allow("answer.to_pick", selected, nothing)
        self._offer_to_stay()

    def _offer_to_stay(self) -> None:
        """Let the machine keep what is current, where nothing runs on it."""
        bench = self.session.bench
        commands = bench is not None and not bench.follows and not bench.lost
        known = self.is_choice and self.choice.current() is not None and not self.choice.is_behind()
        why = tr("A plan runs.") if self.session.busy() else tr("This window is view-only.")
        allowed = known and commands and not self.session.busy()
        self.actions_.allow("answer.stay", allowed, why if known else tr("There is no pick yet."))

    def _bench_changed(self) -> None:
        """Follow what the bench is at: whether it may be set, and what it keeps."""
        self._offer_to_stay()
        bench = self.session.bench
        stays = bench.stays if bench is not None else None
        if stays != self._stays:
            self._stays = stays
            self.margin_changed.emit()

    def _selection_changed(self) -> None:
        self._offer()
        if self.is_choice:  # its lead says what is drawn
            self.set_head(*self.choice.head())
        self.margin_changed.emit()

    def _found_beside(self) -> None:
        """Show circumstances and points as they are known now."""
        self.when_seen(self.choice.show_beside)
        self.margin_changed.emit()

    def _title(self) -> str:
        project = self.session.project
        kind = template(project.question.template) if project is not None else None
        return tr(kind.title) if kind is not None else ""

    def editors(self) -> tuple[QWidget, ...]:
        """Return the limits of a choice, what it is for, and its circumstances."""
        return (*self.choice.limits.editors(), *self.choice.what_ifs.editors())

    def handlers(self) -> dict[str, Callable[[], None]]:
        """Return what the page does for actions."""
        return {
            "answer.surer": self.make_surer,
            "answer.card": self.hand_over,
            "answer.check": self.check_card,
            "answer.keep": self.keep,
            "answer.let_go": self.let_go,
            "answer.take_limits": self.take_limits,
            "answer.copy": self.copy_entries,
            "answer.run_here": self.run_here,
            "answer.stay": self.stay,
            "answer.to_pick": self.choice.to_pick,
        }

    def _setting(self) -> Setting | None:
        """Return the setting that is pointed at, or the pick's."""
        selected, choice = self.choice.selected, self.session.answer.choice
        if selected is not None:
            return selected.setting
        return choice.pick.setting if choice is not None else None

    def keep(self) -> None:
        """Ask for a name, and keep the setting under it."""
        name = prompts.for_point_name(self, self.choice.commands.free_name())
        if name:
            self.keep_as(name)

    def keep_as(self, name: str) -> None:
        """Keep the setting that is pointed at, or the pick, under a name."""
        setting = self._setting()
        if setting is not None:
            self.choice.commands.keep(name, setting)
            self.choice.views.show_view(POINTS)

    def let_go(self) -> None:
        """Keep the current point no longer."""
        point = self.choice.kept_point()
        if point is not None:
            self.choice.commands.let_go(point.name)

    def take_limits(self) -> None:
        """Put the limits in force that the current point was kept for."""
        point = self.choice.kept_point()
        if point is not None:
            self.choice.commands.take_limits(point)

    def copy_entries(self) -> None:
        """Copy what is to be entered, in order."""
        setting, card = self._setting(), self.session.card
        if setting is not None and card is not None:
            steps = entered_words(card, setting)
            self.choice.commands.copy("; ".join(steps) or tr("Nothing: it is the setting as found."))

    def run_here(self) -> None:
        """Plan a run of the setting that is pointed at, next; of a kept point one that confirms it."""
        selected, point, models = self.choice.selected, self.choice.kept_point(), self.session.answer.models
        if models is None:
            return
        if selected is not None:
            self._commands.run_next(selected.setting, models.heavy_load, tr("Pointed at beside the pick"))
        elif point is not None:
            self._commands.run_step_next(confirming_point(point, models.heavy_load))

    def stay(self) -> None:
        """Ask, and let the machine keep the setting that is current."""
        session, card, current, point = self.session, self.session.card, self.choice.current(), self.choice.kept_point()
        if card is None or current is None:
            return
        setting, evidence = current
        if point is not None and setting == point.setting:
            try:
                point.insist_on(card.variant)
            except NotEnoughError as error:
                session.report(error)
                return
        cautions, raised = session.unread_cautions(), raised_in(setting, card)
        if cautions and not prompts.whether_cautions_are_read(self, cautions):
            return
        if cautions:
            session.read_cautions()
        if raised and not prompts.whether_voltage_may_rise(self, (raised,)):
            return
        words = setting_text(setting, card.stock) or tr("its setting as found")
        if prompts.whether_setting_stays(self, words, evidence, simulated=card.simulated):
            self.choice.commands.put_in_force(setting)

    def hand_over(self) -> None:
        """Ask where the hand-over card of the pick is to be written, and write it."""
        card, point = self.session.card, self.choice.kept_point()
        title = card.title if card is not None else "card"
        file = prompts.where_to_save_card(self, f"{title} {point.name}" if point is not None else title)
        if file is not None:
            self.write_card(file, point.name if point is not None else "")

    def write_card(self, file: Path, point: str = "") -> None:
        """Write the hand-over card of the pick, or of a kept point, in a format by the file's ending."""
        bench, project = self.session.bench, self.session.project
        if bench is not None and project is not None:
            self.session.analyst.request_card(bench.path, project, file, point)

    def _card_written(self, what: object) -> None:
        if isinstance(what, NienteError):
            self.session.report(what)
        else:
            self.session.notice.emit(Notice(tr("The hand-over card is written: {file}").format(file=what)))

    def check_card(self) -> None:
        """Ask for a hand-over card, and check the machine against it."""
        file = prompts.for_card(self)
        if file is not None:
            self.check_against(file)

    def check_against(self, file: Path) -> None:
        """Say whether the machine behaves as on a card, by the latest run of its check; without one, offer to plan it."""
        bench, project = self.session.bench, self.session.project
        if bench is None or project is None:
            return
        try:
            card = read_card(read_small_file(file))
        except NienteError as error:
            self.session.report(error)
            return
        self.session.analyst.request_check(bench.path, project.limits, card)

    def _card_checked(self, card: HandOverCard, what: object) -> None:
        if isinstance(what, CheckedCard) and self.session.bench is not None:
            self._checked = (self.session.bench.path, what)
            self.session.notice.emit(Notice(what.sentence))
            self.margin_changed.emit()
        elif isinstance(what, NotEnoughError):
            self._offer_check(card, what)
        elif isinstance(what, NienteError):
            self.session.report(what)

    def _offer_check(self, card: HandOverCard, missing: NotEnoughError) -> None:
        """Ask whether a card's check is to be planned, where none was run since."""
        rig = self.session.card
        if rig is None:
            return
        try:
            plan = plan_of_check(card, rig)
        except NienteError as error:  # a card of another machine, or one without a check
            self.session.report(error)
            return
        setting = setting_text(plan.steps[0].setting, rig.stock)
        if prompts.whether_check_is_planned(self, missing, setting):
            words = tr("check of the card {point}").format(point=card.point) if card.point else tr("check of the card")
            self._commands.take_instead(words, plan)

    def _check_blocks(self) -> list[Block]:
        """Say what the check of a card found, while it is of this book."""
        bench = self.session.bench
        if self._checked is None or bench is None or self._checked[0] != bench.path:
            return []
        found = self._checked[1]
        head = tr("Check of the card {point}").format(point=found.point) if found.point else tr("Check of the card")
        words = " ".join(part for part in (found.sentence, found.cause) if part)
        return [Words(head, words), Words(tr("Then and now"), "\n".join(one.text() for one in found.figures))]

    def make_surer(self) -> None:
        """Plan what would make the answer surer."""
        document = self.current
        if document is None or document.surer is None:
            return
        for step in document.surer.steps:
            self._commands.run_step_next(step)
        if document.surer.question is not None:
            self._commands.change_question(tr("more pairs"), document.surer.question)

    def live_line(self) -> str:
        """Return the answer in a few words."""
        document = self.current
        if self.is_choice:
            return self.choice.live_line()
        return document.short if document is not None else tr("no answer yet")

    def finished(self) -> bool:
        """The answer is complete; of a choice, the pick is confirmed."""
        document = self.current
        if self.is_choice:
            return self.choice.finished()
        return document is not None and document.state == AnswerState.COMPLETE

    def margin(self) -> list[Block]:
        """Say what the answer rests on and what would make it surer."""
        document = self.current
        if self.is_choice:
            return [*self._check_blocks(), *self.choice.margin(document)]
        if document is None:
            return [Words(tr("Nothing has been run for it yet"), tr("Start the plan, and the answer grows as runs end."))]
        lines = tuple(Reading(one.title, one.value, unit=one.unit) for one in document.basis)
        surer = [Words(tr("To be surer"), document.surer.words)] if document.surer is not None else []
        return [
            Title(tr("What it rests on"), document.rests_on),
            Readings(tr("What was run"), lines),
            *(Words(one.head, one.words) for one in document.remarks),
            *surer,
            *([Words(tr("Caution"), " ".join(document.cautions))] if document.cautions else []),
            *([Buttons(("answer.surer",))] if document.surer is not None else []),
        ]
