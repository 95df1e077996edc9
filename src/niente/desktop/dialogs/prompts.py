"""What is asked in a dialog of its own: a file, a note, whether a running plan may end."""

from enum import StrEnum
from pathlib import Path

from PySide6.QtWidgets import QFileDialog, QWidget

from niente.core.model.errors import NienteError
from niente.desktop.dialogs.sheet import LineDialog, QuestionDialog
from niente.desktop.services.translation import tr


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


def where_to_save_table(over: QWidget, name: str) -> Path | None:
    """Ask where a table is to be written."""
    file, _ = QFileDialog.getSaveFileName(over, tr("Save table as"), f"{name}.csv", tr("Tables (*.csv)"))
    return Path(file) if file else None


def where_to_save_picture(over: QWidget, name: str) -> Path | None:
    """Ask where a picture is to be written."""
    file, _ = QFileDialog.getSaveFileName(over, tr("Save picture as"), f"{name}.png", tr("Pictures (*.png *.svg)"))
    return Path(file) if file else None


def where_to_save_card(over: QWidget, name: str) -> Path | None:
    """Ask where a hand-over card is to be written."""
    kinds = tr("Pages to print (*.pdf *.html);;Cards (*.json);;Text (*.txt);;Scripts to read (*.sh)")
    file, _ = QFileDialog.getSaveFileName(over, tr("Save hand-over card as"), f"{name}.pdf", kinds)
    return Path(file) if file else None


def where_to_save_curves(over: QWidget, name: str) -> Path | None:
    """Ask for the file to write fan curves to, as a table or as JSON."""
    kinds = tr("Tables (*.csv);;Curves (*.json)")
    file, _ = QFileDialog.getSaveFileName(over, tr("Save fan curves as"), f"{name}.csv", kinds)
    return Path(file) if file else None


def for_card(over: QWidget) -> Path | None:
    """Ask for a hand-over card."""
    name, _ = QFileDialog.getOpenFileName(over, tr("Check a hand-over card"), "", tr("Cards (*.json)"))
    return Path(name) if name else None


def whether_check_is_planned(over: QWidget, error: NienteError, setting: str) -> bool:
    """Ask whether the run of a card's check is to come next. Planning nothing is the default, and what Escape means."""
    more = tr("It sets {setting} and runs the heaviest load for ten minutes; nothing starts by itself.").format(setting=setting)
    return _whether(over, tr("Plan the card's check?"), error.happened, more, (tr("Plan it"), tr("Plan nothing")))


def for_point_name(over: QWidget, name: str) -> str:
    """Ask what a setting is to be kept as; empty where it is not to be."""
    lead = tr("The name that the setting is kept under; one of the same name is replaced.")
    return LineDialog(over, tr("Keep as a point"), lead, tr("Keep it"), name).ask()


def for_sheet(over: QWidget) -> Path | None:
    """Ask for a rig sheet."""
    name, _ = QFileDialog.getOpenFileName(over, tr("Import rig sheet"), "", tr("Rig sheets (*.json)"))
    return Path(name) if name else None


def where_to_save_sheet(over: QWidget, name: str) -> Path | None:
    """Ask where a rig sheet is to be written."""
    file, _ = QFileDialog.getSaveFileName(over, tr("Export rig sheet"), f"{name}.json", tr("Rig sheets (*.json)"))
    return Path(file) if file else None


def where_to_make_book(over: QWidget, title: str) -> Path | None:
    """Ask where a new book is to be made."""
    file, _ = QFileDialog.getSaveFileName(over, tr("New book"), f"{title}.niente", tr("Niente books (*.niente)"))
    return Path(file) if file else None


def whether_hands_are_done(over: QWidget, hands: str, cautions: str) -> bool:
    """Ask whether hands have done what another variant wants. Not yet is the default, and what Escape means."""
    title = tr("Work for hands")
    return _whether(over, title, hands, cautions, (tr("It is done"), tr("Not yet")))


def for_note(over: QWidget) -> str:
    """Ask for a note; empty where there is none."""
    return LineDialog(over, tr("Note"), tr("Written into the book with this moment's time."), tr("Write it")).ask()


