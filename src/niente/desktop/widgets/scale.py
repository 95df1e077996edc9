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


def ticks(low: float, high: float, most: int) -> list[float]:
    """Return round values between two, at most about so many: steps of 1, 2 or 5 times a power of ten."""
    if not (math.isfinite(low) and math.isfinite(high)) or high <= low or most < 1:
        return []
    rough = (high - low) / most
    power = 10.0 ** math.floor(math.log10(rough))
    step = next(factor * power for factor in (1.0, 2.0, 5.0, 10.0) if factor * power >= rough * 0.999)
    first = math.ceil(low / step - 1e-9)
    return [position * step for position in range(first, math.floor(high / step + 1e-9) + 1)]


def tick_text(value: float, step: float) -> str:
    """Return a tick's label with the decimals its step needs."""
    digits = max(0, -math.floor(math.log10(step) + 1e-9)) if step > 0 else 0
    return number_text(value, digits)


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
