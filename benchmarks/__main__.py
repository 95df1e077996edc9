"""Run all benchmarks, or those that are named: ``python -m benchmarks core heat``. Each part prints as it ends."""

import sys
from pathlib import Path
from types import TracebackType

from benchmarks import (
    bench_answers,
    bench_core,
    bench_core_search,
    bench_coverage,
    bench_fans,
    bench_heat,
    bench_look,
    bench_noise,
    bench_picks,
    bench_places,
    bench_plan,
    bench_process,
    bench_rigs,
    bench_run,
    bench_settling,
    bench_stability,
    bench_window,
)
from benchmarks.result import Result, publish

PARTS = {
    "rigs": bench_rigs.results,
    "core": bench_core.results,
    "settling": bench_settling.results,
    "heat": bench_heat.results,
    "places": bench_places.results,
    "noise": bench_noise.results,
    "coverage": bench_coverage.results,
    "stability": bench_stability.results,
    "cores": bench_core_search.results,
    "picks": bench_picks.results,
    "answers": bench_answers.results,
    "fans": bench_fans.results,
    "plan": bench_plan.results,
    "process": bench_process.results,
    "run": bench_run.results,
    "window": bench_window.results,
    "look": bench_look.results,
}

wanted = [part for argument in sys.argv[1:] for part in argument.replace(",", " ").split()] or list(PARTS)
unknown = [part for part in wanted if part not in PARTS]
if unknown:
    sys.exit(f"There is no part {', '.join(unknown)}; choose among {', '.join(PARTS)}.")
errors: list[type[BaseException]] = []


def _report(kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
    errors.append(kind)
    sys.__excepthook__(kind, error, trace)


sys.excepthook = _report  # what the window reports and lives through is an error here
found: list[Result] = []
for part in wanted:
    fresh = PARTS[part]()
    found += fresh
    publish(part, fresh, found, Path("build") / "bench.json")
if errors:
    sys.exit(f"{len(errors)} errors were reported on the way; the first is a {errors[0].__name__}, above.")
