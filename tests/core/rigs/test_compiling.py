"""Compiling the simulated machines ahead of their first use, and saying how far that is."""

import os
import subprocess
import sys
import threading
from pathlib import Path

import pytest

from niente.core.rigs.simulated import compiling
from niente.core.rigs.simulated.compiling import compile_plant
from tests.waiting import PATIENCE_S

STEPS = (0, 0, 3, 3, 5)


def test_the_steps_are_told_until_all_is_compiled(monkeypatch: pytest.MonkeyPatch) -> None:
    """The work is over once the count is full: here it is counted, not done."""
    counts, full = iter(STEPS), threading.Event()

    def count(functions: set[str]) -> int:
        found = next(counts, 5)
        if found == 5:
            full.set()
        return found

    monkeypatch.setattr(compiling, "LOOK_S", 0.01)
    monkeypatch.setattr(compiling, "_functions", lambda: {str(n) for n in range(5)})
    monkeypatch.setattr(compiling, "_in_cache", count)
    monkeypatch.setattr(compiling, "_run_once", lambda: full.wait(PATIENCE_S))
    told: list[str] = []
    compile_plant(told.append)
    assert told[0].endswith("0 of 5 functions …")
    assert told[-1].endswith("5 of 5 functions …")
    assert all("once after an update" in text for text in told)


def test_a_failure_is_not_swallowed(monkeypatch: pytest.MonkeyPatch) -> None:
    def fail() -> None:
        raise ValueError("no compiler here")

    monkeypatch.setattr(compiling, "_functions", lambda: {"one"})
    monkeypatch.setattr(compiling, "_in_cache", lambda functions: 0)
    monkeypatch.setattr(compiling, "_run_once", fail)
    with pytest.raises(ValueError, match="no compiler here"):
        compile_plant(lambda text: None)


def test_what_is_compiled_is_not_compiled_again(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(compiling, "_functions", lambda: {"one"})
    monkeypatch.setattr(compiling, "_in_cache", len)
    monkeypatch.setattr(compiling, "_run_once", lambda: pytest.fail("there was nothing to do"))
    compile_plant(lambda text: pytest.fail(text))


def test_the_count_is_that_of_the_cache() -> None:
    """In this process the plant is compiled, or else every test that runs one would wait for it."""
    compile_plant(lambda text: None)
    functions = compiling._functions()
    assert compiling._in_cache(functions) == len(functions) >= 20


def test_the_set_up_says_when_it_is_done(tmp_path: Path) -> None:
    found = subprocess.run(
        [sys.executable, "-m", "niente.core.rigs.simulated"],
        env={**os.environ},
        cwd=tmp_path,
        capture_output=True,
        text=True,
        timeout=400,
        check=True,
    )
    assert "are compiled" in found.stdout
