"""What a watch says when something is wrong."""

import msgspec

from niente.core.model.plan import Guard, GuardAction


class Trip(msgspec.Struct, frozen=True):
    """A watch has tripped: what it does, why in words, and the guard of the plan that it belongs to, where there is one."""

    action: GuardAction
    reason: str
    guard: Guard | None = None
