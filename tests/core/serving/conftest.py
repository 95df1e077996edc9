"""Benches as processes of their own, and a machine in a third one."""

import contextlib
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from niente.core.acquisition.client import BenchLost, Heard
from niente.core.model.records import Record
from niente.core.serving.remote_bench import RemoteBench
from niente.core.serving.starting import BenchOptions, reach_bench
from tests.contract import third_process
from tests.waiting import until

ROOT = Path(__file__).parents[3]
THIRD = "tests.contract.third_process:ThirdProcessRig"


class Ear:
    """Keeps what a client is told, each with the time it came."""

    def __init__(self) -> None:
        self.told: list[Heard] = []
        self.at: list[float] = []

    def __call__(self, one: Heard) -> None:
        self.at.append(time.monotonic())
        self.told.append(one)

    def of(self, kind: type) -> list[Heard]:
        return [one for one in self.told if isinstance(one, kind)]

    def records(self) -> list[Record]:
        return [one for one in self.told if not isinstance(one, BenchLost)]  # type: ignore[misc]


def process_of(book: Path, module: str = "process") -> int:
    """The number of the bench's process of a book, or of its guardian."""
    name, wanted = f"niente.core.serving.{module}".encode(), str(book).encode()
    for folder in Path("/proc").iterdir():
        if folder.name.isdigit():
            with contextlib.suppress(OSError):
                words = (folder / "cmdline").read_bytes()
                if name in words and wanted in words:
                    return int(folder.name)
    raise AssertionError(f"no {module} of {book}")


def runs(process: int) -> bool:
    """Whether a process runs: it is there, and not only waited for."""
    with contextlib.suppress(OSError):
        return (Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()[0]) not in "ZX"
    return False


@pytest.fixture(autouse=True)
def own_folders(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Logs go to the test's own folder."""
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))


@pytest.fixture
def machine(monkeypatch: pytest.MonkeyPatch) -> Iterator[Callable[[], dict[str, object]]]:
    """A machine in a process of its own; the function that is given says how it stands."""
    folder = Path(tempfile.mkdtemp(prefix="niente-"))
    monkeypatch.setenv(third_process.WHERE, str(folder / "machine"))
    process = subprocess.Popen([sys.executable, "-m", "tests.contract.third_process", str(folder / "machine")], cwd=ROOT)
    until(lambda: (folder / "machine").exists())
    yield lambda: third_process.ask("look")
    process.kill()
    process.wait()
    (folder / "machine").unlink()
    folder.rmdir()


@pytest.fixture
def reach(tmp_path: Path) -> Iterator[Callable[..., RemoteBench]]:
    """Return a function that reaches the bench of the test's book, in a process of its own."""
    clients: list[RemoteBench] = []

    def on(ear: Ear, **options: object) -> RemoteBench:
        given = {"rig": "larkspur", "seed": 3, **options}
        when_lost = given.pop("when_lost", None)
        more = {"when_lost": when_lost} if when_lost is not None else {}
        client = reach_bench(tmp_path / "b.niente", ear, BenchOptions(**given), **more)  # type: ignore[arg-type]
        clients.append(client)
        return client

    yield on
    for client in clients:
        client.close()
    with contextlib.suppress(AssertionError):
        bench = process_of(tmp_path / "b.niente")
        until(lambda: not runs(bench))
