"""The stand-in machines: how fast simulated hours go by, alone, many at once, and beside a general-purpose solver."""

import time

import numpy as np
from scipy.integrate import solve_ivp

from benchmarks.fleet import record_all
from benchmarks.result import Result
from benchmarks.size import draws
from niente.core.model.setting import Setting
from niente.core.rigs.simulated.machine_files import shipped_file, shipped_machines
from niente.core.rigs.simulated.network import warming
from niente.core.rigs.simulated.rig import SimulatedRig

STUDY_S = draws(least=7_200, small=158_400, full=158_400)
"""88 runs of half an hour, but for the least size."""
GOAL_S = 8.0
SEEDS = 8
SPAN_S = 3600


def _loaded(name: str, seed: int = 3) -> SimulatedRig:
    rig = SimulatedRig(shipped_file(name), seed=seed)
    rig.apply(Setting(sustained_power_w=rig.describe().stock.sustained_power_w))
    rig.start("vector")
    rig.record(10)
    return rig


def results() -> list[Result]:
    """Measure."""
    found = []
    rig = _loaded("larkspur")
    start = time.perf_counter()
    for _ in range(STUDY_S):
        rig.frame(1.0)
    whole = time.perf_counter() - start
    goal_s = GOAL_S * STUDY_S / 158_400
    found.append(
        Result(f"{STUDY_S:,} s of the 12-core rig, frame by frame", whole, "s", f"goal of {goal_s:.1f} s", whole / goal_s)
    )
    start = time.perf_counter()
    rig.record(STUDY_S)
    block = time.perf_counter() - start
    found.append(Result("the same in blocks", block, "s", "frame by frame", block / whole))

    one = _timed([_loaded("larkspur")])
    many = _timed([_loaded("larkspur", seed) for seed in range(SEEDS)])
    found.append(Result(f"an hour of {SEEDS} samples at once", many, "s", f"{SEEDS} times one", many / (SEEDS * one)))
    for name in shipped_machines():
        seconds = _timed([_loaded(name)])
        found.append(Result(f"an hour of {name}", seconds * 1000, "ms", "larkspur", seconds / one))
    found.append(_beside_a_solver())
    return found


def _timed(rigs: list[SimulatedRig]) -> float:
    """The best of three: the machines this runs on are noisy."""
    took = []
    for _ in range(3):
        start = time.perf_counter()
        record_all(rigs, SPAN_S)
        took.append(time.perf_counter() - start)
    return min(took)


def _beside_a_solver() -> Result:
    """The heat network alone, an hour of it: a solver with steps of its own choice, and the whole plant with all channels."""
    rig = _loaded("larkspur")
    start = time.perf_counter()
    rig.record(SPAN_S)
    plant = time.perf_counter() - start
    c, state = rig._life.constants, rig._life._state
    heat = np.zeros(state.nodes.shape)
    heat[:12] = 10.0
    returning, rate = state.returning.copy(), np.zeros(state.nodes.shape)

    def rates(_: float, nodes: np.ndarray) -> np.ndarray:
        warming(c.net, state.taken, state.carried, 1.0, nodes, returning, heat, rate)
        return rate.copy()

    start = time.perf_counter()
    solve_ivp(rates, (0.0, float(SPAN_S)), state.nodes, method="LSODA", t_eval=np.arange(SPAN_S), rtol=1e-5, atol=1e-4)
    solver = time.perf_counter() - start
    return Result("an hour of the plant, all of it", plant * 1000, "ms", "scipy's LSODA on its heat alone", plant / solver)
