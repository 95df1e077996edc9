"""The bench card: what hands have to set or read, in order, a box to tick at each line."""

import math

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QCheckBox,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from niente.core.model.hand_cards import CardKind, HandCard, ReadingRequest
from niente.core.model.quantities import NO_BREAK_SPACE, quantity_of, value_typed
from niente.desktop.actions.registry import Actions
from niente.desktop.services.plain_text import plain
from niente.desktop.services.translation import tr
from niente.desktop.session.hand_work import HandWork
from niente.desktop.session.session import Session
from niente.desktop.widgets.labels import ActionButton, label, rule

CORE = quantity_of("core_temperature_c")
DONE = {CardKind.SET: "Done and checked", CardKind.VARIANT: "Done and checked", CardKind.READ: "Take these readings"}


class HandCardView(QWidget):
    """One card at a time; nothing of it is kept here: ticks and readings stand in the session, and in the book."""

    def __init__(self, session: Session, actions: Actions) -> None:
        super().__init__()
        self.session = session
        self.hands: HandWork = session.hands
        self._card: HandCard | None = None
        self.boxes: list[QCheckBox] = []
        self.fields: dict[str, QLineEdit] = {}
        self._warmth: QLabel | None = None
        self._rows = QVBoxLayout()
        self._scroll = QScrollArea()
        self._scroll.setWidgetResizable(True)
        self._scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.done = QPushButton()
        self.done.clicked.connect(self.hands.confirm)
        self.refusal = label("", "", wrap=True)
        self.refusal.hide()
        self.hands.refused.connect(self._refused)
        foot = QHBoxLayout()
        foot.addWidget(self.done)
        self._pass_over = ActionButton(actions["run.skip"])
        foot.addWidget(self._pass_over)
        foot.addWidget(self.refusal, 1)
        foot.addStretch(0)
        whole = QVBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.addWidget(self._scroll, 1)
        whole.addLayout(foot)

    def refresh(self) -> None:
        """Show the card under way, its ticks, and whether it can be confirmed."""
        card = self.hands.card
        if card != self._card:
            self._card = card
            self._build(card)
        for index, box in enumerate(self.boxes):
            box.blockSignals(True)
            box.setChecked(index in self.hands.ticked)
            box.blockSignals(False)
        ready = self.hands.ready()
        self.done.setEnabled(ready)
        missing = tr("First tick every box, and give every reading; the plan waits as long as it takes")
        self.done.setToolTip(tr("The plan goes on") if ready else plain(missing))
        if ready:
            self.refusal.hide()

    def _build(self, card: HandCard | None) -> None:
        inside = QWidget()
        self._rows = QVBoxLayout(inside)
        self._rows.setContentsMargins(0, 4, 0, 4)
        self._rows.setSpacing(6)
        self._scroll.setWidget(inside)  # which takes the old one away
        self.boxes, self.fields, self._warmth = [], {}, None
        self.refusal.hide()
        if card is None:
            return
        self.done.setText(tr(DONE[card.kind]))
        self._pass_over.setVisible(card.kind == CardKind.READ)
        for caution in card.cautions:
            self._caution(caution)
        if card.cool_below_c is not None:
            self._section(tr("Before hands go in"))
            self._cooling(card.cool_below_c)
        if card.lines:
            self._section(tr("To do, in this order"))
            self._lines(card)
        if card.readings:
            self._section(tr("To read"))
            for request in card.readings:
                self._reading(request)
        if card.checks:
            self._section(tr("To check before going on"))
            for check in card.checks:
                self._rows.addWidget(self._box(check, check))
        kept = tr("Niente may be closed meanwhile, and the machine restarted: the card and its ticks are in the book.")
        if card.kind != CardKind.READ:
            self._rows.addWidget(label(kept, "soft", wrap=True))
        self._rows.addStretch(1)

    def _cooling(self, below_c: float) -> None:
        """The first box: that it is cool; it ticks itself, or a person does where no sensor is read any more."""
        limit = f"{below_c:g}{NO_BREAK_SPACE}{CORE.unit}"
        words = tr("The heatsink is cool: cores under {limit}").format(limit=limit)
        row = QHBoxLayout()
        row.setSpacing(16)
        row.addWidget(self._box(words, words))
        self._warmth = label("", "title")
        row.addWidget(self._warmth)
        row.addStretch(1)
        self._rows.addLayout(row)
        self.show_warmth()

    def show_warmth(self) -> None:
        """Show how warm the machine is now, where hands wait for it to cool, and tick the box once it has."""
        card, rig, frame = self._card, self.session.card, self.session.frame
        if card is None or card.cool_below_c is None or rig is None or frame is None or self._warmth is None:
            return
        cores = [float(frame.values[index]) for index in rig.indices("core_temperature_c")]
        hottest = max((core for core in cores if math.isfinite(core)), default=math.nan)
        words = tr("{now} now").format(now=CORE.with_unit(hottest)) if math.isfinite(hottest) else tr("no reading now")
        if words != self._warmth.text():
            self._warmth.setText(words)
        bench = self.session.bench
        commands = bench is not None and not bench.follows
        if hottest < card.cool_below_c and commands and self.hands.card == card and 0 not in self.hands.ticked:
            self.hands.tick(0, True)

    def _section(self, words: str) -> None:
        self._rows.addSpacing(6)
        self._rows.addWidget(label(words, "section"))
        self._rows.addWidget(rule())

    def _caution(self, words: str) -> None:
        row = QHBoxLayout()
        row.setSpacing(8)
        mark = label("!", "caution")
        mark.setFixedWidth(14)
        row.addWidget(mark, 0, Qt.AlignmentFlag.AlignTop)
        row.addWidget(label(words, "", wrap=True), 1)
        self._rows.addLayout(row)

    def _lines(self, card: HandCard) -> None:
        grid = QGridLayout()
        grid.setHorizontalSpacing(16)
        grid.setVerticalSpacing(8)
        grid.setColumnStretch(3, 1)
        for row, line in enumerate(card.lines):
            spoken = f"{line.words} {line.value} {line.where}".strip()
            grid.addWidget(self._box(f"{row + 1}.  {line.words}", spoken), row, 0)
            grid.addWidget(label(line.value, "title"), row, 1, Qt.AlignmentFlag.AlignRight)
            before = tr("it was {value}").format(value=line.before) if line.before else ""
            grid.addWidget(label(before, "soft"), row, 2)
            grid.addWidget(label(line.where, "soft", wrap=True), row, 3)
        self._rows.addLayout(grid)

    def _box(self, words: str, spoken: str) -> QCheckBox:
        index = len(self.boxes)
        box = QCheckBox(words)
        box.setAccessibleName(spoken)
        box.toggled.connect(lambda on: self.hands.tick(index, on))
        self.boxes.append(box)
        return box

    def _reading(self, request: ReadingRequest) -> None:
        quantity = request.quantity
        field = QLineEdit()
        field.setFixedWidth(110)
        field.setAlignment(Qt.AlignmentFlag.AlignRight)
        span = tr("{low} to {high}").format(low=quantity.text(request.low), high=quantity.with_unit(request.high))
        field.setAccessibleName(f"{request.title}, {quantity.unit}")
        tip = tr("{title}, {span}. A unit may be typed with the figure.").format(title=request.title, span=span)
        field.setToolTip(plain(tip))
        field.textChanged.connect(lambda text: self._typed(request, text))
        field.returnPressed.connect(self.hands.confirm)
        self.fields[request.channel] = field
        row = QHBoxLayout()
        row.setSpacing(8)
        name = label(request.title)
        name.setBuddy(field)
        row.addWidget(name)
        row.addWidget(field)
        row.addWidget(label(quantity.unit, "soft"))
        row.addSpacing(16)
        shown = self.session.bench.shown.get(request.channel) if self.session.bench is not None else None
        hint = tr("the simulated meter shows {value}").format(value=quantity.with_unit(shown)) if shown is not None else span
        row.addWidget(label(hint, "soft"))
        row.addStretch(1)
        self._rows.addLayout(row)
        refusal = label("", "broken")
        refusal.hide()
        field.setProperty("refusal", refusal)
        self._rows.addWidget(refusal)

    def _typed(self, request: ReadingRequest, text: str) -> None:
        """Take a reading as it is typed; what it cannot be is said under it, and nothing is lost."""
        refusal = self.fields[request.channel].property("refusal")
        value: float | None = None
        why = ""
        if text.strip():
            try:
                value = value_typed(text, request.quantity.unit)
            except ValueError as error:
                why = str(error)
            if value is not None and not request.low <= value <= request.high:
                span = f"{request.quantity.text(request.low)} to {request.quantity.with_unit(request.high)}"
                why = tr("it lies between {span}").format(span=span)
        refusal.setText(tr("That cannot be: {reason}.").format(reason=why) if why else "")
        refusal.setVisible(bool(why))
        self.hands.read(request.channel, None if why else value)

    def _refused(self, why: str) -> None:
        self.refusal.setText(why)
        self.refusal.show()
