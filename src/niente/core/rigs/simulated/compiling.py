"""Compiling the plant ahead of its first use, and saying how far that is. It is needed once after a change of its sources."""

import threading
from collections.abc import Callable
from pathlib import Path

import numba
from numba.core.dispatcher import Dispatcher

from niente.core.rigs.simulated import (
    acoustics,
    air,
    fan_curves,
    flow_network,
    network,
    plant,
    power,
    sensors,
    silicon,
    streams,
    throughput,
)

Progress = Callable[[str], None]
LOOK_S = 0.5


def compile_plant(progress: Progress) -> None:
    """Compile the plant, where its cache is not there yet; ``progress`` is told in words how far it is.

    ``progress`` may raise to be told no more; what is compiled by then is kept.
    """
    functions = _functions()
    if _in_cache(functions) == len(functions):
        return
    failed: list[BaseException] = []

    def work() -> None:
        try:
            _run_once()
        except BaseException as error:
            failed.append(error)

    worker = threading.Thread(target=work, name="niente-compiler", daemon=True)
    worker.start()
    while worker.is_alive():
        done = _in_cache(functions)
        progress(f"Compiling the simulated machines, once after an update: {done} of {len(functions)} functions …")
        worker.join(LOOK_S)
    if failed:
        raise failed[0]


def _functions() -> set[str]:
    """Return the names of the functions that are compiled."""
    modules = (acoustics, air, fan_curves, flow_network, network, plant, power, sensors, silicon, streams, throughput)
    found = (value.py_func for module in modules for value in vars(module).values() if isinstance(value, Dispatcher))
    return {f"{function.__module__.rpartition('.')[2]}.{function.__name__}" for function in found}


def _in_cache(functions: set[str]) -> int:
    """Return how many of some functions stand in the cache: its files are named ``module.function-line.version.nbi``."""
    kept = Path(numba.config.CACHE_DIR).rglob("*.nbi")  # type: ignore[attr-defined]
    return len(functions & {file.name.partition("-")[0] for file in kept})


def _run_once() -> None:
    from niente.core.rigs.simulated.machine_files import shipped_file, shipped_machines
    from niente.core.rigs.simulated.rig import SimulatedRig

    rig = SimulatedRig(shipped_file(shipped_machines()[0]), seed=1)
    rig.frame(0.0)
    rig.close()
