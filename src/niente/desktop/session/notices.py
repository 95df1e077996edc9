"""Notices for the message bar and the desktop: what happened, what is safe, what to do."""

from enum import StrEnum

import msgspec

from niente.core.acquisition.client import BenchLost
from niente.core.model.quantities import duration_text
from niente.core.model.records import MadeSafe, PlanEnded, SettingStays
from niente.core.model.rig_card import RigCard
from niente.core.selection.setting_words import setting_text
from niente.desktop.services.translation import tr
from niente.desktop.session.live_run import LiveRun


class NoticeEnd(StrEnum):
    """What ends a notice: what it says is true no longer then. Others stay until a person puts them away."""

    PLAN_BEGINS = "plan begins"
    RUN_BEGINS = "run begins"
    COMMAND_PASSES = "command passes"
    BOOK_OPENS = "book opens"


class Notice(msgspec.Struct, frozen=True):
    """Something for the message bar: what happened, what is safe, what to do; and an action, where one helps.

    ``label`` is what the action is called here, where its own name does not fit; ``until`` is what ends it.
    """

    text: str
    action: str = ""
    label: str = ""
    until: NoticeEnd | None = None


class Ending(msgspec.Struct, frozen=True):
    """How a plan ended: whether to the end, in a few words, and whether somebody should come."""

    title: str
    text: str
    urgent: bool


def crash_notice(live: LiveRun | None) -> Notice:
    """Return the word on a machine that went down and came back: at which setting, and that the plan goes on."""
    if live is None:
        return Notice(tr("The machine went down and started again."))
    step = live.opened.step
    words = tr("The machine went down at {setting} under {load}, after {t}. That is a failure there; the plan goes on.")
    text = words.format(setting=step.setting.text(), load=step.load, t=duration_text(live.samples.seconds))
    return Notice(text, "run.pause_after", tr("Pause after the next"))


def ending_of(title: str, ended: PlanEnded) -> Ending:
    """Return the word for the desktop: how a plan ended, and whether somebody should come."""
    words = tr("The plan is done.") if ended.complete else tr("The plan is {reason}.").format(reason=ended.reason)
    return Ending(title, ended.error.happened if ended.error is not None else words, urgent=ended.error is not None)


def end_notice(ended: PlanEnded) -> Notice:
    """Return the word for the message bar."""
    if ended.error is not None:
        return Notice(str(ended.error), "plan.start", until=NoticeEnd.PLAN_BEGINS)
    if ended.complete:
        words = tr("The plan is done. Its result is on the Answer page.")
        return Notice(words, "page.answer", until=NoticeEnd.PLAN_BEGINS)
    words = tr("The plan is {reason}. The rig is restored and every sample is kept.")
    return Notice(words.format(reason=ended.reason), "plan.start", until=NoticeEnd.PLAN_BEGINS)


def variant_notice(runs: int, before: str, now: str) -> Notice:
    """Return the word on a machine that was changed: what was measured before the change, and that the two can be compared."""
    words = tr("The machine is {now} now. {runs} with {before} are kept, and count for that.")
    made = tr("1 run") if runs == 1 else tr("{n} runs").format(n=runs)
    text = words.format(now=now, runs=made, before=before)
    return Notice(text, "plan.compare", until=NoticeEnd.PLAN_BEGINS)


def looking_on(title: str) -> Notice:
    """Return the word for a window that only looks on."""
    words = tr(
        "Another window or terminal runs {title} and writes this book. This window is view-only, and changes nothing there."
    )
    return Notice(words.format(title=title), "bench.ask", until=NoticeEnd.COMMAND_PASSES)


def commanding(title: str) -> Notice:
    """Return the word for a window that commands from now on."""
    return Notice(tr("This window commands {title} from now on.").format(title=title))


def command_asked() -> Notice:
    """Return the word on another client that asks for command."""
    words = tr("Another window or terminal asks for command. Until it is handed over, everything goes on as it is.")
    return Notice(words, "bench.hand_over", until=NoticeEnd.COMMAND_PASSES)


def lost_notice(lost: BenchLost) -> Notice:
    """Return the word on a bench that is gone: what happened, what is left, what to do."""
    if lost.text:
        return Notice(f"{lost.text} " + tr("Open the book again to go on."), "book.reopen", until=NoticeEnd.BOOK_OPENS)
    where = tr(" in the middle of a plan") if lost.ran else ""
    words = tr(
        "The bench's process ended without a word{where}. Its guardian makes the machine safe; every sample is kept. "
        "Open the book again, and the plan goes on from there."
    )
    return Notice(words.format(where=where), "book.reopen", until=NoticeEnd.BOOK_OPENS)


def stays_notice(told: SettingStays, card: RigCard | None) -> Notice:
    """Return the word on a setting that the machine keeps, that it keeps no more, or that could not be put in force."""
    if told.problem:
        words = tr("The setting was not put in force: {why} The machine has its safe setting.")
        return Notice(words.format(why=told.problem if told.problem.endswith(".") else f"{told.problem}."))
    if told.setting is None:
        words = tr("The machine keeps no setting any more: the safe one is put back as ever.")
        return Notice(words, until=NoticeEnd.RUN_BEGINS)
    setting = setting_text(told.setting, card.stock) if card is not None else ""
    words = tr("The machine keeps {setting}, also once Niente ends. No load runs, and no guard watches it.")
    text = words.format(setting=setting or tr("its setting as found"))
    return Notice(text, "run.stop", tr("Put the safe setting back"), until=NoticeEnd.PLAN_BEGINS)


def guardian_notice(said: MadeSafe) -> Notice:
    """Return the word on what a guardian did."""
    more = tr("Every sample is kept. Open the book again, and the plan goes on from there.")
    return Notice(f"{said.text} {more}", "book.reopen", until=NoticeEnd.BOOK_OPENS)
