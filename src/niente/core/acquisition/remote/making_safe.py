"""Making a machine safe from a fresh interpreter, after the one that drove it is gone; and saying so in the book."""

import sys
import time
from pathlib import Path
from typing import Any

import msgspec

from niente.core.acquisition.attachment import Driver, opened_by
from niente.core.model.errors import BookBusyError, NienteError
from niente.core.model.records import MadeSafe
from niente.core.storage.reader import BookReader
from niente.core.storage.recorder import Recorder
from niente.core.storage.writer import BookWriter

LOCK_S = 10.0
"""The book is free again within this time after its bench was ended."""


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


def write(spec: SafeSpec, said: MadeSafe) -> None:
    """Write into the book what was done. Raises ``NienteError`` where another bench has the book by now."""
    until = time.monotonic() + LOCK_S
    while True:
        try:
            writer = BookWriter(Path(spec.book))
            break
        except BookBusyError:
            if time.monotonic() > until:
                raise
            time.sleep(0.05)
    try:
        reader = BookReader(writer.path)
        card = reader.card()
        reader.close()
        if card is not None:
            Recorder(writer, card).write(said)
    finally:
        writer.close()


def main(argv: list[str] | Any = None) -> None:
    """Make the machine of a spec safe, and write that down."""
    spec = msgspec.json.decode((argv or sys.argv[1:])[0], type=SafeSpec)
    said = make_safe(spec)
    try:
        write(spec, said)
    except NienteError as error:
        print(f"{said.text} {error}", file=sys.stderr)


if __name__ == "__main__":
    main()
