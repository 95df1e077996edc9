"""The check of ten minutes of a hand-over card: the run that it takes, and what moved since the card was made."""

import datetime
import math
from pathlib import Path

import msgspec

from niente.core.analysis.evidence import Evidence, RunSummary
from niente.core.answers.answering import Answering, RunSamples
from niente.core.answers.hand_over import CHECK_S, RISE, tenth_minute
from niente.core.answers.wording import amount
from niente.core.model.answer_document import AnswerFigure, Value
from niente.core.model.errors import DocumentError, NotEnoughError
from niente.core.model.hand_over_card import HandOverCard, ShortCheck
from niente.core.model.limits import Limits
from niente.core.model.names import kind_of
from niente.core.model.plan import Exposure, Plan, Step
from niente.core.model.quantities import duration_text
from niente.core.model.question import TemplateName
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting
from niente.core.planning.templates import anew, first_question, plan_for

A_LITTLE_MORE_S = 20.0
"""So much longer than it needs the run lasts: its last sample comes after the tenth minute."""
CHECK_STAGE = "check"
CAUSES = (
    ({"fan_speed_rpm"}, "The fans do not turn as then: look at the fans' entries, and at the fans."),
    (
        {"package_power_w", "effective_clock_mhz", "throughput_per_s"},
        "It gives other watts, clocks or work at the same entries: an update may have changed what an entry means. Go through "
        "the card's entries again.",
    ),
    (
        {RISE},
        "It is as fast and its fans turn as then, but its core settles elsewhere: filter, dust, paste, its place.",
    ),
    ({"noise_dba"}, "Only its level is another: the room, a bearing, or something that hums along."),
)
"""What a difference most likely comes of, the first that fits. Common practice, no source."""


class ThenAndNow(msgspec.Struct, frozen=True):
    """A figure of the check: what it was, with the interval within which it may differ, and what it is with its 95 %
    half width (``None``: not read)."""

    then: AnswerFigure
    now: float | None
    now_half_width: float = 0.0

    @property
    def moved(self) -> bool:
        """Whether it differs by more than it may, whatever it is within its own interval."""
        then, half_width = self.then.value.value, self.then.value.half_width
        if self.now is None or then is None or half_width is None:
            return False
        return abs(self.now - then) > math.hypot(half_width, self.now_half_width)

    def text(self) -> str:
        """Return both in words: ``Core over the room 51.2 K then, 55.9 K now: moved``."""
        figure = self.then
        then = amount(figure.value, figure.digits, figure.unit)
        if self.now is None:
            return f"{figure.title}: {then} then, not read now"
        now = amount(Value(self.now), figure.digits, figure.unit)
        return f"{figure.title}: {then} then, {now} now{': it moved' if self.moved else ''}"


class CheckedCard(msgspec.Struct, frozen=True):
    """What a check found: the run, its figures then and now, and in words whether the machine still behaves as then."""

    point: str
    run_id: int
    failed: bool
    figures: tuple[ThenAndNow, ...]
    sentence: str
    cause: str

    @property
    def as_then(self) -> bool:
        """Whether nothing moved, and nothing failed."""
        return not self.failed and not any(one.moved for one in self.figures)


def setting_of_card(card: HandOverCard, rig: RigCard) -> Setting:
    """Return the whole setting that a card's entries come to on a rig. Raises ``DocumentError`` for another rig's card."""
    if card.rig != rig.name:
        raise _not_this(f"The card is of {card.machine}, and this is {rig.title}.")
    setting = rig.stock
    for step in card.steps:
        if rig.control(step.control) is None:
            raise _not_this(f"{rig.title} has no control {step.control!r} any more, which the card enters.")
        setting = setting.replaced(step.control, step.value)
    for row in card.curves:
        if problems := rig.refusals(Setting(fan_curve={row.group: row.curve})):
            raise _not_this(f"{rig.title} cannot follow the card's curve: {'; '.join(problems)}.")
        setting = setting.on_curve(row.group, row.curve)
    return setting


