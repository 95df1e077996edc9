"""A bench with its server in the tests' own process: the same protocol, over a pair of sockets."""

import socket
import threading
import weakref
from collections.abc import Callable, Iterable, Iterator

from niente.core.acquisition.bench import Bench
from niente.core.acquisition.client import Hearer
from niente.core.model.frame import Frame
from niente.core.model.records import FrameTaken, Listener, Record, SamplesTaken
from niente.core.serving.remote_bench import RemoteBench
from niente.core.serving.server import BenchServer


class Guest(RemoteBench):
    """Another client of a bench in this process."""

    left = False

    def close(self, wait_s: float = 10.0) -> None:
        """Leave."""
        self.left = True
        super().close(wait_s)


_GUESTS: weakref.WeakKeyDictionary[BenchServer, list[Guest]] = weakref.WeakKeyDictionary()


class BenchHere(RemoteBench):
    """A client of a bench in this process."""

    server: BenchServer
    bench: Bench
    """The bench itself, for tests to look at."""
    over: threading.Event
    """Set once the bench has let go of its book."""

    def close(self, wait_s: float = 10.0) -> None:
        """Leave, and wait until the bench has let go of its book, which it does once its last client has left."""
        super().close(wait_s)
        if all(guest.left for guest in _GUESTS.get(self.server, [])):
            self.over.wait(wait_s)


def serve_here(open_it: Callable[[Listener], Bench], listener: Hearer) -> BenchHere:
    """Return a client of a bench that is opened and served here."""
    server = BenchServer()
    bench = open_it(server.hear)
    server.serve(bench)
    over = threading.Event()

    def live() -> None:
        server.wait_until_over()
        bench.close()
        server.close("The bench ended.")
        over.set()

    threading.Thread(target=live, name="bench-here", daemon=True).start()
    client = BenchHere(_line_to(server), listener)
    client.server, client.bench, client.over = server, bench, over
    return client


def another_client(server: BenchServer, listener: Hearer) -> RemoteBench:
    """Return another client of a server in this process."""
    guest = Guest(_line_to(server), listener)
    _GUESTS.setdefault(server, []).append(guest)
    return guest


def _line_to(server: BenchServer) -> socket.socket:
    ours, theirs = socket.socketpair()
    server.take_in(theirs)
    return ours


def one_by_one(records: Iterable[Record]) -> Iterator[Record]:
    """Return records with samples that came together told one by one, as a bench itself tells them."""
    for record in records:
        if isinstance(record, SamplesTaken):
            for time_s, values in zip(record.time_s.tolist(), record.values, strict=True):
                yield FrameTaken(Frame(time_s, values), record.run_id)
        else:
            yield record
