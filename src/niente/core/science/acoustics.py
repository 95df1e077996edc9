"""Levels, and how a fan's level follows its speed."""

import math

import msgspec
import numpy as np

from niente.core.science.arrays import Array, Vector
from niente.core.science.statistics import Z95, mean_with_error


def add_levels(levels_db: Array, axis: int = -1) -> Array:
    """Return the energetic sum of levels along an axis, in dB: 10 lg (sum of 10^(L/10)).

    The textbook sum of incoherent sources; two equal ones are 3.01 dB above one.
    """
    total: Array = 10.0 * np.log10(np.sum(10.0 ** (np.asarray(levels_db) / 10.0), axis=axis))
    return total


def level_mean(levels_db: Vector) -> tuple[float, float]:
    """Return the energetic mean of levels ``(n,)`` over time or positions, in dB, and its standard error.

    L = 10 lg(mean of 10^(L/10)) (ISO 3744, 8.2.2; for time the equivalent level of IEC 61672-1; clauses from memory). Levels
    averaged as numbers would lie lower wherever they vary. NaN are left out; (NaN, infinity) where nothing is left.
    """
    known = levels_db[np.isfinite(levels_db)]
    if not known.shape[0]:
        return math.nan, math.inf
    top = float(np.max(known))  # energies over the highest level cannot overflow
    mean, error = mean_with_error(10.0 ** ((known - top) / 10.0))
    return top + 10.0 * math.log10(mean), 10.0 / math.log(10.0) * error / mean


def level_at(alone_dba: float, from_m: float, to_m: float, background_dba: float | None) -> float:
    """Return the level of a machine at another distance, in dBA, over the background there (``None``: without it).

    Direct sound by the inverse square: 20 lg of the ratio of the distances (textbook). In a room the level falls off more
    slowly far from the machine, so that this is the least that is heard there.
    """
    carried = alone_dba - 20.0 * math.log10(to_m / from_m)
    return carried if background_dba is None else float(add_levels(np.array([carried, background_dba])))


def at_listener(
    alone_dba: float, alone_se_db: float, from_m: float, to_m: float, background_dba: float | None
) -> tuple[float, float]:
    """Return the level of a machine at a listener's place, as ``level_at`` has it, and its standard error in dB: that of the
    machine, as far as the background there lets it through."""
    level = level_at(alone_dba, from_m, to_m, background_dba)
    carried = level_at(alone_dba, from_m, to_m, None)
    return level, alone_se_db * 10.0 ** ((carried - level) / 10.0)


SURVEY_DB, ENGINEERING_DB = 3.0, 6.0
"""How far a reading has to lie over the background for a figure of the machine alone: by the survey and by the engineering
method (ISO 3746 and ISO 3744; limits from memory)."""


class Alone(msgspec.Struct, frozen=True):
    """The machine alone, as told from a reading in a room: ``dba`` ± ``half_width_db`` (95 %), or where the reading lies too
    close to the background only an upper bound (``bound``). ``method`` is the standard whose rule it keeps; empty: none."""

    dba: float
    half_width_db: float
    bound: bool
    method: str

    def text(self) -> str:
        """Return it in words: a level with its interval, or that it is too close to the room to tell."""
        if self.bound:
            return f"at most {self.dba:.1f} dBA, too close to the room to tell"
        return f"{self.dba:.1f} ± {self.half_width_db:.1f} dBA"


def machine_alone(level_dba: float, level_se_db: float, background_dba: float, background_se_db: float) -> Alone:
    """Return what the machine alone is, from a reading with the machine on and one of the room, each with its standard
    error in dB.

    L_alone = L - K1, with K1 as in ``background_correction_db``. Less than 3 dB over the background K1 is held at 3 dB and
    the figure is an upper bound (ISO 3746; ISO 3744 wants 6 dB for its own grade; clauses from memory).
    """
    difference = level_dba - background_dba
    correction = background_correction_db(difference)
    if correction is None:
        bound = -10.0 * math.log10(1.0 - 10.0 ** (-0.1 * SURVEY_DB))
        return Alone(level_dba - bound, Z95 * level_se_db, True, "")
    share = 10.0 ** (-0.1 * difference)
    gain = 1.0 / (1.0 - share)  # how a change of the reading, and of the room, moves the figure
    error = math.hypot(gain * level_se_db, gain * share * background_se_db)
    method = "ISO 3744" if difference >= ENGINEERING_DB else "ISO 3746"
    return Alone(level_dba - correction, Z95 * error, False, method)


def background_correction_db(difference_db: float) -> float | None:
    """Return K1, what the background adds to a reading that lies ``difference_db`` above it, in dB.

    K1 = -10 lg(1 - 10^(-0.1 dL)); ``None`` below 3 dB, where the reading is only an upper bound for the machine
    (ISO 3746, from memory).
    """
    if difference_db < 3.0:
        return None
    return -10.0 * math.log10(1.0 - 10.0 ** (-0.1 * difference_db))
