"""Quiet points to their end: whether the pick truly keeps its limits and lasts its day, how loud it is, in how many
hours; as runs tell, against every point of a grid, what people do by hand, and the best setting that there truly is.

What was worked out stands in build/picks and is taken as it is where it was made before.
"""

import math
from collections.abc import Callable, Mapping, Sequence
from statistics import median

import msgspec
import numpy as np

from benchmarks.by_hand import WAYS
from benchmarks.result import Result
from benchmarks.size import draws
from benchmarks.study import measured
from benchmarks.true_optimum import LIMITS, Regret, regret_of
from benchmarks.true_pick import FOLDER, WISHES, Sample, TruePick, Truth
from niente.core.analysis.evidence import evidence_in
from niente.core.analysis.models import fit_models
from niente.core.model.errors import NotEnoughError
from niente.core.model.question import Approach
from niente.core.rigs.simulated.machine_files import shipped_file, shipped_machines
from niente.core.rigs.simulated.rig import SimulatedRig
from niente.core.science.statistics import share_interval
from niente.core.selection.pick import Standing, choose

SEEDS = 10


def true_pick(sample: Sample, approach: Approach) -> TruePick | None:
    """Run a quiet point of one sample to its end, and hold its pick against the truth; ``None`` where it comes to no pick."""
    book = sample.file(approach.name.lower(), "niente")
    rig = measured(shipped_file(sample.name), sample.seed, book, approach, sample.limits)
    evidence = evidence_in(book)
    assert evidence is not None
    try:
        choice = choose(fit_models(evidence), sample.limits)
    except NotEnoughError:
        return None
    hours = np.cumsum([run.seconds for run in evidence.runs]) / 3600.0
    at = [run.setting == choice.pick.setting and run.seconds >= 1200.0 for run in evidence.runs]
    return TruePick(
        *Truth(rig, sample.limits.design_room_c).of(choice.pick.setting),
        standing=choice.standing,
        bench_h=float(hours[-1]),
        confirmed_h=float(hours[at.index(True)]) if any(at) and choice.confirmed else None,
        crashes=sum(run.crashed for run in evidence.runs),
        failures=sum(run.failures > 0 for run in evidence.runs),
    )


def samples() -> list[Sample]:
    """Return what is drawn: every machine once, then other samples of them, then other wishes."""
    names = shipped_machines()
    every = [Sample(name, seed, wish) for wish in WISHES for seed in range(SEEDS) for name in names]
    return every[: draws(least=1, small=3, full=len(every))]


def results() -> list[Result]:
    """Return bench hours, the share of picks that hold, and how loud they are, as runs tell, over a grid, and by hand."""
    FOLDER.mkdir(parents=True, exist_ok=True)
    every, machines = samples(), len(shipped_machines())
    costly = every[: draws(least=1, small=1, full=machines)]
    adaptive = {sample: _once(sample, "as-runs-tell", lambda of: true_pick(of, Approach.ADAPTIVE)) for sample in every}
    others = {
        "every point": {sample: _once(sample, "every-point", lambda of: true_pick(of, Approach.GRID)) for sample in costly}
    }
    for title in list(WAYS)[: draws(least=1, small=2, full=len(WAYS))]:  # they cost minutes each
        others[title] = {sample: _once(sample, title.replace(" ", "-"), WAYS[title]) for sample in costly}
    found = []
    for wish in dict.fromkeys(sample.wish for sample in every):
        title = "as runs tell" if wish == "begin" else f"as runs tell, {wish}"
        found += _told(title, {sample: pick for sample, pick in adaptive.items() if sample.wish == wish})
    if len(every) > len(costly):
        found += _told("as runs tell, all together", adaptive)
    regrets = every[: draws(least=0, small=1, full=machines * SEEDS)]
    found += _regrets([regret for sample in regrets if (regret := _regret(sample)) is not None])
    for title, picks in others.items():
        found += _told(title, picks)
        pairs = [(adaptive[sample], pick) for sample, pick in picks.items()]
        both = [(mine, pick) for mine, pick in pairs if mine is not None and pick is not None]
        hours = median(mine.bench_h for mine, _ in both), median(pick.bench_h for _, pick in both)
        found.append(
            Result(f"as runs tell on {len(both)} of these: bench time (median)", hours[0], "h", title, hours[0] / hours[1])
        )
        quieter = [mine.in_room_dba - pick.in_room_dba for mine, pick in both]
        found.append(Result(f"as runs tell against {title} (median)", median(quieter), "dB", "", None))
    return found


