"""The Rig page's second view: what must never be exceeded, where Niente itself ends a run, and what may be set by whom."""

import msgspec
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QTableView, QVBoxLayout, QWidget

from niente.core.model.guard_rules import CORE, guard_on, guardable, moved, under_limit
from niente.core.model.names import control_name, part_of
from niente.core.model.plan import Guard, GuardAction
from niente.core.model.quantities import quantity_of
from niente.core.model.rig_card import Control, RigCard, SetBy
from niente.core.model.rig_sheet import RigSheet
from niente.desktop.services.theme import Look
from niente.desktop.services.translation import tr
from niente.desktop.session.notices import Notice
from niente.desktop.session.session import Session
from niente.desktop.widgets.form import Form, choice, figure
from niente.desktop.widgets.labels import label, rule
from niente.desktop.widgets.sheet_table import Entry, SheetModel, sheet_view

GUARD_HEADS = ("Watched", "Ends it at", "Clears at", "Dwell", "What it does", "Why")
CONTROL_HEADS = ("Control", "From", "To", "Step", "Set by", "The rig reaches")
TRIP, CLEAR, DWELL, ACTION, REASON = range(1, 6)
LOW, HIGH, STEP, BY = range(1, 5)
DOES = {
    GuardAction.STOP: "stops the plan",
    GuardAction.PAUSE: "pauses",
    GuardAction.SKIP: "skips the run",
    GuardAction.WARN: "warns",
}
BY_WHOM = {SetBy.SOFTWARE: "software", SetBy.FIRMWARE: "firmware setup", SetBy.HANDS: "hands"}


