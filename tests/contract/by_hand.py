"""A machine that hands have to set, and that is no simulation as far as anybody is told."""

import msgspec

from niente.core.model.rig_card import RigCard
from niente.core.rigs.simulated.machine_files import shipped_file
from niente.core.rigs.simulated.rig import SimulatedRig


class RealPlover(SimulatedRig):
    """A machine whose power limit hands set in the firmware's setup, and that is no simulation as far as anybody is told."""

    def describe(self) -> RigCard:
        return msgspec.structs.replace(super().describe(), simulated=False)


def real_plover(seed: int = 1, pace: float | None = None) -> RealPlover:
    return RealPlover(shipped_file("plover"), seed=seed, pace=pace)
