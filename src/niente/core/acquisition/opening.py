"""Opening a bench: the one way in. A book is opened for a rig, what an earlier end left open is closed, the threads start."""

from collections.abc import Callable
from pathlib import Path

from niente.core.acquisition.bench import Bench, HangLimits
from niente.core.acquisition.book_state import read_book_state
from niente.core.acquisition.recovery import close_open_runs
from niente.core.acquisition.sheeted_rig import SheetedRig
from niente.core.model.records import Listener
from niente.core.rigs.protocol import Rig
from niente.core.storage.recorder import Recorder
from niente.core.storage.writer import BookWriter


def open_bench(
    rig: Rig,
    book: Path,
    listener: Listener,
    *,
    variant: str | None = None,
    silent_limit_s: float = 10.0,
    hang_limit_s: float = 15.0,
    on_look: Callable[[], None] = lambda: None,
) -> Bench:
    """Return a started bench for a rig and a book, which is made where there is none.

    Runs that an earlier end left open are closed first (``Bench.interrupted``). ``listener`` is given every record, from the
    bench's threads, one at a time, and must not wait. ``variant`` is the state the machine is in, where it is not the one that
    the book knows. ``on_look`` is called a few times a second as long as the bench lives. Raises
    ``NienteError`` where book and rig do not belong together or one of them cannot be used; the book is then closed again,
    and the rig is the caller's.
    """
    sheeted = SheetedRig(rig)
    writer = BookWriter(book)
    try:
        recorder = Recorder(writer, sheeted.card)
        state = read_book_state(writer, recorder, sheeted, variant)
        interrupted = close_open_runs(book, recorder, sheeted.card)
        if interrupted is not None:
            sheeted.rig.make_safe()  # whatever ended everything may have left the load on
        limits = HangLimits(silent_limit_s, hang_limit_s)
        bench = Bench(sheeted, writer, recorder, listener, state, interrupted, limits, on_look)
    except BaseException:
        writer.close()
        raise
    bench.start_threads()
    return bench