def plan_of_check(card: HandOverCard, rig: RigCard, minutes: float = CHECK_S / 60.0) -> Plan:
    """Return the plan of a card's check: one run of its load at its setting, made anew whatever a book holds already. The
    longer it is, the closer it tells whether the core is as warm. Raises ``DocumentError`` for a card without one, or of
    another rig."""
    check = _check_of(card)
    setting = setting_of_card(card, rig)
    lasts_s = max(60.0 * minutes, CHECK_S) + A_LITTLE_MORE_S
    exposure = Exposure(min_s=lasts_s, max_s=lasts_s)
    reason = f"Does it still behave as on {card.made_at[:10]}?"
    step = Step(setting, check.load, exposure, CHECK_STAGE, reason, card.variant)
    return plan_for(rig, anew(first_question(rig, TemplateName.FREE)), entries=(step,))


def check_in(answering: Answering, book: Path, limits: Limits, card: HandOverCard) -> CheckedCard:
    """Return what the latest run of a card's check in a book found, by what its readings came to last; see ``checked_card``."""
    evidence = answering.found(book, limits).evidence
    if evidence is None:
        raise NotEnoughError("Nothing was run in this book yet.", remedy="Run the card's check first.")
    return checked_card(book, evidence, card)


def checked_card(book: Path, evidence: Evidence, card: HandOverCard) -> CheckedCard:
    """Return what the latest run of a card's check in a book found. Raises ``NotEnoughError`` where none was made since the
    card."""
    check, rig = _check_of(card), evidence.card
    setting = setting_of_card(card, rig)
    since = _moment(card.made_at)
    made = [run for run in evidence.runs if _is_check(run, setting, check.load, since)]
    if not made:
        raise NotEnoughError(
            f"No run of {check.load} at the card's setting for {duration_text(CHECK_S)} was made since {card.made_at[:10]}.",
            remedy="Print its plan with --plan, and run that first.",
        )
    run = made[-1]
    now = tenth_minute(RunSamples(book, evidence), rig, run)
    widths = {RISE: run.settled.half_width_k}
    if not run.settled.known:  # what the last minute reads is not where it settles
        now.pop(RISE, None)
    figures = tuple(ThenAndNow(figure, now.get(figure.name), widths.get(figure.name, 0.0)) for figure in check.figures)
    return CheckedCard(card.point, run.run_id, run.failures > 0, figures, *_words(card, run, figures))


def _is_check(run: RunSummary, setting: Setting, load: str, since_s: float) -> bool:
    same = run.setting == setting and run.load == load
    return same and run.opened_at > since_s and (run.seconds >= CHECK_S or run.failures > 0)


def _words(card: HandOverCard, run: RunSummary, figures: tuple[ThenAndNow, ...]) -> tuple[str, str]:
    """Return whether the machine behaves as then, and what a difference most likely comes of."""
    moved = {kind_of(one.then.name) for one in figures if one.moved}
    since = f"since {card.made_at[:10]}"
    if run.failures > 0:
        return (
            f"It failed in run {run.run_id}: this setting does not hold any more.",
            "Go back to stock, and look for a setting anew; until then trust nothing that it computes.",
        )
    if not moved:
        unread = [one.then.title for one in figures if one.now is None]
        rest = f" Not read: {', '.join(unread)}." if unread else ""
        return f"The machine behaves as it did {since}.{rest}", ""
    names = [one.then.title for one in figures if one.moved]
    cause = next((words for kinds, words in CAUSES if kinds & moved), "")
    return f"{', '.join(names)} moved {since}.", cause


def _moment(made_at: str) -> float:
    """Return when a card was made, in seconds of the epoch. Raises ``DocumentError`` for a text that is no moment."""
    try:
        return datetime.datetime.fromisoformat(made_at).timestamp()
    except (ValueError, OverflowError):
        raise DocumentError(
            f"The card says that it was made at {made_at!r}, which is no moment.",
            safe="Nothing was changed.",
            remedy="Write it as 2026-03-14T20:00:00+00:00, or make the card anew.",
        ) from None


def _check_of(card: HandOverCard) -> ShortCheck:
    if card.check is None:
        raise DocumentError(
            "The card has no check: the heaviest load was never run at its setting for ten minutes.",
            safe="Nothing was changed.",
            remedy="Run it there, and make the card anew.",
        )
    return card.check


def _not_this(happened: str) -> DocumentError:
    return DocumentError(happened, safe="Nothing was changed.", remedy="Use a card of this machine.")
