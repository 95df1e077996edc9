"""Loads, exposure, order, search, budget and quiet hours: the rules by which a question is answered."""

import msgspec
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QCheckBox, QComboBox, QGridLayout, QLabel, QVBoxLayout, QWidget

from niente.core.model.plan import Exposure, QuietHours, SearchMethod
from niente.core.model.quantities import duration_text, quantity_of
from niente.core.model.question import Approach, FanSchool, Order, Question, TemplateName
from niente.core.model.rig_card import LoadKind, RigCard
from niente.core.planning.axis_values import is_fan_axis
from niente.core.planning.builders import default_fans, until_known
from niente.core.planning.layout import BUDGET, TARGET
from niente.core.planning.questions.undervolting import SEARCHED, search_methods
from niente.desktop.services.plain_text import plain
from niente.desktop.services.translation import tr
from niente.desktop.widgets.form import choice, figure
from niente.desktop.widgets.labels import ShortLabel, label, rule
from niente.desktop.widgets.quantity_field import QuantityField

FIXED_S = (15.0, 300.0, 600.0, 1200.0, 1800.0, 3600.0, 5400.0)
"""Times that practitioners let a run last."""
UNTIL_KNOWN, OF_ONES_OWN = "until known", "fixed time"

NO_QUIET_HOURS = QuietHours(22.0, 7.0, 0.0)
"""What the fields show while a question has none."""


