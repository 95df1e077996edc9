"""Fixtures that many tests share. The sweep is run once a session; tests that write get a copy of its book."""

import atexit
import fcntl
import os
import shutil
import tempfile
import threading
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any, TypeVar

import pytest

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")  # workers that run side by side are threads enough
os.environ["XDG_RUNTIME_DIR"] = tempfile.mkdtemp(prefix="niente-tests-")  # a socket's path has to be short
os.environ["XDG_CONFIG_HOME"] = os.environ["XDG_RUNTIME_DIR"] + "/config"  # whom tests trust is nobody's word
os.environ["XDG_STATE_HOME"] = os.environ["XDG_RUNTIME_DIR"] + "/state"  # logs of processes that tests start

from niente.core.acquisition.bench import Bench
from niente.core.acquisition.opening import open_bench
from niente.core.analysis.evidence import Evidence, gather
from niente.core.model.guard_rules import default_guards
from niente.core.model.limits import Limits
from niente.core.model.plan import PLAN_FORMAT, Exposure, Plan, Step
from niente.core.model.project import Project
from niente.core.model.records import BenchFailed, PlanEnded, Record
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting
from niente.core.planning.templates import grid_project, plan_for
from niente.core.rigs.protocol import Rig
from niente.core.rigs.registry import open_rig
from niente.core.rigs.simulated.faults import Fault
from niente.core.rigs.simulated.machine_files import shipped_file
from niente.core.rigs.simulated.rig import SimulatedRig
from niente.core.storage.reader import BookReader
from tests.waiting import PATIENCE_S

atexit.register(shutil.rmtree, os.environ["XDG_RUNTIME_DIR"], ignore_errors=True)
SEED = 3
R = TypeVar("R", bound=Record)


class Watcher:
    """Keeps the bench's events and waits for the end of a plan."""

    def __init__(self) -> None:
        self.events: list[Record] = []
        self.over = threading.Event()
        self.on: Callable[[Record], None] = lambda event: None

    def hear(self, event: Record) -> None:
        self.events.append(event)
        self.on(event)
        if isinstance(event, PlanEnded | BenchFailed):
            self.over.set()

    def of(self, kind: type[R]) -> list[R]:
        return [event for event in self.events if isinstance(event, kind)]

    def end(self) -> PlanEnded:
        assert self.over.wait(PATIENCE_S), "the plan did not end in time"
        ended = next(event for event in reversed(self.events) if isinstance(event, PlanEnded | BenchFailed))
        assert isinstance(ended, PlanEnded), ended
        return ended


@pytest.fixture
def watcher() -> Watcher:
    return Watcher()


def larkspur_rig(*faults: Fault, seed: int = SEED, pace: float | None = None) -> SimulatedRig:
    return SimulatedRig(shipped_file("larkspur"), seed=seed, pace=pace, faults=faults)


@pytest.fixture
def larkspur() -> Iterator[SimulatedRig]:
    rig = larkspur_rig()
    yield rig
    rig.close()


@pytest.fixture(scope="session")
def card() -> RigCard:
    return larkspur_rig().describe()


def short_plan(card: RigCard, *settings: Setting, load: str = "vector", seconds: float = 60.0, **exposure: Any) -> Plan:
    """A plan of short runs with the default guards and nothing to follow."""
    rule = Exposure(min_s=seconds, max_s=exposure.pop("max_s", seconds), **exposure)
    steps = tuple(Step(setting, load, rule, "test", "a test") for setting in settings)
    return Plan(PLAN_FORMAT, card.name, "test", steps, default_guards(card))


@pytest.fixture
def make_bench(tmp_path: Path, watcher: Watcher) -> Iterator[Callable[..., Bench]]:
    made: list[Bench] = []

    def make(rig: Rig | None = None, book: Path | None = None, **options: Any) -> Bench:
        bench = open_bench(rig or larkspur_rig(), book or tmp_path / "test.niente", watcher.hear, **options)
        made.append(bench)
        return bench

    yield make
    for bench in made:
        bench.close()


@pytest.fixture(scope="session")
def sweep(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Project]:
    """A whole quiet-point sweep of Larkspur, as fast as it goes; made once for all workers."""
    base = tmp_path_factory.getbasetemp()
    common = base.parent if "PYTEST_XDIST_WORKER" in os.environ else base  # one folder for all workers
    path = common / "sweep.niente"
    with (common / "sweep.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)  # the first worker makes it, the others wait
        if not path.exists():
            _make_sweep(common / "sweep-draft.niente").rename(path)
    reader = BookReader(path)
    project = reader.project()
    reader.close()
    assert project is not None
    return path, project


def _make_sweep(draft: Path) -> Path:
    watcher = Watcher()
    bench = open_bench(open_rig("larkspur", seed=SEED), draft, watcher.hear)
    try:
        project = grid_project(bench.card)
        bench.save_project(project)
        bench.start(plan_for(bench.card, project.question), project.limits)
        assert watcher.end().complete
    finally:
        bench.close()
    return draft


@pytest.fixture
def sweep_copy(sweep: tuple[Path, Project], tmp_path: Path) -> Path:
    return Path(shutil.copyfile(sweep[0], tmp_path / "copy.niente"))


@pytest.fixture(scope="session")
def evidence(sweep: tuple[Path, Project]) -> Evidence:
    book = BookReader(sweep[0])
    found = gather(book)
    book.close()
    assert found is not None
    return found


@pytest.fixture
def limits() -> Limits:
    return Limits()
