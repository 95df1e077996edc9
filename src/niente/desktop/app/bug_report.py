"""A bug of our own: a dialog with a report that can be copied. The run goes on, or has ended safely."""

import platform
import sys
import traceback
from types import TracebackType

from PySide6.QtCore import QObject, Qt, Signal
from PySide6.QtGui import QFontDatabase, QGuiApplication
from PySide6.QtWidgets import QPlainTextEdit, QWidget

from niente import __version__
from niente.desktop.dialogs.sheet import SheetDialog
from niente.desktop.services.translation import tr


def full_report(report: str) -> str:
    """Return a report with what helps to read it; nothing of the person's is in it."""
    system = f"{platform.system()} {platform.release()}, {platform.machine()}"
    return f"Niente {__version__}, Python {platform.python_version()}, {system}\n\n{report.strip()}\n"


class BugDialog(SheetDialog):
    """What went wrong inside Niente, for whoever can mend it."""

    def __init__(self, report: str, parent: QWidget | None = None) -> None:
        super().__init__(parent, tr("Something in Niente went wrong"))
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.resize(680, 420)
        self.report = QPlainTextEdit(full_report(report))
        self.report.setReadOnly(True)
        self.report.setTabChangesFocus(True)
        self.report.setFont(QFontDatabase.systemFont(QFontDatabase.SystemFont.FixedFont))
        self.report.setStyleSheet("font-family: 'B612 Mono'; font-size: 11px;")
        self.report.setAccessibleName(tr("Report"))
        words = tr(
            "The rig is looked after, and every sample is kept. You can go on. "
            "The report below says where it happened; it contains no data of yours."
        )
        self.say(words)
        self.column.addWidget(self.report, 1)
        self.copy = self.answer(tr("Copy the report"))
        self.copy.clicked.connect(self._copy)
        self.answer(tr("Go on"), usual=True).clicked.connect(self.accept)

    def _copy(self) -> None:
        QGuiApplication.clipboard().setText(self.report.toPlainText())
        self.copy.setText(tr("Copied"))


class Hook(QObject):
    """Catches what no one else caught, and tells it from the window's thread."""

    caught = Signal(str)

    def install(self) -> None:
        """Take over from Python's own way of dying."""
        sys.excepthook = self._take

    def _take(self, kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        report = "".join(traceback.format_exception(kind, error, trace))
        sys.stderr.write(report)
        if not issubclass(kind, KeyboardInterrupt):
            self.caught.emit(report)
