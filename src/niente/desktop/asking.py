"""What is asked in a dialog of its own: a file, a note, whether a running plan may end."""

from pathlib import Path

from PySide6.QtWidgets import QFileDialog, QInputDialog, QMessageBox, QWidget

from niente.desktop.tongue import tr


def for_book(over: QWidget) -> Path | None:
    """Ask for a book."""
    name, _ = QFileDialog.getOpenFileName(over, tr("Open book"), "", tr("Niente books (*.niente)"))
    return Path(name) if name else None


def for_plan(over: QWidget) -> Path | None:
    """Ask for a plan."""
    name, _ = QFileDialog.getOpenFileName(over, tr("Open plan"), "", tr("Plans (*.json)"))
    return Path(name) if name else None


def where_to_save_plan(over: QWidget) -> Path | None:
    """Ask where a plan is to be written."""
    name, _ = QFileDialog.getSaveFileName(over, tr("Save plan as"), "plan.json", tr("Plans (*.json)"))
    return Path(name) if name else None


def for_note(over: QWidget) -> str:
    """Ask for a note; empty where there is none."""
    text, given = QInputDialog.getText(over, tr("Note"), tr("Written into the book with this moment's time:"))
    return text.strip() if given else ""


def whether_to_end(over: QWidget) -> bool:
    """Ask whether a running plan may be stopped. Keeping on is the default, and what Escape means."""
    box = QMessageBox(over)
    box.setIcon(QMessageBox.Icon.Question)
    box.setWindowTitle(tr("A plan is running"))
    box.setText(tr("A plan is running. Stop it and restore the rig?"))
    box.setInformativeText(tr("Every sample is kept, and the plan can go on later."))
    stop = box.addButton(tr("Stop and close"), QMessageBox.ButtonRole.DestructiveRole)
    keep = box.addButton(tr("Keep it running"), QMessageBox.ButtonRole.RejectRole)
    box.setDefaultButton(keep)
    box.setEscapeButton(keep)
    box.exec()
    return box.clickedButton() is stop


def whether_cautions_are_read(over: QWidget, cautions: tuple[str, ...]) -> bool:
    """Put the cautions before the first run on a real machine. Not starting is the default, and what Escape means."""
    box = QMessageBox(over)
    box.setIcon(QMessageBox.Icon.Warning)
    box.setWindowTitle(tr("Before the first run on this machine"))
    box.setText(tr("Before the first run on this machine"))
    box.setInformativeText("\n\n".join(cautions))
    read = box.addButton(tr("I have read this; start"), QMessageBox.ButtonRole.AcceptRole)
    wait = box.addButton(tr("Do not start"), QMessageBox.ButtonRole.RejectRole)
    box.setDefaultButton(wait)
    box.setEscapeButton(wait)
    box.exec()
    return box.clickedButton() is read
