"""One trial of a comparison: a load at one way of setting the fans in both states, its pairs, and what they show."""

import math
from collections.abc import Sequence
from itertools import pairwise

from niente.core.analysis.evidence import RunSummary
from niente.core.answers.material import (
    AnswerMaterial,
    against,
    clock_of,
    load_card,
    minus,
    noise_of_run,
    pooled,
    rise_of,
)
from niente.core.answers.wording import amount, bare, listed, load_title
from niente.core.model.answer_document import (
    Spread,
    Value,
    value_of,
)
from niente.core.model.plan import Step
from niente.core.science.statistics import Z95

TOO_SMALL_K, TOO_SMALL_MHZ = 0.5, 10.0
"""Differences within these do not matter to anybody; common practice, no source."""
MOUNTING_SD_K = 1.0
"""By how much a cooler that is mounted again lies from how it was: single runs that differ by 1 to 3 K show nothing (common
practice, no source)."""
MOST_PAIRS = 40


class Trial:
    """One load at one way of setting the fans, in both states: its pairs, what they differ by, and the verdict."""

    def __init__(self, of: AnswerMaterial, step: Step, sides: tuple[list[RunSummary], list[RunSummary]], mounted: bool) -> None:
        self.of, self.step, self.sides, self.mounted = of, step, sides, mounted
        self.pairs = list(zip(*sides, strict=False))
        self.by_clock = any(run.heat_limited for pair in self.pairs for run in pair)
        self.digits, self.unit, self.zone = (0, "MHz", TOO_SMALL_MHZ) if self.by_clock else (1, "K", TOO_SMALL_K)
        self.each = [difference for pair in self.pairs if (difference := self._of(pair)).value is not None]
        self.value = self._together()

    def _of(self, pair: tuple[RunSummary, RunSummary]) -> Value:
        """Return what B has over A in one pair: of the rise over the room, or of the clock."""
        first, second = pair
        if self.by_clock:
            return minus(clock_of(second), clock_of(first))
        return minus(rise_of(second), rise_of(first))

    def _together(self) -> Value:
        value = pooled(self.each)
        width = value.half_width
        if value.value is None or width is None or not self.mounted or self.by_clock:
            return value
        return value_of(value.value, math.hypot(width, Z95 * MOUNTING_SD_K * math.sqrt(sum(1.0 / n for n in self.mountings()))))

    def mountings(self) -> tuple[int, int]:
        """Return how often each state was mounted: two of its runs in a row are one mounting."""
        turns = [side for _, side in in_time(self.sides)]
        begins = [turns[0], *(after for before, after in pairwise(turns) if after != before)] if turns else []
        return max(begins.count(0), 1), max(begins.count(1), 1)

    @property
    def name(self) -> str:
        """What is compared."""
        return load_title(load_card(self.of.card, self.step.load))

    @property
    def how(self) -> str:
        """How the fans of the two states were made alike."""
        if self.step.level_dba is not None:
            return f"equal noise, {bare(self.step.level_dba, 1, 'dBA')}"
        if self.step.speed_rpm:
            return f"equal speed, {listed([bare(rpm, 0, 'rpm') for rpm in self.step.speed_rpm.values()])}"
        if self.step.setting.fan_curve:
            return "fans on their curve"
        lead = self.of.card.lead_group()
        duty = self.step.setting.over(self.of.card.stock).fan_duty.get(lead or "")
        return f"equal duty, {bare(duty, 0, '%')}" if duty is not None else "fans as found"

    @property
    def better(self) -> float:
        """By how much B is better; negative where it is worse."""
        sign = 1.0 if self.by_clock else -1.0
        return sign * self.value.value if self.value.value is not None else 0.0

    @property
    def verdict(self) -> str:
        """What the pairs show, in one of four words."""
        value, width = self.value.value, self.value.half_width
        if value is None:
            return "Not measured in both yet"
        if width is None or len(self.each) < 2:
            return "One pair shows nothing"
        if abs(value) + width <= self.zone:
            return "Too small to matter"
        if abs(value) <= width:
            return "No difference shown"
        return "Better" if self.better > 0 else "Worse"

    def verdict_words(self) -> str:
        """Return the verdict with its figure."""
        if self.verdict in ("Better", "Worse"):
            return f"{self.verdict} by {amount(size_of(self.value), self.digits, self.unit)}"
        return self.verdict

    def pairs_to_show(self) -> int | None:
        """Return how many more pairs would show a difference as large as the one seen, if it is true; ``None`` where a great
        many would not."""
        if self.value.value is None or len(self.each) < 2:
            return 1
        from scipy.stats import t

        mean = abs(self.value.value)
        spread = max(scatter([one.value or 0.0 for one in self.each]), *(one.half_width or 0.0 for one in self.each), 1e-6)
        spread = spread / Z95 if spread > scatter([one.value or 0.0 for one in self.each]) else spread
        wanted = max(mean, self.zone)
        for more in range(1, MOST_PAIRS):
            count = len(self.each) + more
            width = float(t.ppf(0.975, count - 1)) * spread / math.sqrt(count)
            if width < wanted:
                return more
        return None

    def behind(self) -> str:
        """Say what goes with the verdict: the noise, and how many pairs."""
        words = []
        loud = against(noise_of_run, self.sides[1], self.sides[0])
        if loud.value is not None and self.step.level_dba is None and abs(loud.value) >= 0.1:
            louder = "louder" if loud.value > 0 else "quieter"
            words.append(f"{amount(size_of(loud), 1, 'dB')} {louder} so")
        words.append(f"{len(self.each)} pair{'' if len(self.each) == 1 else 's'}")
        if self.verdict == "No difference shown" and (more := self.pairs_to_show()) is not None:
            words.append(f"{more} more would show {bare(max(abs(self.value.value or 0.0), self.zone), self.digits, self.unit)}")
        text = "; ".join(words)
        return f"{text[0].upper()}{text[1:]}."

    def spread(self) -> Spread:
        """Return its row of the picture."""
        each = tuple(one.value for one in self.each if one.value is not None)
        return Spread(self.name, self.how, self.value, each, self.verdict_words(), self.behind())


def in_time(sides: tuple[list[RunSummary], list[RunSummary]]) -> list[tuple[RunSummary, int]]:
    """Return the runs of both states in the order of time, each with its state."""
    return sorted(((run, side) for side in (0, 1) for run in sides[side]), key=lambda one: one[0].opened_at)


def size_of(value: Value) -> Value:
    """Return a difference without its sign."""
    return value_of(abs(value.value), value.half_width) if value.value is not None else value


def scatter(values: Sequence[float]) -> float:
    """Return the standard deviation of differences; 0 for one."""
    mean = sum(values) / len(values)
    return math.sqrt(sum((value - mean) ** 2 for value in values) / max(len(values) - 1, 1))