class LimitsView(QWidget):
    """Fields for the maker's limits over two tables: guards, and controls."""

    def __init__(self, session: Session, look: Look) -> None:
        super().__init__()
        self.session = session
        temperature = "core_temperature_c"
        self.core = figure(temperature, tr("Cores, at most"), 40, 125, 1, lambda v: self._limit("core_temperature_c", v))
        self.margin = figure("headroom_k", tr("Margin below it"), 0, 30, 0.5, lambda v: self._limit("margin_k", v), default=5.0)
        self.shut_down = figure(temperature, tr("Shut-down"), 40, 130, 1, lambda v: self._limit("shut_down_c", v))
        self.guards = SheetModel([tr(head) for head in GUARD_HEADS], {TRIP, CLEAR, DWELL})
        self.guards.edited.connect(self._guard_edited)
        self.controls = SheetModel([tr(head) for head in CONTROL_HEADS], {LOW, HIGH, STEP})
        self.controls.edited.connect(self._control_edited)
        widths = {0: 130, TRIP: 76, CLEAR: 76, DWELL: 60, ACTION: 104}
        self.guard_table = sheet_view(tr("Guards"), self.guards, look, stretch=REASON, widths=widths)
        widths = {0: 170, LOW: 84, HIGH: 84, STEP: 66, BY: 100}
        self.control_table = sheet_view(tr("Controls"), self.controls, look, stretch=5, widths=widths)
        self._folded: list[list[int]] = []
        self.more = choice(tr("Add a guard"), [], self._add_guard)
        self.more.setFixedWidth(170)
        self.less = QPushButton(tr("Remove guard"))
        self.less.setToolTip(tr("Take the selected guard away; the one on the hottest core stays"))
        self.less.clicked.connect(self._remove_guard)
        self._lay_out()

    def _lay_out(self) -> None:
        rows = QVBoxLayout(self)
        rows.setContentsMargins(0, 0, 0, 0)
        rows.setSpacing(4)
        makers = Form(tr("The maker's limits"))
        makers.add(tr("Cores, at most"), self.core, tr("as the maker gives it; Niente's guard stands at or below it"))
        makers.add(tr("Margin below it"), self.margin, tr("headroom is counted to this much below the limit"))
        makers.add(tr("Shut-down"), self.shut_down, tr("where the firmware itself cuts off"))
        rows.addWidget(makers)
        rows.addWidget(rule())
        head = QHBoxLayout()
        head.addWidget(label(tr("Guards: where Niente ends a run"), "section"))
        head.addStretch(1)
        head.addWidget(self.more)
        head.addWidget(self.less)
        rows.addLayout(head)
        rows.addWidget(self.guard_table, 2)
        rows.addWidget(rule())
        head = QHBoxLayout()
        head.addWidget(label(tr("Controls: what may be set, and by whom"), "section"))
        rows.addLayout(head)
        rows.addWidget(self.control_table, 5)

    def tables(self) -> tuple[QTableView, ...]:
        """Return the tables, for menus."""
        return (self.guard_table, self.control_table)

    # -- showing ---------------------------------------------------------------------------------------------------

    def show_sheet(self, sheet: RigSheet, own: RigCard) -> None:
        """Show a sheet; ``own`` is what the driver says, which bounds it."""
        limits, makers = sheet.limits, own.limits
        self.core.setMaximum(makers.core_temperature_c)
        self.shut_down.setMaximum(makers.shut_down_c)
        self.core.put(limits.core_temperature_c)
        self.margin.put(limits.margin_k)
        self.shut_down.put(limits.shut_down_c)
        offered = [tr("Add a guard on …"), *(quantity_of(name).title for name in guardable(own))]
        if [self.more.itemText(i) for i in range(self.more.count())] != offered:
            self.more.clear()
            self.more.addItems(offered)
        self.guards.set_entries([_guard_row(guard, sheet) for guard in sheet.guards])
        self._folded = folded(sheet.controls)
        self.controls.set_entries([_control_row([sheet.controls[at] for at in indices], own) for indices in self._folded])

    # -- editing ---------------------------------------------------------------------------------------------------

    def _limit(self, name: str, value: float) -> None:
        sheet = self.session.sheet
        if sheet is None or self.session.bench is None:
            return
        before, limits = sheet.limits.core_temperature_c, msgspec.structs.replace(sheet.limits, **{name: value})
        top, usual = limits.core_temperature_c, guard_on(self.session.bench.own_card, CORE)
        guards = tuple(under_limit(guard, before, top, usual) for guard in sheet.guards)
        after = msgspec.structs.replace(sheet, limits=limits, guards=guards)
        self._change(tr("maker's limits"), after)
        left = next((guard for guard in guards if guard.quantity == CORE and guard.trip < min(top, usual.trip)), None)
        if top > before and left is not None:
            words = tr("The guard on the hottest core stays at {trip}: it did not stand at the limit.")
            self.session.notice.emit(Notice(words.format(trip=quantity_of(CORE).with_unit(left.trip))))

    def _add_guard(self, index: int) -> None:
        sheet, bench = self.session.sheet, self.session.bench
        self.more.setCurrentIndex(0)
        if index == 0 or sheet is None or bench is None:
            return
        guard = guard_on(bench.card, guardable(bench.own_card)[index - 1])
        self._change(tr("new guard"), msgspec.structs.replace(sheet, guards=(*sheet.guards, guard)))

    def _remove_guard(self) -> None:
        sheet, row = self.session.sheet, self.guard_table.currentIndex().row()
        if sheet is not None and 0 <= row < len(sheet.guards):
            guards = (*sheet.guards[:row], *sheet.guards[row + 1 :])
            self._change(tr("guard taken away"), msgspec.structs.replace(sheet, guards=guards))

    def _guard_edited(self, row: int, column: int, value: object) -> None:
        sheet = self.session.sheet
        if sheet is None:
            return
        guard = sheet.guards[row]
        fields = {TRIP: "trip", CLEAR: "clear", DWELL: "dwell_s", REASON: "reason"}
        if column == ACTION:
            does = {tr(words): action for action, words in DOES.items()}
            guard = msgspec.structs.replace(guard, action=does[str(value)])
        else:
            guard = msgspec.structs.replace(guard, **{fields[column]: value})
        if column == TRIP:
            guard = moved(sheet.guards[row], guard.trip)
        guards = (*sheet.guards[:row], guard, *sheet.guards[row + 1 :])
        self._change(tr("guard"), msgspec.structs.replace(sheet, guards=guards))

    def _control_edited(self, row: int, column: int, value: object) -> None:
        sheet = self.session.sheet
        if sheet is None:
            return
        if column == BY:
            by = {tr(words): kind for kind, words in BY_WHOM.items()}
            change: dict[str, object] = {"set_by": by[str(value)]}
        else:
            change = {{LOW: "low", HIGH: "high", STEP: "step"}[column]: value}
        controls = list(sheet.controls)
        for at in self._folded[row]:
            controls[at] = msgspec.structs.replace(controls[at], **change)
        self._change(tr("control"), msgspec.structs.replace(sheet, controls=tuple(controls)))

    def _change(self, words: str, sheet: RigSheet) -> None:
        bench = self.session.bench
        if not self.session.sheets.change(words, sheet) and bench is not None and self.session.sheet is not None:
            self.show_sheet(self.session.sheet, bench.own_card)


