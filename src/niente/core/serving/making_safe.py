"""Making a machine safe from a fresh interpreter, after the one that drove it is gone; and saying so in the book."""

import logging
import sys
import time
from pathlib import Path

import msgspec

from niente.core.acquisition.attachment import Driver, opened_by
from niente.core.model.errors import BookBusyError, NienteError
from niente.core.model.records import MadeSafe
from niente.core.serving.run_folder import digest_of
from niente.core.storage.connection import WriterLock
from niente.core.storage.log_files import start_log
from niente.core.storage.reader import BookReader
from niente.core.storage.recorder import Recorder
from niente.core.storage.writer import BookWriter

LOCK_S = 1.0
"""The book is free again within this time after its bench was ended."""
LOG = logging.getLogger(__name__)


class SafeSpec(msgspec.Struct, frozen=True):
    """What a guardian has to know: the book, how its rig is opened, whether that is simulated (its load then ended with the
    bench), and after how much silence it acts."""

    book: str
    driver: Driver
    seed: int
    simulated: bool
    silent_s: float
    title: str


def make_safe(spec: SafeSpec) -> MadeSafe:
    """End the load and put the safe setting back; return what came of it."""
    left = f"The bench of {spec.title} ended without a word"
    if spec.simulated:
        return MadeSafe(True, f"{left}. The machine is simulated: its load ended with it.")
    try:
        rig = opened_by(spec.driver, spec.seed)
        rig.make_safe()
        rig.close()
    except Exception as error:
        return MadeSafe(
            False,
            f"{left}, and its guardian could not make the machine safe: {error}. Look at the machine: end its load there.",
        )
    return MadeSafe(True, f"{left}. Its guardian ended the load and put the safe setting back.")


def write_down(book: Path, said: MadeSafe) -> None:
    """Write into the book what was done. Raises ``NienteError`` where that cannot be."""
    writer = BookWriter(book)
    try:
        reader = BookReader(book)
        card = reader.card()
        reader.close()
        if card is not None:
            Recorder(writer, card).write(said)
    finally:
        writer.close()


def act(spec: SafeSpec) -> None:
    """Make the machine safe and write that down. Where another bench has the book by now, the machine is that one's: it made
    it safe when it found the run open, and drives it."""
    book = Path(spec.book)
    lock: WriterLock | None = None
    try:
        lock = _locked(book)
    except BookBusyError:
        LOG.warning("another bench has the book already; the machine is left to it")
        return
    except NienteError as error:
        LOG.warning("the book cannot be written: %s", error)
    said = make_safe(spec)
    LOG.warning("%s", said.text)
    if lock is not None:
        lock.release()
        try:
            write_down(book, said)
        except NienteError as error:
            LOG.warning("it could not be written into the book: %s", error)


def _locked(book: Path) -> WriterLock:
    """Return the book's lock, which a bench that was ended lets go within a moment. Raises ``BookError``."""
    until = time.monotonic() + LOCK_S
    while True:
        try:
            return WriterLock(book)
        except BookBusyError:
            if time.monotonic() > until:
                raise
            time.sleep(0.02)


def main(argv: list[str] | None = None) -> None:
    """Act on a spec."""
    spec = msgspec.json.decode((argv or sys.argv[1:])[0], type=SafeSpec)
    start_log(f"guardian-{digest_of(Path(spec.book))}")
    act(spec)


if __name__ == "__main__":
    main()
