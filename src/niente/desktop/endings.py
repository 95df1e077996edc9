"""What is said when something ends: a plan, or the machine under it."""

from niente.core.bench.events import PlanEnded
from niente.core.quantities import duration_text
from niente.desktop.live import GO_ON, Ending, LiveRun, Notice
from niente.desktop.tongue import tr


def crash_notice(live: LiveRun | None) -> Notice:
    """Return the word on a machine that went down and came back: at which setting, and that the plan goes on."""
    if live is None:
        return Notice(tr("The machine went down and started again."))
    step = live.opened.step
    words = tr("The machine went down at {setting} under {load}, after {t}. That is a failure there; the plan goes on.")
    said = words.format(setting=step.setting.text(), load=step.load, t=duration_text(live.samples.seconds))
    return Notice(said, "run.hold_after", tr("Hold after the next"))


def ending_of(title: str, ended: PlanEnded) -> Ending:
    """Return the word for the desktop: how a plan ended, and whether somebody should come."""
    words = tr("The plan is done.") if ended.complete else tr("The plan is {how}.").format(how=ended.why)
    return Ending(title, ended.error.happened if ended.error is not None else words, urgent=ended.error is not None)


def end_notice(ended: PlanEnded) -> Notice:
    """Return the word for the message bar."""
    if ended.error is not None:
        return Notice(str(ended.error), "plan.start", GO_ON)
    if ended.complete:
        return Notice(tr("The plan is done. The pick stands on the Choose page."), "page.choose")
    words = tr("The plan is {how}. The rig is restored and every sample is kept.")
    return Notice(words.format(how=ended.why), "plan.start", GO_ON)
