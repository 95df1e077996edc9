"""Quiet points to their end: whether the pick truly keeps its limits and lasts its day, how loud it is, in how many
hours; as runs tell, against every point of a grid, what people do by hand, and the best setting that there truly is.

What was worked out stands in build/picks and is taken as it is where it was made before.
"""

import math
from collections.abc import Sequence
from pathlib import Path
from statistics import median

import msgspec
import numpy as np

from benchmarks.by_hand import WAYS
from benchmarks.result import Result
from benchmarks.size import draws
from benchmarks.study import measured
from benchmarks.true_optimum import LIMITS, Regret, regret_of
from benchmarks.true_pick import TruePick, Truth
from niente.core.analysis.evidence import evidence_in
from niente.core.analysis.models import fit_models
from niente.core.model.errors import NotEnoughError
from niente.core.model.limits import Limits
from niente.core.model.question import Approach
from niente.core.rigs.simulated.machine_files import shipped_file, shipped_machines
from niente.core.rigs.simulated.rig import SimulatedRig
from niente.core.science.statistics import share_interval
from niente.core.selection.pick import Standing, choose

FOLDER = Path("build") / "picks"


def true_pick(name: str, seed: int, approach: Approach) -> TruePick | None:
    """Run a quiet point of one sample to its end, and hold its pick against the truth; ``None`` where it comes to no pick."""
    FOLDER.mkdir(parents=True, exist_ok=True)
    book = FOLDER / f"{name}-{seed}-{approach.name.lower()}.niente"
    rig = measured(shipped_file(name), seed, book, approach)
    evidence = evidence_in(book)
    assert evidence is not None
    try:
        choice = choose(fit_models(evidence), Limits())
    except NotEnoughError:
        return None
    hours = np.cumsum([run.seconds for run in evidence.runs]) / 3600.0
    at = [run.setting == choice.pick.setting and run.seconds >= 1200.0 for run in evidence.runs]
    return TruePick(
        *Truth(rig).of(choice.pick.setting),
        standing=choice.standing,
        bench_h=float(hours[-1]),
        confirmed_h=float(hours[at.index(True)]) if any(at) and choice.confirmed else math.inf,
        crashes=sum(run.crashed for run in evidence.runs),
        failures=sum(run.failures > 0 for run in evidence.runs),
    )


def results() -> list[Result]:
    """Return bench hours, the share of picks that hold, and how loud they are, as runs tell, over a grid, and by hand."""
    names = shipped_machines()
    count = draws(least=1, small=3, full=len(names) * 10)
    samples = [(names[index % len(names)], index // len(names)) for index in range(count)]
    costly = samples[: draws(least=1, small=1, full=len(names))]
    adaptive = {sample: true_pick(*sample, Approach.ADAPTIVE) for sample in samples}
    others: dict[str, dict[tuple[str, int], TruePick | None]] = {}
    others["every point"] = {sample: true_pick(*sample, Approach.GRID) for sample in costly}
    for title in list(WAYS)[: draws(least=1, small=2, full=len(WAYS))]:  # they cost minutes each
        others[title] = {sample: _by_hand(title, *sample) for sample in costly}
    found = _told("as runs tell", list(adaptive.values()))
    found += _regrets(
        [regret for sample in costly[: draws(least=0, small=1, full=len(costly))] if (regret := _regret(*sample)) is not None]
    )
    for title, picks in others.items():
        found += _told(title, list(picks.values()))
        pairs = [(adaptive[sample], pick) for sample, pick in picks.items()]
        both = [(mine, pick) for mine, pick in pairs if mine is not None and pick is not None]
        hours = median(mine.bench_h for mine, _ in both), median(pick.bench_h for _, pick in both)
        found.append(
            Result(f"as runs tell on {len(both)} of these: bench time (median)", hours[0], "h", title, hours[0] / hours[1])
        )
        quieter = [mine.in_room_dba - pick.in_room_dba for mine, pick in both]
        found.append(Result(f"as runs tell against {title} (median)", median(quieter), "dB", "", None))
    return found


def _by_hand(title: str, name: str, seed: int) -> TruePick:
    """Return what a person's way comes to on one sample; worked out once, and kept beside the books."""
    path = FOLDER / f"{title.replace(' ', '-')}-{name}-{seed}.json"
    if not path.exists():
        path.write_bytes(msgspec.json.encode(WAYS[title](name, seed)))
    return msgspec.json.decode(path.read_bytes(), type=TruePick)


def _regret(name: str, seed: int) -> Regret | None:
    """Return what the pick of one sample costs against the best setting; worked out once, and kept beside the books."""
    path = FOLDER / f"regret-{name}-{seed}.json"
    if not path.exists():
        evidence = evidence_in(FOLDER / f"{name}-{seed}-adaptive.niente")
        assert evidence is not None
        try:
            pick = choose(fit_models(evidence), Limits()).pick.setting
        except NotEnoughError:
            return None
        rig = SimulatedRig(shipped_file(name), seed=seed)
        truth = Truth(rig)
        found = regret_of(pick, truth.card, truth.of, truth.alone_dba)
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


def _told(title: str, every: Sequence[TruePick | None]) -> list[Result]:
    picks = [pick for pick in every if pick is not None]
    holding = sum(pick.holds for pick in picks)
    proven = [pick for pick in picks if pick.standing == Standing.PROVEN]
    confirmed = [pick.confirmed_h for pick in picks if math.isfinite(pick.confirmed_h)] or [math.nan]
    unconfirmed = len(every) - sum(math.isfinite(pick.confirmed_h) for pick in picks)
    return [
        Result(f"{title}: samples", float(len(every)), "", "", None),
        Result(f"{title}: picks that truly hold", 100.0 * holding / len(every), "%", "", None),
        Result(f"{title}: the same, at least (95 %)", 100.0 * share_interval(holding, len(every))[0], "%", "", None),
        Result(f"{title}: proven", float(len(proven)), "", "", None),
        Result(f"{title}: proven that do not hold", float(sum(not pick.holds for pick in proven)), "", "", None),
        Result(f"{title}: not confirmed", float(unconfirmed), "", "", None),
        Result(f"{title}: to a confirmed pick (median)", median(confirmed), "h", "", None),
        Result(
            f"{title}: the same (95 %)", float(np.quantile(confirmed, 0.95)), "h", "", None
        ),
        Result(f"{title}: bench time (median)", median(pick.bench_h for pick in picks), "h", "", None),
        Result(f"{title}: crashes (median)", median(pick.crashes for pick in picks), "", "", None),
    ]  # fmt: skip
