"""A fan curve: a fan group's duty over what its sensors read."""

import enum
from itertools import pairwise

import msgspec
import numpy as np

from niente.core.model.quantities import NO_BREAK_SPACE, quantity_of
from niente.core.science.arrays import Vector

CORE = "core_temperature_c"
MAX_POINTS, MAX_BANDS = 16, 4
"""More than any board takes."""
MAX_SMOOTHING_S = 600.0


class Combined(enum.StrEnum):
    """What counts of several sensors."""

    LARGEST = "largest"
    MEAN = "mean"


class FanCurve(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A fan group's duty over a temperature: points (°C, %) in rising order, straight in between and flat outside.

    ``source`` is the channel it follows (where a machine has several of it, the hottest), ``more_sources`` are others beside
    it, of which the largest or the mean counts. The temperature is averaged over ``smoothing_s`` first. Falling temperatures
    count only once they have fallen by ``hysteresis_k``; the duty moves by at most the two ramps, and never under
    ``floor_percent``.

    Below ``off_below_c`` the fans stand, where ``off_below_w`` is given only while the package draws less than that as well;
    they turn again at ``on_again_c`` (none: where they were let go). ``avoided`` are bands of duty (%, %) in which a fan or
    its panel resonates: the duty never rests inside, it goes on to the upper edge, and fast.
    """

    source: str
    points: tuple[tuple[float, float], ...]
    hysteresis_k: float = 2.0
    ramp_up_percent_per_s: float = 2.0
    ramp_down_percent_per_s: float = 1.0
    off_below_c: float | None = None
    smoothing_s: float = 0.0
    off_below_w: float | None = None
    on_again_c: float | None = None
    floor_percent: float = 0.0
    avoided: tuple[tuple[float, float], ...] = ()
    more_sources: tuple[str, ...] = ()
    combined: Combined = Combined.LARGEST

    @property
    def sources(self) -> tuple[str, ...]:
        """All channels that it follows."""
        return (self.source, *self.more_sources)

    @property
    def source_words(self) -> str:
        """What it follows, in words: ``core temperature``, ``mean of core and coolant temperature``."""
        names = [quantity_of(one).title.lower() for one in self.sources]
        if len(names) == 1:
            return names[0]
        return f"{self.combined.value} of {', '.join(names[:-1])} and {names[-1]}"

    @property
    def text(self) -> str:
        """The curve in words, as it is entered: ``73 °C 20 %, 81 °C 29 %; up 0.5, down 0.2 %/s, hysteresis 3 K``; one that
        follows another sensor than the core's says so first."""
        space = NO_BREAK_SPACE
        words = "" if self.sources == (CORE,) else f"over the {self.source_words}: "
        words += ", ".join(f"{celsius:g}{space}°C {duty:g}{space}%" for celsius, duty in self.points)
        words += f"; up {self.ramp_up_percent_per_s:g}, down {self.ramp_down_percent_per_s:g}{space}%/s"
        words += f", hysteresis {self.hysteresis_k:g}{space}K"
        words += f", averaged over {self.smoothing_s:g}{space}s" if self.smoothing_s else ""
        words += f", never under {self.floor_percent:g}{space}%" if self.floor_percent else ""
        if self.off_below_c is not None:
            words += f", off below {self.off_below_c:g}{space}°C"
            words += f" and {self.off_below_w:g}{space}W" if self.off_below_w is not None else ""
            words += f", on again at {self.on_again_c:g}{space}°C" if self.on_again_c is not None else ""
        for low, high in self.avoided:
            words += f", not between {low:g} and {high:g}{space}%"
        return words

    def duty(self, celsius: Vector) -> Vector:
        """Return the duties in % that points and floor give at temperatures ``(n,)`` in °C, straight in between and flat
        outside; of where the fans stand, and of bands that are crossed, it says nothing."""
        points = np.array(self.points)
        found: Vector = np.maximum(np.interp(celsius, points[:, 0], points[:, 1]), self.floor_percent)
        return found

    def problems(self) -> list[str]:
        """Return what is impossible about this curve, in words."""
        rules = (
            (not self.points, "it has no points"),
            (len(self.points) > MAX_POINTS, f"it has more than {MAX_POINTS} points"),
            (any(b[0] <= a[0] for a, b in pairwise(self.points)), "its temperatures do not rise from point to point"),
            (any(not 0.0 <= duty <= 100.0 for _, duty in self.points), "a duty lies outside 0 to 100 %"),
            (
                self.hysteresis_k < 0 or self.ramp_up_percent_per_s <= 0 or self.ramp_down_percent_per_s <= 0,
                "its hysteresis and ramps have to be positive",
            ),
            (self.smoothing_s < 0, "its smoothing has to be positive"),
            (not 0.0 <= self.floor_percent <= 100.0, "its floor lies outside 0 to 100 %"),
            (len(set(self.sources)) < len(self.sources), "it follows one sensor twice"),
        )
        return [words for broken, words in rules if broken] + self._off_problems() + self._band_problems()

    def dangers(self) -> list[str]:
        """Return in words what a curve that is drawn here must not do, though a machine may be found with it: fans that stand
        on the word of one sensor."""
        if self.off_below_c is not None and self.off_below_w is None:
            return ["its fans may stand only where a low power says so as well: one sensor may be wrong"]
        return []

    def _off_problems(self) -> list[str]:
        """Return what is impossible about where the fans stand."""
        if self.off_below_c is None:
            alone = self.off_below_w is not None or self.on_again_c is not None
            return ["it says when the fans turn again, but not below which temperature they stand"] if alone else []
        rules = (
            (
                len(self.points) > 1 and self.off_below_c > self.points[0][0],
                f"its fans stand below {self.off_below_c:g} °C, which lies over its first point",
            ),
            (
                self.on_again_c is not None and self.on_again_c < self.off_below_c,
                "its fans would turn again below where they stand",
            ),
            (self.off_below_w is not None and self.off_below_w <= 0.0, "its fans would stand under no power only"),
        )
        return [words for broken, words in rules if broken]

    def _band_problems(self) -> list[str]:
        """Return what is impossible about the bands that are avoided."""
        found = [f"it has more than {MAX_BANDS} bands"] if len(self.avoided) > MAX_BANDS else []
        if any(not 0.0 <= low < high <= 100.0 for low, high in self.avoided):
            found.append("a band to avoid lies outside 0 to 100 %, or ends before it begins")
        elif any(b[0] < a[1] for a, b in pairwise(self.avoided)):
            found.append("its bands to avoid overlap, or are out of order")
        return found
