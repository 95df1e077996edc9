"""What a setting has to last: the horizon, the chance of a failure in it, and how sure that has to be."""

from typing import Annotated

import msgspec

Chance = Annotated[float, msgspec.Meta(gt=0, lt=1)]
Horizon = Annotated[float, msgspec.Meta(gt=0, le=1e9)]


class FailureGoal(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A failure within ``horizon_s`` seconds is no likelier than ``chance``, with a posterior probability of ``sure``."""

    chance: Chance = 0.01
    sure: Chance = 0.99
    horizon_s: Horizon = 86400.0


A_DAY = FailureGoal()
