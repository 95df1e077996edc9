"""How a book stands, read beside whoever writes it."""

import time
from pathlib import Path
from typing import Any

import click
import msgspec

from niente.core.model.errors import BookError
from niente.core.model.quantities import duration_text, quantity_of
from niente.core.model.runs import RunKind, RunOutcome
from niente.core.storage.notes import notes_in
from niente.core.storage.reader import BookReader, RunRecord

POLL_S = 0.5
NOTES = 10
"""So many notes are told, the latest ones."""


@click.command()
@click.argument("book", type=click.Path(path_type=Path))
@click.option("--json", "as_json", is_flag=True, help="Print it as JSON.")
@click.option("--follow", is_flag=True, help="Print it again whenever it changes, until Ctrl+C.")
def status(book: Path, as_json: bool, follow: bool) -> None:
    """Say how a book stands: what runs, how far it is, what happened last. The book may be written meanwhile."""
    reader = BookReader(book)
    try:
        shown: dict[str, Any] | None = None
        while True:
            now = status_of(reader)
            if now != shown:
                shown = now
                click.echo(msgspec.json.encode(now).decode() if as_json else status_text(now))
            if not follow:
                return
            time.sleep(POLL_S)
    finally:
        reader.close()


def status_of(reader: BookReader) -> dict[str, Any]:
    """Return how a book stands, as data; its keys stand in docs/reference and are kept."""
    card = reader.card()
    if card is None:
        raise BookError(f"The book {reader.path} has no rig yet.", remedy="Run a plan into it first.")
    runs = [run for run in reader.runs() if run.kind == RunKind.STEP]
    running = next((run for run in reversed(runs) if run.outcome is None), None)
    return {
        "rig": card.name,
        "title": card.title,
        "variant": card.variant,
        "runs": len(runs),
        "done": sum(run.outcome == RunOutcome.DONE for run in runs),
        "failed": sum(run.outcome == RunOutcome.FAILED for run in runs),
        "running": _running(reader, running) if running is not None else None,
        "notes": [msgspec.to_builtins(note) for note in notes_in(reader)[-NOTES:]],
        "last": _last_event(reader),
    }


def _last_event(reader: BookReader) -> dict[str, Any] | None:
    happened = reader.events()
    if not happened:
        return None
    last = happened[-1]
    return {"kind": last.kind, "said": last.body, "rig_time_s": last.rig_time_s}


def _running(reader: BookReader, run: RunRecord) -> dict[str, Any]:
    time_s, values = reader.frames(run)
    cores = [index for index, name in enumerate(run.channels) if name.startswith("core_temperature_c")]
    hottest = None
    if time_s.shape[0] and cores:
        read = [value for value in values[-1, cores].tolist() if value == value]
        hottest = round(max(read), 1) if read else None
    return {
        "run": run.id,
        "load": run.load,
        "setting": msgspec.to_builtins(run.setting),
        "seconds": round(float(time_s[-1] - time_s[0]), 1) if time_s.shape[0] else 0.0,
        "samples": int(time_s.shape[0]),
        "hottest_core_c": hottest,
    }


def status_text(data: dict[str, Any]) -> str:
    """Return how a book stands in one line."""
    failed = f", {data['failed']} failed" if data["failed"] else ""
    words = f"{data['title']}, {data['variant']}: {data['done']} of {data['runs']} runs done{failed}"
    now = data["running"]
    if now is not None:
        hot = now["hottest_core_c"]
        reading = f", hottest core {quantity_of('hottest_core_c').with_unit(hot)}" if hot is not None else ""
        words += f"; {now['load']} for {duration_text(now['seconds'])}{reading}"
    elif data["last"] is not None:
        words += f"; nothing runs; last: {data['last']['kind']}"
    return words
