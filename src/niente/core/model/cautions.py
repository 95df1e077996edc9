"""What a person must have read before the first run on a real machine. It defers to makers, local codes and the licensed.

Common practice, no source; the limits are the rig's own.
"""

from niente.core.model.quantities import quantity_of
from niente.core.model.rig_card import RigCard

READ = "cautions read"
"""The kind of happening in a book that says they were read."""


def cautions_for(card: RigCard) -> tuple[str, ...]:
    """Return the cautions for a rig, a short paragraph each, the most important first."""
    limit = quantity_of("core_temperature_c")
    found = [
        f"The maker's limits come first: cores at most {limit.with_unit(card.limits.core_temperature_c)}, shut-down at "
        f"{limit.with_unit(card.limits.shut_down_c)}. The firmware's own cap and shut-down stay on: if Niente itself dies, "
        "they are what is left.",
        "Mains off and unplugged before hands go in, and let a heatsink cool. Liquid and power do not mix. Local electrical "
        "rules hold, and mains work is for licensed people.",
        "Cooling below the room needs the dew point: keep every surface above it, or water forms on live boards.",
        "Stay within reach during the first runs. Niente ends a run at its guards; do not wait for a smell.",
    ]
    if card.control("voltage_offset_mv") is not None:
        found.insert(
            1,
            "An unstable processor corrupts files. Back up first, lower a voltage in small steps, and test on data that can "
            "be lost; trust no file that was written while a search ran.",
        )
    return tuple(found)