def for_question_name(over: QWidget, name: str) -> str:
    """Ask what a question is to be kept as; empty where it is not to be."""
    return LineDialog(over, tr("Keep question"), tr("The name it is kept under."), tr("Keep it"), name).ask()


class ClosingChoice(StrEnum):
    """What becomes of a running plan when its window closes."""

    STAY = "stay"
    KEEP_RUNNING = "keep running"
    STOP = "stop"


def whether_to_end(over: QWidget, logging_out_ends_it: bool = False) -> ClosingChoice:
    """Ask what becomes of a running plan. Not closing is the default, and what Escape means."""
    title = tr("A plan is running")
    text = tr("What should happen to it?")
    more = tr(
        "It can go on without a window, under its guards. If it is stopped, every sample is kept, and it can go on later."
    )
    if logging_out_ends_it:
        more += " " + tr("Logging out ends it on this system: it is then stopped and the machine restored.")
    keep, stop, stay = tr("Close and keep running"), tr("Stop and close"), tr("Do not close")
    given = QuestionDialog(over, title, text, more).ask(keep, stop, safe=stay)
    return {keep: ClosingChoice.KEEP_RUNNING, stop: ClosingChoice.STOP}.get(given, ClosingChoice.STAY)


def whether_cautions_are_read(over: QWidget, cautions: tuple[str, ...]) -> bool:
    """Put the cautions before the first run on a real machine. Not starting is the default, and what Escape means."""
    title = tr("Before the first run on this machine")
    return _whether(over, title, title, "\n\n".join(cautions), (tr("I have read this; start"), tr("Do not start")))


def whether_voltage_may_rise(over: QWidget, raised: tuple[str, ...]) -> bool:
    """Ask, each time, whether a plan may put voltages above stock. No is the default, and what Escape means."""
    title = tr("Put a voltage above stock?")
    text = tr("This sets {settings}.").format(settings="; ".join(raised))
    more = tr(
        "More voltage ages and can destroy a processor. The maker's limit comes first and holds in any case. Stay with it "
        "while it runs; a shut-down comes earlier at a high voltage."
    )
    return _whether(over, title, text, more, (tr("Raise it, this once"), tr("Do not start")))


def whether_setting_stays(over: QWidget, setting: str, evidence: str, *, simulated: bool) -> bool:
    """Ask whether the machine is to keep a setting, the bench gone or not. Leaving it is the default, and what Escape means."""
    text = tr("Set the machine to {setting}, and leave it so?").format(setting=setting)
    more = tr(
        "{evidence}\n\nNo load is started. The setting stays once Niente ends, until a plan begins, “Stop and restore” puts "
        "the safe one back, or the machine is started anew.\n\nGuards watch only while a plan runs: the machine's own cap and "
        "shut-down are what is left. An unstable processor corrupts files: keep a backup."
    ).format(evidence=f"{evidence.rstrip('.')}.")
    if simulated:
        more += "\n\n" + tr("This machine is simulated, and ends with the book that is open.")
    return _whether(over, tr("Keep this setting?"), text, more, (tr("Keep it"), tr("Leave the machine as it is")))


def whether_driver_may_run(over: QWidget, error: NienteError) -> bool:
    """Ask whether a driver that a book names may run. No is the default, and what Escape means."""
    more = tr("A driver can do on this computer whatever you can. Run it only if it is yours, or you know whose it is.")
    return _whether(over, tr("Run this driver?"), error.happened, more, (tr("Run the driver"), tr("Do not run it")))


def whether_search_may_go(over: QWidget, runs: int, then: int) -> bool:
    """Ask whether a whole search is to be left out. Keeping it is the default, and what Escape means."""
    text = tr("This run is part of a search in which each run follows from the one before: they can only be left out together.")
    more = tr("{n} runs still to come will be left out.").format(n=runs)
    if then:
        more += " " + tr("{n} runs that use its result are then made without it.").format(n=then)
    return _whether(over, tr("Leave the search out?"), text, more, (tr("Leave the search out"), tr("Keep it")))


def _whether(over: QWidget, title: str, text: str, more: str, answers: tuple[str, str]) -> bool:
    """Ask with two answers in words; the second is the safe one: the default, and what Escape means."""
    yes, safe = answers
    return QuestionDialog(over, title, text, more).ask(yes, safe=safe) == yes
