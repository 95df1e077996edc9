"""The Proof page: how surely the pick lasts, on what that rests, and what to run to be surer."""

import math
from collections.abc import Callable

import msgspec
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from niente.core.model.failure_goal import FailureGoal
from niente.core.model.quantities import NO_BREAK_SPACE, duration_text, number_text, quantity_of
from niente.core.model.setting import Setting
from niente.core.selection.explanation import risk_text
from niente.core.selection.proof import CoreProof, Fact, LoadProof, MoreEvidence, Proof
from niente.core.selection.proof_words import (
    CORRUPTS,
    fact_text,
    horizon_text,
    loads_sentence,
    more_sentence,
    rests_on,
    short_headline,
    state_text,
)
from niente.core.selection.setting_words import brief_text
from niente.desktop.actions.registry import Actions
from niente.desktop.commands.choice_commands import ChoiceCommands
from niente.desktop.commands.plan_commands import PlanCommands
from niente.desktop.pages.page import Page
from niente.desktop.pages.proof.depth_view import DepthView
from niente.desktop.services.theme import Look
from niente.desktop.services.translation import tr
from niente.desktop.session.session import Session
from niente.desktop.widgets.blocks import Block, Buttons, Reading, Readings, Title, Words
from niente.desktop.widgets.empty import Empty
from niente.desktop.widgets.labels import label, rule
from niente.desktop.widgets.quantity_field import QuantityField
from niente.desktop.widgets.table import Cell, RowsModel, rows_view
from niente.desktop.widgets.views import Views

LOADS = ("Load", "Run", "Failed", "Went down", "There, clean", "At most, %")
CORES = ("Core", "Offset", "Errors", "Fails hourly")
MONTHS = ("Month", "Runs", "Failed", "Run")
MORE = ("To be twice as sure, without a failure", "Offset, mV", "Takes", "Then at most, %")
HOUR_S = 3600.0
FROM_MAP = 4
"""The view of the setting that the map asked for; before it the pick and three runners-up."""
ROWS_OF_LOADS, ROWS_OF_MORE, SIDE_PX = 3, 3, 240


