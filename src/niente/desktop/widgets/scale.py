"""From a quantity to pixels along a line, and round values on the way."""

import math

from niente.core.model.quantities import number_text


class PixelSpan:
    """Turns a quantity into px along one edge of a picture."""

    def __init__(self, low: float, high: float, start_px: float, end_px: float) -> None:
        self.low, self.high = low, high
        self.start_px, self.end_px = start_px, end_px

    def px(self, value: float) -> float:
        """Return where a value lies."""
        return self.start_px + (value - self.low) / (self.high - self.low) * (self.end_px - self.start_px)

    def value(self, px: float) -> float:
        """Return the value at a position."""
        return self.low + (px - self.start_px) / (self.end_px - self.start_px) * (self.high - self.low)


class QuietSpan(PixelSpan):
    """A span that gives its quiet end the most room: levels over ``low`` as the logarithm of one more than their share of
    ``KNEE_DB``. Near the end a dB is several times as wide as far from it, where settings are too loud to matter."""

    KNEE_DB = 3.0

    def px(self, value: float) -> float:
        """Return where a level lies."""
        return self.start_px + _log_share(value - self.low, self.KNEE_DB) / self._whole * (self.end_px - self.start_px)

    def value(self, px: float) -> float:
        """Return the level at a position."""
        share = (px - self.start_px) / (self.end_px - self.start_px) * self._whole
        return self.low + math.copysign(math.expm1(abs(share)) * self.KNEE_DB, share)

    @property
    def _whole(self) -> float:
        return _log_share(self.high - self.low, self.KNEE_DB)


def _log_share(over: float, knee: float) -> float:
    return math.copysign(math.log1p(abs(over) / knee), over)


def rounded(low: float, high: float, most: int) -> tuple[float, float]:
    """Return a range widened to round values: ``ticks`` of it, as many at most, then stand at both of its ends."""
    if not (math.isfinite(low) and math.isfinite(high)) or high <= low:
        return low, high
    for _ in range(4):  # a wider range may take a wider step
        step = _step(low, high, most)
        wider = (step * math.floor(low / step + 1e-9), step * math.ceil(high / step - 1e-9))
        if wider == (low, high):
            break
        low, high = wider
    return low, high


def end_ticks(low: float, high: float, most: int) -> list[float]:
    """Return round values between two, and the two themselves: for an axis whose ends are given. None stands near an end."""
    inner = ticks(low, high, most)
    if not inner:
        return [low, high]
    near = 0.6 * (inner[1] - inner[0] if len(inner) > 1 else high - low)
    return [low, *(value for value in inner if value - low > near and high - value > near), high]


def ticks_along(span: PixelSpan, least_px: float) -> list[float]:
    """Return whole values along a span, its ends among them, each so far from the next on the screen; round ones come first."""
    found = [span.low, span.high]
    for step in (10.0, 5.0, 2.0, 1.0):
        for value in ticks(span.low, span.high, max(math.ceil((span.high - span.low) / step), 1)):
            multiple = abs(value / step - round(value / step)) < 1e-6
            if multiple and all(abs(span.px(value) - span.px(other)) >= least_px for other in found):
                found.append(value)
    return sorted(found)


def _step(low: float, high: float, most: int) -> float:
    rough = (high - low) / most
    power = 10.0 ** math.floor(math.log10(rough))
    return next(factor * power for factor in (1.0, 2.0, 5.0, 10.0) if factor * power >= rough * 0.999)


def ticks(low: float, high: float, most: int) -> list[float]:
    """Return round values between two, at most about so many: steps of 1, 2 or 5 times a power of ten."""
    if not (math.isfinite(low) and math.isfinite(high)) or high <= low or most < 1:
        return []
    step = _step(low, high, most)
    first = math.ceil(low / step - 1e-9)
    return [position * step for position in range(first, math.floor(high / step + 1e-9) + 1)]


def tick_text(value: float, step: float) -> str:
    """Return a tick's label with the decimals its step needs; one more where a given end lies between them."""
    digits = max(0, -math.floor(math.log10(step) + 1e-9)) if step > 0 else 0
    between = abs(value - round(value, digits)) > 0.04 * 10.0**-digits
    return number_text(value, digits + between)


def apart(positions: list[float], least: float) -> list[float]:
    """Return positions moved so that neighbours stand at least so far from each other, each as near its own as can be."""
    order = sorted(range(len(positions)), key=lambda one: positions[one])
    moved = [positions[one] for one in order]
    for _ in range(4 * len(moved)):
        settled = True
        for one in range(len(moved) - 1):
            short = least - (moved[one + 1] - moved[one])
            if short > 0.01:
                moved[one] -= short / 2
                moved[one + 1] += short / 2
                settled = False
        if settled:
            break
    result = [0.0] * len(positions)
    for position, one in zip(moved, order, strict=True):
        result[one] = position
    return result
