"""The dialog for the steps that a board takes curves in."""

from PySide6.QtWidgets import QDialog, QWidget

from niente.desktop.dialogs.sheet import SheetDialog
from niente.desktop.services.translation import tr
from niente.desktop.widgets.form import Form, figure


class RoundCurves(SheetDialog):
    """Asks for the steps of temperature and duty."""

    def __init__(self, over: QWidget) -> None:
        lead = tr("Temperatures go down and duties up to whole steps, so that the machine gets no less air. It can be undone.")
        super().__init__(over, tr("Round the curves"), lead)
        form = Form("")
        self.celsius = figure("core_temperature_c", tr("Temperature in steps of"), 0.5, 10.0, 0.5, lambda _: None, default=1.0)
        self.percent = figure("fan_duty", tr("Duty in steps of"), 0.5, 20.0, 0.5, lambda _: None, default=5.0)
        for field in (self.celsius, self.percent):
            field.put(field.default or 1.0)
            form.add(field.title, field)
        self.column.addWidget(form)
        self.say(tr("Beside the rehearsal then stand the curves before, which shows what it costs."), "soft")
        self.take_or_leave(tr("Round"))


def ask_for_steps(over: QWidget) -> tuple[float, float] | None:
    """Ask for the steps in °C and %; ``None`` where nothing is to be rounded."""
    dialog = RoundCurves(over)
    wanted = dialog.exec() == QDialog.DialogCode.Accepted
    steps = (dialog.celsius.value(), dialog.percent.value()) if wanted else None
    dialog.deleteLater()
    return steps