def _guard_row(guard: Guard, sheet: RigSheet) -> list[Entry]:
    quantity, seconds = quantity_of(guard.quantity), quantity_of("burst_time_s")
    core = guard.quantity == "core_temperature_c"
    high = sheet.limits.core_temperature_c if core else quantity.high
    low = 20.0 if quantity.unit == "°C" else quantity.low
    step = 1.0 if quantity.digits == 0 or quantity.unit == "°C" else 0.5
    title = tr("Hottest core") if core else quantity.title
    quiet = tr("Clears above") if guard.falling else tr("Clears below")
    return [
        Entry(title),
        Entry(quantity.with_unit(guard.trip), guard.trip, quantity, low, high, step, title=tr("Ends a run at")),
        Entry(quantity.with_unit(guard.clear), guard.clear, quantity, low, high, step, title=quiet),
        Entry(seconds.with_unit(guard.dwell_s), guard.dwell_s, seconds, 0.0, 600.0, 1.0, title=tr("Dwell")),
        Entry(
            tr(DOES[guard.action]),
            tr(DOES[guard.action]),
            options=tuple(tr(words) for words in DOES.values()),
            title=tr("What it does"),
        ),
        Entry(guard.reason, guard.reason, title=tr("Why, in words that stand in the book")),
    ]


def folded(controls: tuple[Control, ...]) -> list[list[int]]:
    """Return the indices of controls by row: those that stand for one a core or a point, and are alike, share a row."""
    rows: list[list[int]] = []
    shared: dict[object, list[int]] = {}
    for at, control in enumerate(controls):
        name, part = control_name(control.name)
        key = (name, control.low, control.high, control.step, control.set_by, control.rest)
        if part.isdigit() and key in shared:
            shared[key].append(at)
            continue
        rows.append([at])
        if part.isdigit():
            shared[key] = rows[-1]
    return rows


def _control_row(alike: list[Control], own: RigCard) -> list[Entry]:
    control = alike[0]
    title = control.title
    if len(alike) > 1:
        first, last = part_of(control.name), part_of(alike[-1].name)
        title = tr("{title} to {last}").format(title=title, last=last) if first != last else title
    quantity, driver = quantity_of(control.name), own.control(control.name)
    low, high = (driver.low, driver.high) if driver is not None else (control.low, control.high)
    step = driver.step if driver is not None else control.step
    return [
        Entry(title),
        Entry(quantity.with_unit(control.low), control.low, quantity, low, high, step, title=tr("From")),
        Entry(quantity.with_unit(control.high), control.high, quantity, low, high, step, title=tr("To")),
        Entry(
            f"{control.step:g}\u00a0{quantity.unit}",
            control.step,
            quantity,
            step,
            max(high - low, step),
            step,
            title=tr("Step"),
        ),
        Entry(
            tr(BY_WHOM[control.set_by]),
            tr(BY_WHOM[control.set_by]),
            options=tuple(tr(words) for words in BY_WHOM.values()),
            title=tr("Set by"),
        ),
        Entry(driver.range_text() if driver is not None else "", soft=True),
    ]
