"""The dialog of a run of one's own: what is set, under which load, for how long."""

from PySide6.QtWidgets import QDialog, QWidget

from niente.core.model.plan import Exposure, Step
from niente.core.model.quantities import quantity_of
from niente.core.model.rig_card import RigCard
from niente.core.planning.axis_values import offered_controls
from niente.desktop.dialogs.sheet import SheetDialog
from niente.desktop.services.translation import tr
from niente.desktop.widgets.choice_box import ChoiceBox
from niente.desktop.widgets.form import Form
from niente.desktop.widgets.quantity_field import QuantityField

MAX_FIELDS = 6


class InsertRun(SheetDialog):
    """Asks for a run, beginning with one that stands in the list."""

    def __init__(self, over: QWidget, card: RigCard, like: Step, controls: tuple[str, ...]) -> None:
        super().__init__(over, tr("Insert a run"))
        self._card, self._like = card, like
        self.form = Form("")
        self.load = ChoiceBox()
        self.load.setAccessibleName(tr("Load"))
        for load in card.loads:
            self.load.addItem(load.title, load.name)
        self.load.setCurrentIndex(max(self.load.findData(like.load), 0))
        self.form.add(tr("Load"), self.load)
        self.fields: dict[str, QuantityField] = {}
        whole = like.setting.over(card.stock)
        wanted = [name for name in (*controls, "sustained_power_w", *offered_controls(card)) if card.control(name) is not None]
        for name in list(dict.fromkeys(wanted))[:MAX_FIELDS]:
            control, value = card.control(name), whole.value(name)
            if control is None or value is None:
                continue
            field = QuantityField(
                quantity_of(name), low=control.low, high=control.high, step=control.step, title=control.title, default=value
            )
            field.put(value)
            self.fields[name] = field
            self.form.add(control.title, field, control.range_text())
        self.minutes = QuantityField(quantity_of("time_min"), low=0.25, high=600, step=0.25, title=tr("Minutes"))
        self.minutes.put(like.exposure.min_s / 60.0)
        self.form.add(tr("Minutes"), self.minutes, tr("of the rig's time"))
        self.known = ChoiceBox()
        self.known.addItems([tr("fixed time"), tr("until known, at least this long")])
        self.known.setCurrentIndex(int(like.exposure.known_to_k is not None))
        self.form.add(tr("It ends"), self.known)
        self.column.addWidget(self.form)
        self.say(tr("A deep offset can corrupt files: back up first, and keep to the maker's limits."), "soft")
        self.take_or_leave(tr("Insert"))

    def step(self) -> Step:
        """Return the run as it was put together."""
        setting = self._like.setting.over(self._card.stock)
        for name, field in self.fields.items():
            setting = setting.replaced(name, field.value())
        least = self.minutes.value() * 60.0
        exposure = Exposure(min_s=least, max_s=least)
        if self.known.currentIndex():
            target = self._like.exposure.known_to_k or 1.0
            exposure = Exposure(min_s=least, max_s=max(self._like.exposure.max_s, least), known_to_k=target)
        words = tr("Inserted by hand")
        return Step(setting, str(self.load.currentData()), exposure, self._like.stage, words, self._like.variant)


def ask_for_run(over: QWidget, card: RigCard, like: Step, controls: tuple[str, ...]) -> Step | None:
    """Ask for a run; ``None`` where none is wanted."""
    dialog = InsertRun(over, card, like, controls)
    wanted = dialog.exec() == QDialog.DialogCode.Accepted
    step = dialog.step() if wanted else None
    dialog.deleteLater()
    return step
