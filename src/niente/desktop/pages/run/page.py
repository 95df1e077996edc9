"""The Run page: has it settled, what holds the clock, how far are the guards, how long yet."""

import numpy as np
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout

from niente.core.bench.states import State
from niente.core.evidence import holds_of, hottest_core
from niente.core.plan import Guard
from niente.core.quantities import NO_BREAK_SPACE, duration_text, number_text, quantity_of
from niente.core.science.hold import Hold, shares
from niente.desktop.actions import Actions
from niente.desktop.pages.run.traces import Traces
from niente.desktop.session import LiveRun, Session
from niente.desktop.theme import Palette
from niente.desktop.widgets.labels import label
from niente.desktop.widgets.page import Page
from niente.desktop.widgets.table import RowsModel, rows_view

HEADS = ["Next", "Stage", "Limit, W", "Case, %", "Load", "Why it is here"]
QUEUE_ROWS = 4


class RunPage(Page):
    """The settled temperature in large figures, traces on one time axis, and the queue."""

    name = "Run"

    def __init__(self, session: Session, actions: Actions, palette: Palette) -> None:
        super().__init__(session)
        self.settled = label("–", "great")
        self.interval = label("", "soft")
        self.state = label("", "soft")
        answer = QVBoxLayout()
        answer.setSpacing(0)
        answer.addWidget(label("Hottest core settles at", "soft"))
        value = QHBoxLayout()
        value.addWidget(self.settled)
        value.addWidget(self.interval)
        answer.addLayout(value)
        self.head.addLayout(answer)
        self.head.addSpacing(16)
        buttons = QVBoxLayout()
        buttons.setSpacing(4)
        self.buttons: dict[str, QPushButton] = {}
        for row in (("plan.start", "run.go_on", "run.hold_now"), ("run.hold_after", "run.skip", "run.note")):
            line = QHBoxLayout()
            for name in row:
                action = actions[name]
                button = QPushButton(action.text().removesuffix(" …").replace(" this run", ""))
                button.setAccessibleName(action.text())
                button.setToolTip(action.toolTip())
                button.clicked.connect(action.trigger)
                self.buttons[name] = button
                line.addWidget(button)
            buttons.addLayout(line)
        self.head.addLayout(buttons)
        self.traces = Traces(palette)
        self.body.addWidget(self.traces, 1)
        self.model = RowsModel(HEADS, {0, 2, 3})
        self.queue = rows_view("Queue: the runs that come next", self.model, stretch=5, rows=QUEUE_ROWS, least={1: 96, 4: 72})
        self.body.addWidget(self.queue)
        self.follow(session.run_changed, session.state_changed, session.project_changed)

    def refresh(self) -> None:
        """Show run, state, buttons and queue."""
        session, live = self.session, self.session.live
        busy, holding = session.busy(), session.state in (State.HOLDING, State.WAITING_FOR_HANDS)
        self.buttons["plan.start"].setEnabled(session.bench is not None and not busy)
        self.buttons["run.go_on"].setEnabled(holding)
        for name in ("run.hold_now", "run.hold_after", "run.skip"):
            self.buttons[name].setEnabled(busy and not holding)
        if live is None:
            self.set_head("No run yet", "Start the plan to see it settle")
        else:
            opened = live.opened
            words = opened.step.setting.text(("sustained_power_w", "fan_duty.case"))
            load = session.card.load(opened.step.load) if session.card is not None else None
            state = session.state if live.closed is None else f"{live.closed.how}, {live.closed.why}"
            self.set_head(
                f"Run {opened.index + 1} of {opened.total}, {load.title.lower() if load else opened.step.load}: {state}",
                words,
            )
        self.model.set_rows(self._rows())
        self.show_frame()

    def show_frame(self) -> None:
        """Show the latest samples."""
        live, card = self.session.live, self.session.card
        if live is None or card is None:
            return
        if live.forecasts:
            _, value, half_width = live.forecasts[-1]
            quantity = quantity_of("hottest_core_c")
            self.settled.setText(quantity.text(value))
            self.interval.setText(f"± {number_text(half_width, 1)}{NO_BREAK_SPACE}{quantity.unit} (95 %)")
        else:
            self.settled.setText("–")
            self.interval.setText("not known yet")
        if self.isVisible():
            self.traces.show_run(card, live)

    def _rows(self) -> list[list[str]]:
        plan, session = self.session.plan, self.session
        if plan is None:
            return []
        now = session.live.opened.index if session.live is not None and session.busy() else -1
        rows = []
        for index, step in enumerate(plan.steps):
            if index in session.done or index == now:
                continue
            limit, duty = step.setting.sustained_power_w, step.setting.fan_duty.get("case")
            rows.append(
                [
                    f"{index + 1}",
                    step.stage,
                    "" if limit is None else f"{limit:g}",
                    "" if duty is None else f"{duty:g}",
                    step.load,
                    step.reason,
                ]
            )
            if len(rows) == QUEUE_ROWS:
                break
        return rows

    def live_line(self) -> str:
        """Return where the plan stands."""
        live, card = self.session.live, self.session.card
        if live is None or card is None or not self.session.busy():
            return "nothing runs"
        if live.samples.count == 0:
            return f"{live.opened.index + 1} of {live.opened.total}"
        hot = hottest_core(card, live.samples.values)
        reading = live.samples.values[-1, hot] if hot is not None else float("nan")
        return f"{live.opened.index + 1} of {live.opened.total}, {quantity_of('hottest_core_c').with_unit(float(reading))}"

    def finished(self) -> bool:
        """Every step of the plan has its answer."""
        plan = self.session.plan
        return plan is not None and len(self.session.done) >= len(plan.steps)

    def margin(self) -> list[tuple[str, str]]:
        """Say how far the guards are, what holds the clock, and why this run."""
        live, card, plan = self.session.live, self.session.card, self.session.plan
        if live is None or card is None or plan is None or live.samples.count == 0:
            return [("Guards", "They stand from the first sample of a run on.")]
        words = [("This run", live.opened.step.reason)]
        guards = "\n".join(self._distance(guard, live) for guard in plan.guards)
        words.append(("Guards, distance left", guards))
        recent = live.samples.values[-120:]
        if live.opened.step.load != "idle":
            held = shares(holds_of(card, recent, live.opened.step.setting))
            text = ", ".join(
                f"{hold.words} {number_text(100 * share, 0)}{NO_BREAK_SPACE}%"
                for hold, share in sorted(held.items(), key=lambda item: -item[1])
            )
            words.append(("Holds the clock, last two minutes", text))
        words.append(
            (
                "So far",
                f"{duration_text(live.samples.seconds)} of the rig's time, {live.samples.count} samples, all in the book.",
            )
        )
        if Hold.HEAT in shares(holds_of(card, recent, live.opened.step.setting)):
            words.append(("Caution", "Heat holds the clock here: the reading is the cap, and says nothing of the heat path."))
        return words

    def _distance(self, guard: Guard, live: LiveRun) -> str:
        card, quantity = self.session.card, quantity_of(guard.quantity)
        if card is None:
            return ""
        readings = live.samples.values[-1, list(card.indices(guard.quantity))]
        highest = float(np.nanmax(readings)) if np.isfinite(readings).any() else float("nan")
        left = number_text(guard.trip - highest, 1)
        title = "Hottest core" if guard.quantity == "core_temperature_c" else quantity.title
        return f"{title}: {left}{NO_BREAK_SPACE}K to {quantity.with_unit(guard.trip)}"
