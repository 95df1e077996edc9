"""A machine that lives in a process of its own, and its driver: what drives it may end, and its load runs on.

``python -m tests.contract.third_process SOCKET`` is the machine. Its driver finds it by the environment.
"""

import json
import os
import socket
import sys
import threading
import time
from pathlib import Path
from typing import Any

import msgspec
import numpy as np

from niente.rig import Frame, RigCard, RigError, Setting
from tests.contract.outside import CARD as DOORBELL

PERIOD_S = 0.1
CARD = msgspec.structs.replace(
    DOORBELL, name="third", title="Third", summary="1 core, in a process of its own", simulated=False, sample_period_s=PERIOD_S
)
WHERE = "NIENTE_TEST_MACHINE"


class Machine:
    """The machine: a load, a setting, and a core that warms up under the load, in the time of the wall."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._load, self._core, self._at = "idle", 25.0, time.monotonic()
        self._setting: dict[str, Any] = {}
        self._made_safe = 0

    def answer(self, request: dict[str, Any]) -> dict[str, Any]:
        with self._lock:
            now = time.monotonic()
            aim = 25.0 if self._load == "idle" else 60.0
            self._core += (aim - self._core) * min((now - self._at) / 30.0, 1.0)
            self._at = now
            match request["do"]:
                case "start":
                    self._load = request["load"]
                case "stop":
                    self._load = "idle"
                case "apply":
                    self._setting = request["setting"]
                case "make_safe":
                    self._load, self._setting = "idle", msgspec.to_builtins(CARD.safe)
                    self._made_safe += 1
            return {"time_s": now, "core_c": self._core, "load": self._load, "setting": self._setting, "safe": self._made_safe}


def serve(path: Path) -> None:
    """Be the machine, until nobody is left who started it."""
    machine, parent = Machine(), os.getppid()
    listening = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
    listening.bind(str(path))
    listening.listen(64)
    listening.settimeout(0.5)
    while os.getppid() == parent:
        try:
            link, _ = listening.accept()
        except TimeoutError:
            continue
        with link, link.makefile("rw") as lines:
            print(json.dumps(machine.answer(json.loads(lines.readline()))), file=lines, flush=True)


def ask(do: str, **more: Any) -> dict[str, Any]:
    """Ask the machine."""
    link = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
    with link:
        link.connect(os.environ[WHERE])
        with link.makefile("rw") as lines:
            print(json.dumps({"do": do, **more}), file=lines, flush=True)
            answer: dict[str, Any] = json.loads(lines.readline())
            return answer


class ThirdProcessRig:
    """The driver."""

    def __init__(self, seed: int = 1, pace: float | None = None) -> None:
        self._due = time.monotonic()
        ask("look")

    def describe(self) -> RigCard:
        return CARD

    def check(self, setting: Setting) -> list[str]:
        return CARD.refusals(setting)

    def apply(self, setting: Setting) -> str | None:
        ask("apply", setting=msgspec.to_builtins(setting))
        return None

    def start(self, load: str) -> None:
        if CARD.load(load) is None:
            raise RigError(f"no load {load!r}", remedy="Choose another.")
        ask("start", load=load)

    def stop(self) -> None:
        ask("stop")

    def frame(self, timeout_s: float) -> Frame | None:
        self._due = max(self._due + PERIOD_S, time.monotonic())
        time.sleep(max(min(self._due - time.monotonic(), timeout_s), 0.0))
        now = ask("look")
        busy = now["load"] != "idle"
        values = np.array([now["core_c"], 23.0, 12.0 if busy else 2.0, 3000.0, 10.0 if busy else 0.0, 900.0, 30.0])
        return Frame(now["time_s"], values)

    def make_safe(self) -> None:
        ask("make_safe")

    def close(self) -> None:
        ask("make_safe")


if __name__ == "__main__":
    serve(Path(sys.argv[1]))
