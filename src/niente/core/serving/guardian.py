"""The guardian: a small process that acts when the bench's process has ended without a word, or is not heard of any more.

It is started with the bench and holds a pipe to it: a pulse comes in a few times a second, and a last word when the bench ends
in order. Nothing but the standard library is used here, so that it starts at once and has little that can fail.
"""

import json
import logging
import os
import select
import signal
import subprocess
import sys
import time
from pathlib import Path

PULSE, GOODBYE = b".", b"!"
SILENT_S = 5.0
"""A bench that is not heard of for so long hangs as a whole: its own watchdog would have acted, and did not."""
END_S = 2.0
SAFE_S = 60.0
"""Making a machine safe takes at most so long."""
LOG = logging.getLogger(__name__)


def watch(pulse: int, silent_s: float) -> bool:
    """Wait until the bench at the other end of a pipe has ended or is silent; return whether it has ended in order.

    The clock does not run while the computer sleeps.
    """
    while True:
        ready, _, _ = select.select([pulse], [], [], silent_s)
        if not ready:
            return False
        data = os.read(pulse, 4096)
        if GOODBYE in data:
            return True
        if not data:
            return False


def end_processes(bench: int, session: int) -> None:
    """End the bench, if it is still there, and whatever else belongs to its session: loads that it had started. A session of
    0 is not the bench's own, and is left alone."""
    _kill(bench)
    until = time.monotonic() + END_S
    while session and (left := _members(session)) and time.monotonic() < until:
        for process in left:
            _kill(process)
        time.sleep(0.02)


def _members(session: int) -> list[int]:
    """Return the processes of a session that still run (proc(5): the sixth field of ``stat`` is the session)."""
    found = []
    for folder in Path("/proc").iterdir():
        if not folder.name.isdigit() or int(folder.name) == os.getpid():
            continue
        try:
            fields = (folder / "stat").read_text().rpartition(")")[2].split()
        except OSError:
            continue
        if int(fields[3]) == session and fields[0] not in "ZX":
            found.append(int(folder.name))
    return found


def _kill(process: int) -> None:
    try:
        os.kill(process, signal.SIGKILL)
    except OSError:
        return


def main() -> None:
    """Watch a bench: ``guardian PULSE_FD BENCH_PID SESSION JSON``; the JSON is what ``making_safe`` is given."""
    pulse, bench, session, spec = int(sys.argv[1]), int(sys.argv[2]), int(sys.argv[3]), sys.argv[4]
    for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(number, signal.SIG_IGN)  # it ends with the bench, never before
    silent_s = float(json.loads(spec)["silent_s"])
    if watch(pulse, silent_s):
        return
    end_processes(bench, session)
    command = [sys.executable, "-m", "niente.core.serving.making_safe", spec]
    subprocess.run(command, stdin=subprocess.DEVNULL, timeout=SAFE_S, check=False)


if __name__ == "__main__":
    main()