class ProofPage(Page):
    """Exposure by depth and clock, the chance of a failure, loads, cores, months, and what to run next."""

    name = "Proof"

    def __init__(self, session: Session, actions: Actions, look: Look, plan_commands: PlanCommands) -> None:
        super().__init__(session, actions, look)
        self._commands = plan_commands
        self.picture = DepthView(look)
        self.problem = Empty(actions, look, "Proof")
        self._found, self._above_more = QWidget(), rule()
        self.loads = RowsModel([tr(head) for head in LOADS], {1, 2, 3, 4, 5})
        self.more = RowsModel([tr(head) for head in MORE], {1, 2, 3})
        self.cores = RowsModel([tr(head) for head in CORES], {0, 1, 2, 3})
        self.months = RowsModel([tr(head) for head in MONTHS], {1, 2, 3})
        self.loads_view = rows_view(tr("Exposure by load"), self.loads, look, stretch=0, rows=ROWS_OF_LOADS)
        self.more_view = rows_view(tr("What to run next"), self.more, look, stretch=0, rows=ROWS_OF_MORE)
        self.cores_view = rows_view(tr("Core by core"), self.cores, look, stretch=0, rows=5)
        self.months_view = rows_view(tr("Evidence by month"), self.months, look, stretch=0, rows=3)
        self.no_cores = label("", "soft", wrap=True)
        self.aged = label("", "soft", wrap=True)
        runners = [(f"{n}", tr("A runner-up")) for n in range(2, FROM_MAP + 1)]
        selected = (tr("Map"), tr("The setting that is selected on the map"))
        self.views = Views([(tr("Pick"), tr("The setting that was picked")), *runners, selected])
        self.views.offer(FROM_MAP, False)
        self._from_map: Setting | None = None
        session.proof_wanted.connect(self._prove)
        session.opened.connect(self._forget)
        self.views.chosen.connect(self._choose_setting)
        self.head.addWidget(self.views, 0, Qt.AlignmentFlag.AlignBottom)
        self._other: Proof | None = None
        session.proved.connect(self._take_other)
        self.fields = self._make_fields()
        for name, field in self.fields.items():
            field.settled.connect(lambda value, name=name: self._goal_edited(name, value))
        self._lay_out()
        for view in (self.picture, self.loads_view, self.more_view):
            self.offer(view, "proof.run", "proof.soak", "page.answer", "help.here")
        self.more_view.doubleClicked.connect(lambda _: self.run_next())
        self.more_view.selectionModel().selectionChanged.connect(lambda *_: self.margin_changed.emit())
        self.follow(session.answered, session.project_changed)

    def _make_fields(self) -> dict[str, QuantityField]:
        percent = msgspec.structs.replace(quantity_of("throughput_percent"), digits=2)
        usual = FailureGoal()
        return {
            "chance": QuantityField(
                percent, low=0.01, high=99.0, step=0.5, title=tr("A failure at most"), default=100.0 * usual.chance
            ),
            "horizon_s": QuantityField(
                quantity_of("time_h"), low=0.1, high=100_000.0, step=24.0, title=tr("Within"), default=usual.horizon_s / HOUR_S
            ),
            "sure": QuantityField(percent, low=50.0, high=99.9, step=1.0, title=tr("As sure as"), default=100.0 * usual.sure),
        }

    def _goal_edited(self, name: str, value: float) -> None:
        project, field = self.session.project, self.fields[name]
        if project is None:
            return
        wanted = min(max(value, field.minimum()), field.maximum())
        wanted = wanted * HOUR_S if name == "horizon_s" else wanted / 100.0
        goal = msgspec.structs.replace(project.limits.failure, **{name: wanted})
        ChoiceCommands(self.session).change_goal(field.title, goal)

    def _lay_out(self) -> None:
        left, right = QVBoxLayout(), QVBoxLayout()
        left.setSpacing(8)
        left.addWidget(self.problem, 1)
        left.addWidget(self.picture, 1)
        left.addWidget(self.loads_view)
        left.addWidget(self._above_more)
        left.addWidget(self.more_view)
        right.setSpacing(6)
        right.addWidget(label(tr("What it has to last"), "section"))
        for field in self.fields.values():
            row = QHBoxLayout()
            words = label(field.title, "soft")
            words.setBuddy(field)
            field.setFixedWidth(96)
            row.addWidget(words, 1)
            row.addWidget(field)
            right.addLayout(row)
        found = QVBoxLayout(self._found)
        found.setContentsMargins(0, 0, 0, 0)
        found.setSpacing(6)
        found.addWidget(rule())
        found.addWidget(label(tr("Core by core"), "section"))
        found.addWidget(self.no_cores)
        found.addWidget(self.cores_view)
        found.addWidget(rule())
        found.addWidget(label(tr("Age of the evidence"), "section"))
        found.addWidget(self.months_view)
        found.addWidget(self.aged)
        right.addWidget(self._found)
        right.addStretch(1)
        for text in (self.no_cores, self.aged):
            text.setFixedWidth(SIDE_PX)
        for view in (self.cores_view, self.months_view):
            view.setFixedWidth(SIDE_PX)
        both = QHBoxLayout()
        both.setSpacing(16)
        both.addLayout(left, 1)
        both.addLayout(right)
        self.body.addLayout(both, 1)

    @property
    def proof(self) -> Proof | None:
        """The proof that is shown: the pick's, or that of the setting that is chosen."""
        return self._other if self._other is not None and self.views.current else self.session.answer.proof

    def _choose_setting(self, index: int) -> None:
        """Show the pick, or ask for the proof of another setting."""
        other = self._setting_of(index)
        if other is not None:
            self.session.request_proof(other)
            return
        self._other = None
        self.refresh()
        self.margin_changed.emit()

    def _setting_of(self, index: int) -> Setting | None:
        """Return the setting of a view: a runner-up, or what the map asked for; ``None`` for the pick, or if there is none."""
        choice = self.session.answer.choice
        if index == FROM_MAP:
            return self._from_map
        runners = choice.runners_up if choice is not None else ()
        return runners[index - 1].setting if 0 < index <= len(runners) else None

    def _prove(self, setting: Setting) -> None:
        """Show the proof of a setting that another page asks for."""
        self._from_map = setting
        self.views.offer(FROM_MAP, True)
        if self.views.current == FROM_MAP:
            self._choose_setting(FROM_MAP)
        self.views.show_view(FROM_MAP)

    def _forget(self) -> None:
        """Let go of the setting that the map asked for: another book is open."""
        self._from_map = None
        self.views.offer(FROM_MAP, False)
        self.views.show_view(0)

    def _take_other(self, proof: Proof) -> None:
        self._other = proof
        self.when_seen(self._show)
        self.margin_changed.emit()

    def refresh(self) -> None:
        """Show the proof as it stands; of another setting than the pick it is asked for again."""
        self.views.setVisible(self.session.answer.choice is not None)
        other = self._setting_of(self.views.current)
        if self.views.current and other is None:
            self.views.show_view(0)
        if other is not None:
            self.session.request_proof(other)
        self._show()

    def _show(self) -> None:
        proof, project = self.proof, self.session.project
        if project is not None:
            goal = project.limits.failure
            self.fields["chance"].put(100.0 * goal.chance)
            self.fields["horizon_s"].put(goal.horizon_s / HOUR_S)
            self.fields["sure"].put(100.0 * goal.sure)
        self.problem.show_problem(self.session.why_nothing() if proof is None else "")
        for view in (self.picture, self.loads_view, self._above_more, self.more_view, self._found):
            view.setVisible(proof is not None)
        if proof is None:
            self.set_head(tr("How surely the pick lasts"), tr("No pick to prove yet"))
            return
        lead = tr("Chance of a failure at {setting}; {percent} % sure").format(
            setting=brief_text(proof.setting), percent=f"{100.0 * proof.goal.sure:g}"
        )
        self.set_head(lead, f"{short_headline(proof)}: {tr(state_text(proof))}")
        self.picture.show_proof(proof)
        self.loads.set_rows([_load_row(one, proof) for one in proof.loads])
        self.more.set_rows([_more_row(one, proof) for one in proof.more])
        if proof.more and not self.more_view.selectionModel().hasSelection():
            self.more_view.selectRow(0)
        self.cores.set_rows([_core_row(one) for one in proof.cores])
        self.no_cores.setText("" if proof.cores else tr("No error has named a core."))
        self.no_cores.setVisible(not proof.cores)
        self.cores_view.setVisible(bool(proof.cores))
        self.months.set_rows(
            [[one.month, f"{one.runs}", f"{one.failures}", duration_text(one.seconds)] for one in proof.months]
        )
        self.aged.setText(_age_words(proof))

    def selected(self) -> MoreEvidence | None:
        """Return what could be run next and is selected."""
        proof, rows = self.proof, self.more_view.selectionModel().selectedRows()
        if proof is None or not proof.more:
            return None
        return proof.more[min(rows[0].row() if rows else 0, len(proof.more) - 1)]

    def handlers(self) -> dict[str, Callable[[], None]]:
        """Return what the page does for actions of the registry."""
        return {"proof.run": self.run_next, "proof.soak": self.soak}

    def run_next(self) -> None:
        """Plan what is selected of what would make the proof surer."""
        more = self.selected()
        if more is not None:
            self._commands.run_step_next(more.step)

    def soak(self) -> None:
        """Plan a soak of the proved setting under the load that decides."""
        proof = self.proof
        if proof is not None and proof.load:
            self._commands.soak_next(proof.setting, proof.load)

    def live_line(self) -> str:
        """Return the bound in a few words."""
        proof = self.proof
        if proof is None:
            return tr("nothing proved yet")
        return tr("at most {risk} in {horizon}").format(risk=risk_text(proof.at_most), horizon=horizon_text(proof))

    def finished(self) -> bool:
        """The pick is proven."""
        return self.proof is not None and self.proof.proven

    def margin(self) -> list[Block]:
        """Say what the bound rests on, and what to run next."""
        proof = self.proof
        if proof is None:
            words = tr("How surely the pick lasts, from every minute that was run at it or near it without a wrong result.")
            return [Words(tr("What will stand here"), words), Words(tr("Caution"), tr(CORRUPTS))]
        failed = sum(one.seen.failed for one in proof.exposures)
        clean = duration_text(proof.clean_s) if proof.clean_s else tr("nothing")
        lines = (
            Reading(tr("Exposures"), f"{len(proof.exposures)}"),
            Reading(tr("Failed"), f"{failed}"),
            _line(tr("A failure an hour at"), proof.threshold_mv, -1.0),
            _line(tr("Guard band"), proof.guard_band_mv),
            _line(tr("Tenfold for every"), proof.tenfold_mv),
            Reading(tr("Expected"), risk_text(proof.expected) if math.isfinite(proof.expected) else "–"),
        )
        more = self.selected()
        next_words = more_sentence(proof, more) if more is not None else tr("No run shorter than weeks would show it.")
        return [
            Title(tr("Evidence for the pick"), tr("{time} clean").format(time=clean)),
            Readings("", lines, tr("{percent} % intervals").format(percent=f"{100.0 * proof.goal.sure:g}")),
            Words(tr("What it rests on"), f"{rests_on(proof)} {loads_sentence(proof)}"),
            Words(tr("Run next"), next_words),
            Words(tr("Caution"), tr(CORRUPTS)),
            Buttons(("proof.run", "proof.soak")),
        ]


