"""The Run page: has it settled, what limits the clock, how far are the guards, how long yet."""

import math
from collections.abc import Callable

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QPushButton, QSplitter, QVBoxLayout, QWidget

from niente.core.acquisition.recovery import InterruptedRun
from niente.core.analysis.evidence import hottest_core
from niente.core.model.plan import Step
from niente.core.model.quantities import duration_text, number_text, quantity_of
from niente.core.model.rig_card import RigCard
from niente.core.model.states import BenchState
from niente.core.planning.cost import row_seconds
from niente.core.planning.forecast import StepForecast
from niente.core.science.dynamics import Scale
from niente.desktop.actions.registry import Actions
from niente.desktop.pages.page import Page
from niente.desktop.pages.run.explain import explained
from niente.desktop.pages.run.hand_card import HandCardView
from niente.desktop.pages.run.recovery import RecoveryView
from niente.desktop.pages.run.traces import Traces
from niente.desktop.services.theme import Look
from niente.desktop.services.translation import tr
from niente.desktop.session.live_run import LiveRun
from niente.desktop.session.session import Session
from niente.desktop.widgets.blocks import Block
from niente.desktop.widgets.empty import Empty
from niente.desktop.widgets.labels import ActionButton, ShortLabel, label
from niente.desktop.widgets.page_stack import PageStack
from niente.desktop.widgets.table import Cell, RowsModel, rows_view

HEADS = ("Next", "Stage", "Limit, W", "Fans, %", "Load", "Core, °C", "dBA", "", "Min", "Why")
QUEUE_ROWS = 3
SOON_MS = 10
"""What comes within so long is one refresh."""
QUEUE_SHOWN = 100
STATES = {
    BenchState.IDLE: "idle",
    BenchState.PAUSED: "paused, the load is off",
    BenchState.WAITING_FOR_HANDS: "waiting for hands",
    BenchState.WAITING: "idle before the next run",
    BenchState.RESTORING: "restoring the safe setting",
}


