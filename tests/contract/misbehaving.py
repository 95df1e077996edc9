"""Drivers of the machine in a third process that do what a driver must not."""

import ctypes
import subprocess

from niente.rig import Frame
from tests.contract.third_process import ThirdProcessRig

FRAMES = 10


class HoldsInterpreter(ThirdProcessRig):
    """After some samples under load it holds the interpreter's lock for a long time: no thread of its process runs."""

    def __init__(self, seed: int = 1, pace: float | None = None) -> None:
        super().__init__(seed, pace)
        self._left: int | None = None

    def start(self, load: str) -> None:
        super().start(load)
        self._left = FRAMES

    def frame(self, timeout_s: float) -> Frame | None:
        if self._left is not None:
            self._left -= 1
            if self._left == 0:
                ctypes.PyDLL(None).usleep(60_000_000)
        return super().frame(timeout_s)


class LoadsByProcess(ThirdProcessRig):
    """Its load is a child process, as a real one would be, which does not end with its parent."""

    def start(self, load: str) -> None:
        super().start(load)
        subprocess.Popen(["sleep", "4321"], stdin=subprocess.DEVNULL)