def _line(name: str, fact: Fact, sign: float = 1.0) -> Reading:
    value, spread = fact_text(fact, sign)
    return Reading(name, value, spread, "mV" if spread else "")


def _percent(chance: float) -> str:
    return risk_text(chance).removesuffix(f"{NO_BREAK_SPACE}%") if math.isfinite(chance) else "–"


def _load_row(one: LoadProof, proof: Proof) -> list[Cell | str]:
    bold = one.load == proof.load
    title = one.title if one.checked else tr("{load}, unchecked").format(load=one.title)
    return [
        Cell(title, bold=bold, soft=not one.checked),
        duration_text(one.seconds),
        f"{one.failures}",
        f"{one.crashes}",
        duration_text(one.there_s) if one.there_s else "–",
        Cell(_percent(one.at_most), bold=bold, under="guard" if one.at_most > proof.goal.chance else ""),
    ]


def _core_row(one: CoreProof) -> list[Cell | str]:
    at = one.threshold_mv
    hourly = f"{number_text(-at.value, 0)} ± {number_text(0.5 * (at.high - at.low), 0)} mV" if math.isfinite(at.value) else ""
    return [one.core, number_text(one.offset_mv, 0), f"{one.failures}", hourly]


def _more_row(one: MoreEvidence, proof: Proof) -> list[Cell | str]:
    title = next((load.title for load in proof.loads if load.load == one.load), one.load)
    here = abs(one.depth_mv - proof.depth_mv) < 0.5
    where = tr("{load}, at the setting itself") if here else tr("{load}, nearer to where it fails")
    return [
        where.format(load=title),
        number_text(-one.depth_mv, 0),
        duration_text(3600.0 * one.hours),
        _percent(one.at_most),
    ]


def _age_words(proof: Proof) -> str:
    parts = []
    if proof.aged:
        parts.append(tr("The evidence has aged: {why}.").format(why=proof.aged))
    if proof.forgotten:
        parts.append(
            tr("{n} older runs do not count: the machine now fails at gentler settings than it passed then.").format(
                n=proof.forgotten
            )
        )
    parts.append(tr("It is for these parts and this firmware: after a change of either, run some of it again."))
    return " ".join(parts)