class RunPage(Page):
    """The settled temperature in large figures, traces on one time axis, and the queue."""

    name = "Run"

    def __init__(self, session: Session, actions: Actions, look: Look) -> None:
        super().__init__(session, actions, look)
        self.sub = ShortLabel("lead")
        self.settled = label("–", "great")
        self.interval = label("", "lead")
        self.settled_note = label("", "soft")
        self.known_lead = label("", "lead")
        self.known = label("–", "title")
        self.known_note = label("", "soft")
        self.settled.setMinimumWidth(72)
        self.known.setMinimumWidth(112)
        self.traces = Traces(look)
        self.upper = PageStack()
        self.card_view = HandCardView(session, actions)
        self.after_view = RecoveryView(session, actions, look)
        self.none_view = Empty(actions, look, "Run")
        self.model = RowsModel([tr(head) for head in HEADS], {0, 2, 3, 5, 6, 8})
        self.queue = rows_view(
            tr("Queue: the runs that come next"), self.model, look, stretch=9, least={1: 84, 4: 60, 5: 84, 6: 40, 7: 44}
        )
        self.queue.setMinimumHeight(22 + 19)
        self.buttons: dict[str, QPushButton] = {}
        self._titled: LiveRun | None = None
        self._lay_out()
        self.traces.looked_back.connect(actions["run.follow"].setEnabled)
        actions["run.follow"].setEnabled(False)
        self.offer(
            self.traces, "run.note", "run.follow", "run.pause_after", "run.pause_now", "run.skip", "run.resume", "help.here"
        )
        self.offer(self.queue, "page.plan", "run.skip", "help.here")
        self._soon = QTimer(self)
        """Several signals are one refresh: at full speed a run begins and ends many times a second."""
        self._soon.setSingleShot(True)
        self._soon.setInterval(SOON_MS)
        for signal in (session.run_changed, session.state_changed, session.answered, session.planner.foreseen):
            signal.connect(self._soon.start)
        self.follow(session.project_changed, session.hands.changed, session.planner.changed)
        self._soon.timeout.connect(lambda: session.turns.later("run page", self._changed))

    def _lay_out(self) -> None:
        self.words.addWidget(self.sub)
        self.figures = QWidget()
        figures = QHBoxLayout(self.figures)
        figures.setContentsMargins(0, 0, 0, 0)
        figures.addLayout(_figure(label(tr("Hottest core settles at"), "lead"), self.settled, self.interval, self.settled_note))
        figures.addSpacing(8)
        figures.addLayout(_figure(self.known_lead, self.known, None, self.known_note))
        self.head.addWidget(self.figures)
        self.head.addSpacing(8)
        grid = QGridLayout()
        grid.setSpacing(4)
        cells = {
            "plan.start": (0, 0),
            "run.resume": (0, 0),
            "run.pause_now": (0, 1),
            "run.pause_after": (1, 1),
            "run.skip": (0, 2),
            "run.repeat": (1, 0),
            "run.note": (1, 2),
        }
        for name, (row, column) in cells.items():
            button = ActionButton(self.actions_[name])
            button.setMinimumWidth(70)
            self.buttons[name] = button
            grid.addWidget(button, row, column)
        holder = QVBoxLayout()
        holder.addLayout(grid)
        holder.addStretch(1)
        self.head.addLayout(holder)
        split = QSplitter(Qt.Orientation.Vertical)
        split.setHandleWidth(1)
        split.setChildrenCollapsible(False)
        upper = QWidget()
        rows = QVBoxLayout(upper)
        rows.setContentsMargins(0, 0, 0, 4)
        rows.addWidget(self.upper)
        for view in (self.traces, self.card_view, self.after_view, self.none_view):
            self.upper.addWidget(view)
        split.addWidget(upper)
        split.addWidget(self.queue)
        split.setStretchFactor(0, 4)
        split.setStretchFactor(1, 1)  # a high window shows more of the queue
        split.setSizes([460, 22 + 19 * QUEUE_ROWS])
        self.body.addWidget(split, 1)

    def handlers(self) -> dict[str, Callable[[], None]]:
        """Return what the page does for actions of the registry, by their names."""
        return {"run.follow": self.follow_now}

    def follow_now(self) -> None:
        """Bring the traces back to now."""
        self.traces.follow_now()

    def refresh(self) -> None:
        """Show run, state and queue."""
        session, live, card = self.session, self.session.live, self.session.card
        if card is not None:
            self.traces.attach(card)
        hands = session.hands
        self._turn()
        if hands.card is not None:
            self.set_head(tr("Bench card: the plan waits for hands"), hands.card.title)
            self.sub.setText(tr("the load is on, under guard") if hands.card.readings else tr("the load is off"))
        elif self.upper.currentWidget() is self.after_view and hands.interrupted is not None:
            self.set_head(tr("After an unexpected end"), self._after_title(hands.interrupted))
            self.sub.setText("")
        elif live is None or card is None:
            stands = session.question_stands
            self.set_head(tr("No run yet"), tr("Start the plan to see it settle") if stands else tr("Nothing runs"))
            self.sub.setText("")
            words = tr("Temperatures stand here as they come, with what they settle at and how long that takes yet.")
            asks = tr("A question comes first; you start its plan.")
            if self.upper.currentWidget() is self.none_view:  # it shows itself with that, also under another view
                self.none_view.show_problem(words if stands else f"{words} {asks}")
        else:
            self._show_run_head(live, card)
        busy = session.busy()  # starting and going on share one place: only one of them can be done at a time
        self.buttons["plan.start"].setVisible(not busy)
        self.buttons["run.resume"].setVisible(busy)
        self.model.set_rows(self._rows())
        self.show_frame()

    def _turn(self) -> None:
        """Bring up what wants a person: a card, or the word on an earlier end; else the traces."""
        hands = self.session.hands
        after = hands.interrupted is not None and not self.session.busy()
        none = self.session.live is None and not self.session.busy()
        shown = (
            self.card_view if hands.card is not None else self.after_view if after else self.none_view if none else self.traces
        )
        if self.upper.currentWidget() is not shown:
            self.upper.setCurrentWidget(shown)
        for view in (self.card_view, self.after_view):
            if shown is view:
                view.refresh()
        self.figures.setVisible(shown is self.traces)

    def _after_title(self, found: InterruptedRun) -> str:
        card = self.session.card
        load = card.load(found.run.load) if card is not None else None
        changed = tuple(
            name
            for name, value in found.run.setting.controls()
            if card is not None and value != card.stock.value(name) and "." not in name
        )
        setting = found.run.setting.text(changed) if changed else tr("stock")
        return tr("{load} at {setting}").format(load=load.title if load is not None else found.run.load, setting=setting)

    def show_frame(self) -> None:
        """Show the latest samples."""
        if self.upper.currentWidget() is self.card_view:
            self.card_view.show_warmth()
        live, strip, card = self.session.live, self.session.strip, self.session.card
        if live is None or strip is None:
            return
        if live is not self._titled and card is not None and self.upper.currentWidget() is self.traces:
            self._show_run_head(live, card)  # figures and title are of the same run, also where runs follow each other fast
        self._show_forecast(live)
        if self.isVisible():
            models = self.session.answer.models
            scale = models.scale if models is not None else Scale()
            self.traces.show_run(strip, live, self.session.notes, scale)

    def _show_forecast(self, live: LiveRun) -> None:
        quantity = quantity_of("hottest_core_c")
        room = self.session.frame
        if live.forecasts:
            _, value, half_width = live.forecasts[-1]
            _say(self.settled, quantity.text(value))
            _say(self.interval, f"± {number_text(half_width, 1)}\u00a0{quantity.unit}")
        else:
            _say(self.settled, "–")
            _say(self.interval, quantity.unit)
        _say(self.settled_note, tr("95 % interval") if room is not None and live.forecasts else tr("not known yet"))
        self._show_known(live)

    def _show_known(self, live: LiveRun) -> None:
        rule, ahead = live.opened.step.exposure, live.known_in_s
        gone = live.samples.seconds
        if live.closed is not None:
            _say(self.known_lead, tr("This run took"))
            _say(self.known, duration_text(gone))
            _say(self.known_note, tr("all samples are in the book"))
            return
        if rule.known_to_k is None:
            _say(self.known_lead, tr("This run ends in"))
            _say(self.known, duration_text(max(rule.min_s - gone, 0.0)))
            _say(self.known_note, tr("fixed, {t}").format(t=duration_text(rule.min_s)))
            return
        _say(self.known_lead, tr("Known to ± {k} K in").format(k=number_text(rule.known_to_k, 1)))
        _say(self.known, "–" if ahead is None or ahead != ahead else duration_text(ahead))
        _say(self.known_note, tr("at the latest in {t}").format(t=duration_text(max(rule.max_s - gone, 0.0))))

    def _rows(self) -> list[list[Cell | str]]:
        session, card, planner = self.session, self.session.card, self.session.planner
        if card is None or not session.question_stands:
            return []
        now = session.running_index()
        models = session.answer.models
        scale = models.scale if models is not None else Scale()
        return [
            _row(index, row.step, planner.seen(row), scale, card, row_seconds(row, planner.pace))
            for index, row in planner.ahead(now)[:QUEUE_SHOWN]
        ]

    def _show_run_head(self, live: LiveRun, card: RigCard) -> None:
        """Show which run it is, how it stands, and what it sets under which load."""
        self._titled = live
        step = live.opened.step
        lead = tr("Run {n} of {total}, {stage}").format(n=live.opened.index + 1, total=live.opened.total, stage=step.stage)
        state = self._state_words(live)
        self.set_head(f"{lead}: {state}" if state else lead, _title(step, card.lead_group() or ""))
        load = card.load(step.load)
        offset = step.setting.over(card.stock).voltage_offset_mv
        words = [load.title if load is not None else step.load]
        if offset is not None:
            words.append(tr("offset {mv}").format(mv=quantity_of("voltage_offset_mv").with_unit(offset)))
        self.sub.setText(", ".join([*words, card.variant]))

    def _state_words(self, live: LiveRun) -> str:
        """Return how a run stands: what the bench waits for, how it closed, or what it does now."""
        session = self.session
        if session.busy() and session.state in (BenchState.WAITING, BenchState.PAUSED) and session.state_text:
            return session.state_text
        if session.busy() and session.pauses_after:
            return tr("pauses after this run")
        if live.closed is not None:
            return f"{live.closed.outcome}, {live.closed.reason}"
        return tr(STATES.get(session.state, ""))

    def live_line(self) -> str:
        """Return where the plan stands."""
        live, card = self.session.live, self.session.card
        if live is None or card is None or not self.session.busy():
            bench = self.session.bench
            return tr("keeps its setting") if bench is not None and bench.stays is not None else tr("nothing runs")
        progress = tr("{n} of {total}").format(n=live.opened.index + 1, total=live.opened.total)
        if live.samples.count == 0:
            return progress
        hot = hottest_core(card, live.samples.values)
        reading = live.samples.values[-1, hot] if hot is not None else float("nan")
        return f"{progress}, {quantity_of('hottest_core_c').with_unit(float(reading))}"

    def finished(self) -> bool:
        """Every step of the plan has its answer."""
        rows = self.session.planner.rows
        return bool(rows) and all(row.status.closed for row in rows)

    def margin(self) -> list[Block]:
        """Say how far the guards are, what limited the clock, how loud it is, and why this run."""
        return explained(self.session)