def _once(sample: Sample, what: str, work: Callable[[Sample], TruePick | None]) -> TruePick | None:
    """Return what is true of one sample's pick; worked out once, and kept beside the books."""
    path = sample.file(what, "json")
    if not path.exists():
        path.write_bytes(msgspec.json.encode(work(sample)))
    return msgspec.json.decode(path.read_bytes(), type=TruePick | None)


def _regret(sample: Sample) -> Regret | None:
    """Return what the pick of one sample costs against the best setting; worked out once, and kept beside the books."""
    path = sample.file("regret", "json")
    if not path.exists():
        evidence = evidence_in(sample.file("adaptive", "niente"))
        assert evidence is not None
        try:
            pick = choose(fit_models(evidence), sample.limits).pick.setting
        except NotEnoughError:
            return None
        truth = Truth(SimulatedRig(shipped_file(sample.name), seed=sample.seed), sample.limits.design_room_c)
        found = regret_of(pick, truth.card, truth.of, truth.alone_dba, sample.limits)
        path.write_bytes(msgspec.json.encode(found))
    return msgspec.json.decode(path.read_bytes(), type=Regret)


def _regrets(regrets: Sequence[Regret]) -> list[Result]:
    """Return what picks cost against the best setting, and to which limit that was paid."""
    if not regrets:
        return []
    in_room = [regret.in_room_db for regret in regrets]
    found = [
        Result(
            f"as runs tell: regret in the room, {len(regrets)} picks (median)",
            median(in_room),
            "dB",
            "goal of 0.3 dB",
            median(in_room) / 0.3,
        ),
        Result(
            "as runs tell: the same (90 %)",
            float(np.quantile(in_room, 0.9)),
            "dB",
            "goal of 1.5 dB",
            float(np.quantile(in_room, 0.9)) / 1.5,
        ),
    ]
    alone = [regret.alone_db for regret in regrets]
    found.append(Result("as runs tell: regret alone (median)", median(alone), "dB", "goal of 1.5 dB", median(alone) / 1.5))
    for limit in LIMITS:
        paid = [regret.paid[limit] for regret in regrets]
        found.append(Result(f"as runs tell: paid to {limit} (mean)", float(np.mean(paid)), "dB", "", None))
    found.append(
        Result(
            "as runs tell: explained by no limit (mean)",
            float(np.mean([regret.other_db for regret in regrets])),
            "dB",
            "",
            None,
        )
    )
    return found


def _told(title: str, every: Mapping[Sample, TruePick | None]) -> list[Result]:
    picks = {sample: pick for sample, pick in every.items() if pick is not None}
    good = [pick.holds(sample.limits) for sample, pick in picks.items()]
    proven = [(pick, holds) for pick, holds in zip(picks.values(), good, strict=True) if pick.standing == Standing.PROVEN]
    confirmed = [pick.confirmed_h for pick in picks.values() if pick.confirmed_h is not None] or [math.nan]
    share = 100.0 * sum(good) / max(len(good), 1), 100.0 * share_interval(sum(good), max(len(good), 1))[0]
    until = [pick.confirmed_h for pick, _ in proven if pick.confirmed_h is not None]
    found = [
        Result(f"{title}: samples", float(len(every)), "", "", None),
        Result(f"{title}: of these without a pick", float(len(every) - len(picks)), "", "", None),
        Result(f"{title}: picks that truly hold", share[0], "%", "", None),
        Result(f"{title}: the same, at least (95 %)", share[1], "%", "", None),
        Result(f"{title}: proven", float(len(proven)), "", "", None),
        Result(f"{title}: proven that do not hold", float(sum(not holds for _, holds in proven)), "", "", None),
        Result(f"{title}: not confirmed", float(sum(one.confirmed_h is None for one in picks.values())), "", "", None),
        Result(f"{title}: to a confirmed pick (median)", median(confirmed), "h", "", None),
        Result(f"{title}: the same (95 %)", float(np.quantile(confirmed, 0.95)), "h", "", None),
    ]  # fmt: skip
    if until:
        found.append(Result(f"{title}: to a proven pick (median)", median(until), "h", "", None))
    if picks:
        found.append(Result(f"{title}: bench time (median)", median(pick.bench_h for pick in picks.values()), "h", "", None))
        found.append(Result(f"{title}: crashes (median)", median(pick.crashes for pick in picks.values()), "", "", None))
    return found
