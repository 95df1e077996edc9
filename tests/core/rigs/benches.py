"""Stand-ins on the bench of a test: opened by name and variant, with changes to their file where a test asks for them."""

from functools import cache
from typing import Any

import msgspec

from niente.core.model.setting import Setting
from niente.core.rigs.simulated.machine_files import MachineFile, merged, shipped_file
from niente.core.rigs.simulated.rig import SimulatedRig
from niente.core.rigs.simulated.truth import TrueSteadyState

SEED = 3


def stand_in(name: str, variant: str | None = None, seed: int = SEED, **changes: Any) -> SimulatedRig:
    """A machine that ships, in one of its variants; ``changes`` are merged into its file first."""
    file = shipped_file(name)
    if changes:
        file = MachineFile(merged(file.document, changes), f"{name}, changed")
    rig = SimulatedRig(file, seed=seed)
    if variant is not None:
        rig.become(variant)
    return rig


@cache
def _opened(name: str, variant: str | None, seed: int) -> SimulatedRig:
    return stand_in(name, variant, seed)


def settled(
    name: str,
    load: str,
    room_c: float,
    variant: str | None = None,
    *,
    seed: int = SEED,
    duty: dict[str, float] | None = None,
    hours: float = 4.0,
    **setting: Any,
) -> TrueSteadyState:
    """Where a machine settles; the setting stands over its stock one."""
    at = msgspec.structs.replace(Setting(**setting), fan_duty=duty or {})
    return _opened(name, variant, seed).true_settled(at, load, room_c, hours)


def level_dba(name: str, variant: str | None = None, **duty: float) -> float:
    """The level at a machine's meter for fixed duties, at rest."""
    return _opened(name, variant, SEED).true_level_dba(duty)
