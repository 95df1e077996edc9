"""The demo: a planetarium's render machine with a finished sweep, and a closer look going on."""

import contextlib
import os
import queue
import shutil
from collections.abc import Callable
from pathlib import Path

import msgspec
import platformdirs

from niente import __version__
from niente.core.acquisition.client import Hearer
from niente.core.acquisition.opening import open_bench
from niente.core.analysis.evidence import evidence_in
from niente.core.analysis.models import Models, fit_models
from niente.core.model.commands import WhenLost
from niente.core.model.errors import NienteError, NotEnoughError
from niente.core.model.kept_point import KeptPoint
from niente.core.model.limits import Aim, Limits, NoisePlace
from niente.core.model.plan import Plan
from niente.core.model.project import Project
from niente.core.model.question import Axis
from niente.core.model.records import BenchFailed, PlanEnded, Record, RunOpened
from niente.core.planning.confirmation import confirming_point
from niente.core.planning.templates import grid_project, plan_for
from niente.core.rigs.registry import open_rig
from niente.core.selection.pick import choose
from niente.core.serving.remote_bench import RemoteBench
from niente.core.serving.run_folder import socket_of
from niente.core.serving.starting import BenchOptions, reach_bench

RIG, SEED, PACE = "larkspur", 3, 60.0
SWEEP = f"demo-sweep-{__version__}-15.niente"
"""The sweep's name in the cache; the number goes up whenever an older sweep would not do any more."""


def demo_folder() -> Path:
    """Return where the demo lives: the person's cache, where nothing of theirs is."""
    return Path(platformdirs.user_cache_dir("niente"))


def is_prepared() -> bool:
    """Return whether the demo's sweep is made."""
    return (demo_folder() / SWEEP).exists()


def open_demo(
    progress: Callable[[str], None], listener: Hearer, when_lost: WhenLost = WhenLost.GO_ON
) -> tuple[RemoteBench, Project]:
    """Return a client of a bench on a fresh copy of the demo book, and the project of the closer look that goes on.

    The finished sweep is made once, in a few seconds, and kept in the cache with the project of the closer look: what its pick
    comes to takes seconds to work out.
    """
    folder = demo_folder()
    folder.mkdir(parents=True, exist_ok=True)
    sweep = folder / SWEEP
    if not sweep.exists():
        make_sweep(sweep, progress)
    book = folder / f"Larkspur-demo-{os.getpid()}.niente"
    for old in folder.glob("Larkspur-demo-*.niente"):
        if not _in_use(old):
            for left in folder.glob(f"{old.name}*"):
                left.unlink(missing_ok=True)
    shutil.copyfile(sweep, book)
    options = BenchOptions(rig=RIG, seed=SEED, pace=PACE)
    bench = reach_bench(book, listener, options, when_lost=when_lost, progress=progress)
    return bench, bench.project or closer_look(grid_project(bench.card))


def closer_look(project: Project, offset_mv: float = 0.0) -> Project:
    """Return the project of a second, closer sweep round the place where the first one picked, at its offset."""
    axes = (
        Axis("sustained_power_w", (90.0, 96.0, 102.0, 108.0, 116.0)),
        Axis("fan_duty.case", (20.0, 24.0, 28.0, 40.0)),
        Axis("voltage_offset_mv", (offset_mv,)),
    )
    return msgspec.structs.replace(project, question=msgspec.structs.replace(project.question, axes=axes))


POINTS = {
    "Show": Limits(70.0, aim=Aim.FASTEST, noise_at=NoisePlace.LISTENER_BY_DAY, max_over_background_db=1.0),
    "Day": Limits(98.0),
    "Night": Limits(85.0, noise_at=NoisePlace.LISTENER_AT_NIGHT),
}
"""The three points that the machine's keeper wants: fast and not heard by the audience, faster where nobody listens closely,
and quiet for the neighbours."""
KEPT_AT = "2026-03-14T20:00:00+00:00"


def with_points(project: Project, models: Models) -> Project:
    """Return the project of the closer look round the pick of the first sweep, with the three points kept."""
    points = []
    for name, limits in POINTS.items():
        with contextlib.suppress(NotEnoughError):  # a point that nothing keeps is none
            pick = choose(models, limits).pick
            points.append(KeptPoint(name, pick.setting, limits, models.card.variant, KEPT_AT))
    offset_mv = choose(models, Limits()).pick.setting.voltage_offset_mv or 0.0
    return msgspec.structs.replace(closer_look(project, offset_mv), points=tuple(points))


def make_sweep(path: Path, progress: Callable[[str], None]) -> None:
    """Run the first sweep and what confirms the three points as fast as it goes, into a book that only takes its name once it
    is whole."""
    draft = path.with_name(f"{path.stem}.{os.getpid()}.draft")
    ended: queue.Queue[PlanEnded | BenchFailed] = queue.Queue()

    def hear(event: Record) -> None:
        match event:
            case RunOpened(_, index, total, _):
                progress(f"Making the demo book: run {index + 1} of {total} …")
            case PlanEnded() | BenchFailed():
                ended.put(event)
            case _:
                return

    bench = open_bench(open_rig(RIG, seed=SEED, progress=progress), draft, hear)

    def run(plan: Plan) -> bool:
        bench.start(plan, project.limits)
        end = ended.get()
        return isinstance(end, PlanEnded) and end.complete

    try:
        project = grid_project(bench.card)
        bench.save_project(project)
        whole = run(plan_for(bench.card, project.question))
        evidence = evidence_in(draft) if whole else None
        if evidence is not None:
            progress("Making the demo book: working out what it comes to …")
            models = fit_models(evidence)
            closer = with_points(project, models)
            steps = tuple(confirming_point(point, models.heavy_load) for point in closer.points)
            whole = run(plan_for(bench.card, project.question, entries=steps))
            bench.save_project(closer)
    finally:
        bench.close()
    if not whole:
        draft.unlink(missing_ok=True)
        raise NienteError("The demo book could not be made.", safe="None of your files was touched.", remedy="Start it again.")
    draft.rename(path)


def _in_use(book: Path) -> bool:
    """Return whether the Niente that made a demo book still runs, or a bench that it left running."""
    number = book.name.removeprefix("Larkspur-demo-").partition(".")[0]
    return (number.isdigit() and Path(f"/proc/{number}").exists()) or socket_of(book).exists()
