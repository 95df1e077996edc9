"""Answers against the truth: the share of their figures whose 95 % interval holds, and how far off they are.

Each book stands in build/answers and is taken as it is where it was made before.
"""

import threading
from pathlib import Path
from statistics import median

from benchmarks.answers_truth import Judge, Miss, answer_in
from benchmarks.result import Result
from benchmarks.size import draws, some_of
from niente.core.acquisition.opening import open_bench
from niente.core.model.limits import Limits
from niente.core.model.question import TemplateName
from niente.core.model.records import BenchFailed, HandCardShown, PlanEnded, Record
from niente.core.planning.templates import first_question, plan_for, template
from niente.core.rigs.simulated.machine_files import shipped_file, shipped_machines
from niente.core.rigs.simulated.rig import SimulatedRig
from niente.core.science.statistics import share_interval

FOLDER = Path("build") / "answers"
PATIENCE_S = 900.0
QUESTIONS = (
    TemplateName.BASELINE,
    TemplateName.CAPACITY_LADDER,
    TemplateName.CAP_SWEEP,
    TemplateName.VARIANTS,
    TemplateName.REAL_TIME,
)


def run_question(rig: SimulatedRig, name: TemplateName, book: Path) -> None:
    """Run a question as it starts on a rig into a book, hands doing what they are asked; a book that is there is kept."""
    if book.exists():
        return
    over = threading.Event()

    def hear(record: Record) -> None:
        if isinstance(record, PlanEnded | BenchFailed):
            over.set()
        if isinstance(record, HandCardShown) and record.card is not None:
            threading.Timer(0.05, lambda: bench.confirm()).start()

    begun = book.with_suffix(".part")
    begun.unlink(missing_ok=True)
    bench = open_bench(rig, begun, hear)
    try:
        bench.start(plan_for(bench.card, first_question(bench.card, name)), Limits())
        over.wait(PATIENCE_S)
    finally:
        bench.close()
    begun.rename(book)


def misses_of(machine: str, seed: int, name: TemplateName) -> list[Miss]:
    """Return the figures of one question on one sample, beside the truth; none of one that the machine cannot be asked."""
    FOLDER.mkdir(parents=True, exist_ok=True)
    book = FOLDER / f"{machine}-{seed}-{name}.niente"
    rig = SimulatedRig(shipped_file(machine), seed=seed)
    card = rig.describe()
    kind = template(name)
    if kind is None or kind.lacks(card):
        return []
    run_question(rig, name, book)
    rigs = {}
    for variant in card.variants:
        rigs[variant.name] = SimulatedRig(shipped_file(machine), seed=seed)
        rigs[variant.name].become(variant.name)
    return Judge(rigs, book).misses(answer_in(book, first_question(card, name)))


def results() -> list[Result]:
    """Return for each question the share of figures that hold, and how many standard errors they lie off."""
    found: list[Result] = []
    every: list[Miss] = []
    seeds = draws(least=1, small=1, full=10)
    for name in QUESTIONS[: draws(least=1, small=len(QUESTIONS), full=len(QUESTIONS))]:
        own = [
            miss
            for machine in some_of(shipped_machines())
            for seed in range(1, seeds + 1)
            for miss in misses_of(machine, seed, name)
        ]
        every += own
        found += _told(name.value, own)
    return [*found, *_told("all questions", every)]


def _told(name: str, misses: list[Miss]) -> list[Result]:
    if not misses:
        return []
    inside = sum(miss.inside for miss in misses)
    low, high = share_interval(inside, len(misses))
    return [
        Result(
            f"{name}, {len(misses)} figures: intervals that hold",
            100.0 * inside / len(misses),
            "%",
            "95 %",
            inside / len(misses) / 0.95,
        ),
        Result(f"{name}: the same, at least (95 %)", 100.0 * low, "%", "", None),
        Result(f"{name}: the same, at most (95 %)", 100.0 * high, "%", "", None),
        Result(
            f"{name}: off, median",
            median(abs(miss.off) for miss in misses),
            "standard errors",
            "0.674",
            median(abs(miss.off) for miss in misses) / 0.674,
        ),
        Result(f"{name}: off by more than three", float(sum(abs(miss.off) > 3.0 for miss in misses)), "", "", None),
    ]