def _row(index: int, step: Step, forecast: StepForecast, scale: Scale, card: RigCard, seconds: float) -> list[Cell | str]:
    limit, duty = step.setting.sustained_power_w, step.setting.fan_duty.get(card.lead_group() or "")
    core = (
        Cell(number_text(forecast.core_c, 1), f"±{number_text(forecast.core_hw, 1)}")
        if math.isfinite(forecast.core_c)
        else Cell()
    )
    return [
        f"{index + 1}",
        Cell(step.stage, soft=True, chip=step.stage),
        "" if limit is None else f"{limit:g}",
        "" if duty is None else f"{duty:g}",
        Cell(step.load, soft=True),
        core,
        number_text(forecast.noise_dba, 1) if math.isfinite(forecast.noise_dba) else "",
        Cell(scale.mark(forecast.noise_dba), mark=True),
        f"{seconds / 60.0:.0f}",
        step.reason,
    ]


def _title(step: Step, lead: str) -> str:
    parts = []
    if step.setting.sustained_power_w is not None:
        parts.append(quantity_of("sustained_power_w").with_unit(step.setting.sustained_power_w))
    if lead in step.setting.fan_duty:
        duty = quantity_of("fan_duty").with_unit(step.setting.fan_duty[lead])
        parts.append(tr("{group} fans {duty}").format(group=lead, duty=duty))
    return ", ".join(parts) or step.setting.text()


def _figure(lead: QWidget, value: QWidget, beside: QWidget | None, note: QWidget) -> QVBoxLayout:
    """Return a large figure under its name, its interval beside it, a note below."""
    rows = QVBoxLayout()
    rows.setSpacing(0)
    rows.addWidget(lead)
    line = QHBoxLayout()
    line.setSpacing(6)
    line.addWidget(value)
    if beside is not None:
        line.addWidget(beside, 0, Qt.AlignmentFlag.AlignBottom)
        beside.setContentsMargins(0, 0, 0, 6)
    line.addStretch(1)
    rows.addLayout(line)
    rows.addWidget(note)
    rows.addStretch(1)
    return rows


def _say(where: QWidget, text: str) -> None:
    if where.text() != text:  # type: ignore[attr-defined]
        where.setText(text)  # type: ignore[attr-defined]