class Rules(QWidget):
    """Fields over everything of a question that is no axis. ``edited`` comes with what is done, in words, and the question
    it makes; ``refused`` with the reason why it cannot be; ``focused`` once what a target costs is of interest."""

    edited = Signal(str, object)
    refused = Signal(str)
    focused = Signal(str)

    def __init__(self) -> None:
        super().__init__()
        self._card: RigCard | None = None
        self._question: Question | None = None
        self._rows = QVBoxLayout(self)
        self._rows.setContentsMargins(0, 0, 0, 0)
        self._rows.setSpacing(4)
        self._load_grid = QGridLayout()
        self.survive: dict[str, QCheckBox] = {}
        self.quiet: dict[str, QCheckBox] = {}
        self._counts: dict[str, QLabel] = {}
        self._make_fields()
        self._rows.addWidget(rule())
        self._rows.addLayout(self._load_grid)
        self._rows.addWidget(rule())
        self._grid = QGridLayout()
        self._grid.setVerticalSpacing(4)
        self._grid.setHorizontalSpacing(8)
        self._grid.setColumnStretch(1, 1)
        self._rows.addLayout(self._grid)
        self._names: dict[QWidget, QLabel] = {}
        for title, field in self._titled():
            name = label(title)
            name.setBuddy(field)
            self._names[field] = name
            row = self._grid.rowCount()
            self._grid.addWidget(name, row, 0)
            self._grid.addWidget(field, row, 1)
        self.flag = label("", "soft", wrap=True)
        self._rows.addWidget(self.flag)

    def _make_fields(self) -> None:
        hours = "hour_of_day_h"
        self.rule = choice(tr("Exposure: when a run ends"), [], self._rule_chosen)
        self.known = figure("core_rise_k", tr("Known to ±"), 0.5, 5.0, 0.1, self._known_edited, default=1.0)
        self.known.entered.connect(lambda: self.focused.emit(TARGET))
        self.least = _minutes(tr("At least"), self._least_edited)
        self.most = _minutes(tr("At most"), self._most_edited)
        self.order = choice(tr("Order of the runs"), [tr(one.value) for one in Order], self._order_chosen)
        self.rest = _minutes(tr("Idle before a cold start"), lambda value: self._put("the idle time", idle_minutes=value))
        self.cold = QCheckBox(tr("until nothing moves"))
        self.cold.setAccessibleName(tr("Rest until the machine is cold"))
        self.cold.setToolTip(plain(tr("Idle time goes on until no temperature moves by more than 0.3 K in five minutes")))
        self.cold.clicked.connect(lambda on: self._put("the idle time", from_cold=on))
        self.stall = QCheckBox(tr("where they start and stall"))
        self.stall.setAccessibleName(tr("Look for the duties at which fans start and stall"))
        self.stall.setToolTip(tr("Each group alone, down until it stops and up until it starts; minutes, and no heat"))
        self.stall.clicked.connect(lambda on: self._put("what is looked for", stall=on))
        self.fans = choice(tr("Fans while measuring"), [tr(one.value) for one in FanSchool], self._fans_chosen)
        self.approach = choice(tr("How the runs are chosen"), [tr(one.value) for one in Approach], self._approach_chosen)
        self.repeats = _count(tr("Repeats of every run"), lambda value: self._put("the repeats", repeats=int(value)))
        self.method = choice(tr("How a limit is searched"), [], self._method_chosen)
        self.margin = QuantityField(
            quantity_of("voltage_offset_mv"), low=0, high=60, step=1, title=tr("Margin back from the last pass")
        )
        self.margin.settled.connect(self._margin_edited)
        self.fine = QuantityField(quantity_of("voltage_offset_mv"), low=1, high=50, step=1, title=tr("Fine step of the search"))
        self.fine.settled.connect(lambda value: self._put("the fine step", fine=value))
        self.passes = _count(tr("Clean exposures that make a pass"), lambda value: self._put("the passes", passes=int(value)))
        chosen = (lambda _: self._variant_chosen(0), lambda _: self._variant_chosen(1))
        self.variants = [
            choice(tr("State {letter} of the machine").format(letter=letter), [], on_chosen)
            for letter, on_chosen in zip("AB", chosen, strict=True)
        ]
        self.budget = QuantityField(
            quantity_of("time_h"), low=0, high=1000, step=0.5, title=tr("Time budget"), off_words=tr("none")
        )
        self.budget.entered.connect(lambda: self.focused.emit(BUDGET))
        self.budget.settled.connect(lambda value: self._put("the time budget", budget_h=value or None))
        self.quiet_from = figure(hours, tr("Quiet hours from"), 0, 24, 0.5, self._quiet_edited)
        self.quiet_to = figure(hours, tr("Quiet hours to"), 0, 24, 0.5, self._quiet_edited)
        self.quiet_most = QuantityField(
            quantity_of("noise_dba"), low=0, high=90, step=1, title=tr("Most noise in quiet hours"), off_words=tr("no limit")
        )
        self.quiet_most.settled.connect(self._quiet_edited)

    def _titled(self) -> tuple[tuple[str, QWidget], ...]:
        return (
            (tr("State A"), self.variants[0]),
            (tr("State B"), self.variants[1]),
            (tr("Runs"), self.approach),
            (tr("A run ends"), self.rule),
            (tr("Known to ±"), self.known),
            (tr("At least"), self.least),
            (tr("At most"), self.most),
            (tr("Search"), self.method),
            (tr("Fine step"), self.fine),
            (tr("Margin"), self.margin),
            (tr("A pass is"), self.passes),
            (tr("Order"), self.order),
            (tr("Idle first"), self.rest),
            ("", self.cold),
            (tr("Fans, also"), self.stall),
            (tr("Repeats"), self.repeats),
            (tr("Fans"), self.fans),
            (tr("Time budget"), self.budget),
            (tr("Quiet, at most"), self.quiet_most),
            (tr("Quiet from"), self.quiet_from),
            (tr("Quiet to"), self.quiet_to),
        )

    # -- showing -------------------------------------------------------------------------------------------------

    def show_question(self, card: RigCard, question: Question, runs: dict[str, int]) -> None:
        """Show a question's rules; ``runs`` says how many runs each load has."""
        self._card, self._question = card, question
        self._show_loads(card, question, runs)
        self._show_exposure(question.exposure)
        self._show_order(question)
        self._show_search(card, question)
        self._show_hours(question)
        self._show_variants(card, question)
        self._show_fields(card, question)
        self.flag.setText(
            tr("As used, a curve hides what a change is worth: temperature no longer shifts one for one with the room.")
            if question.fans == FanSchool.AS_USED
            else ""
        )
        self.flag.setVisible(bool(self.flag.text()))

    def _show_exposure(self, rule: Exposure) -> None:
        fixed = [tr("{t} each").format(t=duration_text(seconds)) for seconds in FIXED_S]
        _options(self.rule, [tr(UNTIL_KNOWN), *fixed, tr(OF_ONES_OWN)])
        if rule.known_to_k is not None:
            self.rule.setCurrentIndex(0)
        else:
            self.rule.setCurrentIndex(len(FIXED_S) + 1 if _is_own(rule) else FIXED_S.index(rule.min_s) + 1)
        self.known.put(rule.known_to_k or 1.0)
        self.least.put(rule.min_s / 60.0)
        self.most.put(rule.max_s / 60.0)

    def _show_order(self, question: Question) -> None:
        self.order.setCurrentIndex(list(Order).index(question.order))
        self.rest.put(question.idle_minutes)
        self.cold.setChecked(question.from_cold)
        self.stall.setChecked(question.stall)
        self.repeats.put(question.repeats)
        self.fans.setCurrentIndex(list(FanSchool).index(question.fans))
        self.approach.setCurrentIndex(list(Approach).index(question.approach))

    def _show_search(self, card: RigCard, question: Question) -> None:
        methods = search_methods(question)
        _options(self.method, [tr(one.value) for one in methods])
        self.method.setCurrentIndex(methods.index(question.method) if question.method in methods else 0)
        self.margin.put(question.margin if question.margin is not None else 2 * _step_mv(card))
        self.fine.put(max(question.fine or 0.0, _step_mv(card)))
        self.fine.setMinimum(_step_mv(card))  # the value stands there already, so that this is no edit
        self.passes.put(question.passes)

    def _show_hours(self, question: Question) -> None:
        self.budget.put(question.budget_h or 0.0)
        quiet = question.quiet or NO_QUIET_HOURS
        self.quiet_most.put(quiet.max_dba)
        self.quiet_from.put(quiet.from_h)
        self.quiet_to.put(quiet.to_h)

    def _show_variants(self, card: RigCard, question: Question) -> None:
        names = [variant.name for variant in card.variants]
        for at, box in enumerate(self.variants):
            _options(box, names)
            chosen = question.variants[at] if at < len(question.variants) else card.variant
            box.setCurrentIndex(names.index(chosen) if chosen in names else -1)

    def _show_fields(self, card: RigCard, question: Question) -> None:
        """Show the fields that the question has a use for."""
        of_values = question.template in (TemplateName.CLOCK_VOLTAGE, TemplateName.REAL_TIME)
        searched = of_values or any(axis.control in SEARCHED and len(axis.points()) > 1 for axis in question.axes)
        known = question.exposure.known_to_k is not None
        idles = question.order == Order.COLD or question.template == TemplateName.BURST
        compared = question.template == TemplateName.VARIANTS
        self._show(
            {
                self.known: known,
                self.least: known or _is_own(question.exposure),
                self.most: known,
                self.method: searched,
                self.fine: searched and not of_values,
                self.margin: searched and not of_values and question.method != SearchMethod.STRUCTURED,
                self.approach: question.template == TemplateName.QUIET_POINT and question.fans == FanSchool.DUTY,
                self.rest: idles,
                self.cold: idles,
                self.stall: question.template == TemplateName.FAN_SWEEP,
                self.fans: bool(card.fan_groups()) and question.template != TemplateName.FAN_SWEEP,
                self.quiet_from: question.quiet is not None,
                self.quiet_to: question.quiet is not None,
                self.variants[0]: compared,
                self.variants[1]: compared,
            }
        )

    def _show(self, wanted: dict[QWidget, bool]) -> None:
        for field, shown in wanted.items():
            field.setVisible(shown)
            self._names[field].setVisible(shown)

    def _show_loads(self, card: RigCard, question: Question, runs: dict[str, int]) -> None:
        loads = [load for load in card.loads if load.kind != LoadKind.IDLE]
        if list(self.survive) != [load.name for load in loads]:
            self._build_loads(card)
        for load in loads:
            self.survive[load.name].setChecked(load.name in question.survive)
            self.quiet[load.name].setChecked(load.name in question.quiet_under)

        self.show_runs(runs)

    def show_runs(self, runs: dict[str, int]) -> None:
        """Show how many runs each load has."""
        for name, count in self._counts.items():
            count.setText(f"{runs[name]}" if runs.get(name) else "")

    def _build_loads(self, card: RigCard) -> None:
        while (item := self._load_grid.takeAt(0)) is not None:
            if (widget := item.widget()) is not None:
                widget.deleteLater()
        self.survive, self.quiet, self._counts = {}, {}, {}
        self._load_grid.setColumnStretch(0, 1)
        self._load_grid.setHorizontalSpacing(6)
        self._load_grid.setVerticalSpacing(3)
        self._load_grid.addWidget(label(tr("Loads"), "section"), 0, 0)
        for column, head in ((1, tr("stable")), (2, tr("quiet")), (3, tr("runs"))):
            self._load_grid.addWidget(label(head, "soft"), 0, column, Qt.AlignmentFlag.AlignRight)
        for row, load in enumerate((load for load in card.loads if load.kind != LoadKind.IDLE), 1):
            name = ShortLabel("")
            name.setText(load.title)
            checked = tr("its results are checked") if load.checks_results else tr("its results are not checked")
            self._load_grid.addWidget(name, row, 0)
            for column, boxes, words in (
                (1, self.survive, tr("{load}: what the machine has to be stable under")),
                (2, self.quiet, tr("{load}: what it has to be quiet under")),
            ):
                box = QCheckBox()
                box.setAccessibleName(words.format(load=load.title))
                box.setToolTip(plain(f"{words.format(load=load.title)}; {checked}"))
                box.clicked.connect(self._loads_edited)
                boxes[load.name] = box
                self._load_grid.addWidget(box, row, column, Qt.AlignmentFlag.AlignRight)
            self._counts[load.name] = label("", "soft")
            self._load_grid.addWidget(self._counts[load.name], row, 3, Qt.AlignmentFlag.AlignRight)

    # -- edits ---------------------------------------------------------------------------------------------------

    def _put(self, words: str, **changed: object) -> None:
        if self._question is None:
            return
        other = msgspec.structs.replace(self._question, **changed)
        if other != self._question:
            self.edited.emit(tr("change of {what}").format(what=tr(words)), other)

    def _rule_chosen(self, index: int) -> None:
        if self._question is None or self._card is None:
            return
        if index == 0:
            self._put("the exposure", exposure=until_known(self._card))
            return
        seconds = FIXED_S[index - 1] if index <= len(FIXED_S) else self._question.exposure.min_s + 60.0
        self._put("the exposure", exposure=Exposure(min_s=seconds, max_s=seconds))

    def _expose(self, **changed: float) -> None:
        if self._question is None:
            return
        exposure = msgspec.structs.replace(self._question.exposure, **changed)
        if exposure.problems() and self._card is not None:
            self.refused.emit(tr("The shortest time of a run is longer than its longest. The plan is unchanged."))
            self.least.put(self._question.exposure.min_s / 60.0)
            self.most.put(self._question.exposure.max_s / 60.0)
            return
        self._put("the exposure", exposure=exposure)

    def _known_edited(self, value: float) -> None:
        self._expose(known_to_k=value)

    def _least_edited(self, minutes: float) -> None:
        fixed = self._question is not None and self._question.exposure.known_to_k is None
        self._expose(min_s=minutes * 60.0, **({"max_s": minutes * 60.0} if fixed else {}))

    def _most_edited(self, minutes: float) -> None:
        self._expose(max_s=minutes * 60.0)

    def _order_chosen(self, index: int) -> None:
        self._put("the order", order=list(Order)[index])

    def _fans_chosen(self, index: int) -> None:
        if self._question is None or self._card is None:
            return
        school = list(FanSchool)[index]
        others = tuple(axis for axis in self._question.axes if not is_fan_axis(axis))
        fans = any(is_fan_axis(axis) for axis in self._question.axes) or school in (FanSchool.SPEED, FanSchool.NOISE)
        axes = others + (default_fans(self._card, school) if fans else ())
        self._put("how the fans are set", fans=school, axes=axes)

    def _approach_chosen(self, index: int) -> None:
        self._put("how the runs are chosen", approach=list(Approach)[index])

    def _method_chosen(self, index: int) -> None:
        if self._question is not None:
            self._put("the search", method=search_methods(self._question)[index])

    def _margin_edited(self, value: float) -> None:
        self._put("the margin", margin=value)

    def _variant_chosen(self, at: int) -> None:
        if self._question is None or self._card is None:
            return
        chosen = [*self._question.variants, self._card.variant, self._card.variant][:2]
        chosen[at] = self.variants[at].currentText()
        if chosen[0] == chosen[1]:
            self.refused.emit(tr("A and B are the same state of the machine. The plan is unchanged."))
            self.show_question(self._card, self._question, {})
            return
        self._put("the states compared", variants=tuple(chosen))

    def _quiet_edited(self, _: float) -> None:
        most = self.quiet_most.value()
        hours = QuietHours(self.quiet_from.value(), self.quiet_to.value() % 24.0, most) if most > 0 else None
        self._put("the quiet hours", quiet=hours)

    def _loads_edited(self) -> None:
        survive = tuple(name for name, box in self.survive.items() if box.isChecked())
        quiet = tuple(name for name, box in self.quiet.items() if box.isChecked())
        question, card = self._question, self._card
        if question is None or card is None:
            return
        heavy = card.load_of(LoadKind.HEAVY)
        if (
            question.template in (TemplateName.QUIET_POINT, TemplateName.HOLD_BACK)
            and heavy is not None
            and heavy.name not in survive
        ):
            words = tr("{load} is what the machine has to be stable under: a quiet point is not judged without it.")
            self.refused.emit(words.format(load=heavy.title))
            self.survive[heavy.name].setChecked(True)
            return
        if not survive and not quiet and question.template not in (TemplateName.FAN_SWEEP, TemplateName.BASELINE):
            self.refused.emit(tr("Without a load nothing is measured. The plan is unchanged."))
            self.show_question(card, question, {})
            return
        self._put("the loads", survive=survive, quiet_under=quiet)


def _is_own(rule: Exposure) -> bool:
    """Return whether a rule's times are none of those that are offered."""
    return rule.min_s not in FIXED_S or rule.max_s != rule.min_s


def _options(box: QComboBox, texts: list[str]) -> None:
    """Give a list its options, where they are others."""
    if [box.itemText(index) for index in range(box.count())] != texts:
        box.clear()
        box.addItems(texts)


def _minutes(title: str, settled: object) -> QuantityField:
    field = QuantityField(quantity_of("time_min"), low=0.25, high=600.0, step=0.25, title=title)
    field.settled.connect(settled)
    return field


def _count(title: str, settled: object) -> QuantityField:
    field = QuantityField(quantity_of("times"), low=1, high=50, step=1, title=title, default=1.0)
    field.settled.connect(settled)
    return field


def _step_mv(card: RigCard) -> float:
    control = card.control("voltage_offset_mv")
    return control.step if control is not None else 5.0
