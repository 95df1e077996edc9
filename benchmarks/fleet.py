"""Many samples at once: the compiled plant does not hold the interpreter, so that they run side by side."""

import os
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor

import numpy as np

from niente.core.rigs.simulated.rig import SimulatedRig
from niente.core.science.arrays import Array


def record_all(rigs: Sequence[SimulatedRig], seconds: int, workers: int | None = None) -> Array:
    """Let rigs of one kind run on as they stand, for that many seconds each; return ``(rigs, seconds, channels)``.

    ``workers`` threads share the work, by default one a processor core.
    """
    channels = {len(rig.describe().channels) for rig in rigs}
    if len(channels) != 1:
        raise ValueError("the rigs have to be of one kind, and at least one")
    rows = np.empty((len(rigs), seconds, channels.pop()))

    def run(index: int) -> None:
        rows[index] = rigs[index].record(seconds)[1]

    with ThreadPoolExecutor(workers or os.cpu_count() or 1) as pool:
        list(pool.map(run, range(len(rigs))))
    return rows
