"""Run all benchmarks, or those whose module is named: ``python -m benchmarks core``."""

import sys
from pathlib import Path

from benchmarks import (
    bench_core,
    bench_heat,
    bench_look,
    bench_noise,
    bench_plan,
    bench_rigs,
    bench_run,
    bench_settling,
    bench_window,
)
from benchmarks.result import Result, publish

PARTS = {
    "rigs": bench_rigs.results,
    "core": bench_core.results,
    "settling": bench_settling.results,
    "heat": bench_heat.results,
    "noise": bench_noise.results,
    "plan": bench_plan.results,
    "run": bench_run.results,
    "window": bench_window.results,
    "look": bench_look.results,
}

wanted = sys.argv[1:] or list(PARTS)
found: list[Result] = []
for part in wanted:
    found += PARTS[part]()
publish(found, Path("build") / "bench.json")
