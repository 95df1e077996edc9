"""The bench's side of the protocol: it takes clients in, tells each what happens, and carries out what one of them commands."""

import contextlib
import logging
import os
import socket
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from niente import __version__
from niente.core.acquisition.bench import Bench
from niente.core.model.commands import WhenLost
from niente.core.model.errors import BookError, NienteError, RigError
from niente.core.model.records import HandCardShown, Record
from niente.core.serving.channel import ChannelError, MessageChannel, decoder_for, is_own
from niente.core.serving.messages import (
    PROTOCOL,
    AddNote,
    AskForCommand,
    ChangePlan,
    CommandPassed,
    CommandWanted,
    ConfirmCard,
    Denied,
    Ended,
    GiveCommand,
    HandOverCommand,
    Hello,
    JudgeRun,
    Leave,
    MetersShown,
    PaceSet,
    PutInForce,
    ReadCautions,
    Refused,
    Request,
    SaveProject,
    SetPace,
    SetWhenLost,
    StartPlan,
    StopPlanNow,
    TakeSheet,
    TickBoxes,
    Welcome,
)
from niente.core.serving.outbox import Outbox, OutboxFullError
from niente.core.serving.under_way import UnderWay

LOG = logging.getLogger(__name__)
LINGER_S = 3.0
"""A bench that nobody looks on, and that runs nothing, ends after so long."""
HELLO_S = 5.0
"""A client that does not say hello within this time is none."""
LOOK_S = 0.2
TOLD_S = 1.0
"""A client hears of the bench's end within this time, or not."""
METERS_S = 0.3
_REQUESTS = decoder_for(Hello | Request)


class Client:
    """One client: its line, what is queued for it, and how it left."""

    def __init__(self, channel: MessageChannel[Any], when_lost: WhenLost) -> None:
        self.channel = channel
        self.outbox = Outbox()
        self.when_lost = when_lost
        self.left: Leave | None = None
        self.told = threading.Event()
        """Set once everything that was queued is sent."""


class BenchServer:
    """Serves one bench. It is the bench's listener (``hear``) from the beginning, and gets the bench itself with ``serve``."""

    def __init__(self) -> None:
        self._under_way = UnderWay()
        self._clients: list[Client] = []
        self._commander: Client | None = None
        self._asking: Client | None = None
        self._order = threading.RLock()
        self._bench: Bench | None = None
        self._listening: socket.socket | None = None
        self._alone_since = time.monotonic()
        self.over = threading.Event()
        """Set once the bench is to end."""
        self.told_to_end = False
        """The same, for a signal: it sets this and nothing else."""

    # -- the bench's side --------------------------------------------------------------------------------------

    def hear(self, record: Record) -> None:
        """Tell every client a record; waits for none of them."""
        with self._order:
            self._under_way.hear(record)
            for client in list(self._clients):
                try:
                    client.outbox.put(record)
                except OutboxFullError:
                    self._drop(client, "it took nothing for too long")
        if isinstance(record, HandCardShown) and record.card is not None and record.card.readings:
            threading.Thread(target=self._tell_meters, name="niente-meters", daemon=True).start()

    def _ends(self) -> bool:
        return self.told_to_end or self.over.is_set()

    def alone(self) -> bool:
        """Return whether nobody looks on."""
        return not self._clients

    def serve(self, bench: Bench) -> None:
        """Begin to take clients in for a bench."""
        self._bench = bench
        self._alone_since = time.monotonic()

    def listen(self, path: Path) -> None:
        """Take clients in at a socket. What is left of an earlier bench there is put away: this one holds the book."""
        path.unlink(missing_ok=True)
        self._listening = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
        before = os.umask(0o177)
        try:
            self._listening.bind(str(path))
        finally:
            os.umask(before)
        self._listening.listen(16)
        threading.Thread(target=self._accept, args=(self._listening,), name="niente-accept", daemon=True).start()

    def wait_until_over(self) -> None:
        """Wait until the bench is to end: it was told to, or nobody looks on and nothing runs."""
        while not (self.told_to_end or self.over.wait(LOOK_S)):
            with self._order:
                bench = self._bench
                if self._clients or (bench is not None and bench.busy):
                    self._alone_since = time.monotonic()
                elif time.monotonic() - self._alone_since > LINGER_S:
                    return

    def close(self, words: str) -> None:
        """Take nobody in any more, tell who is there that the bench has ended, and hang up."""
        if self._listening is not None:
            with contextlib.suppress(OSError):
                Path(self._listening.getsockname()).unlink(missing_ok=True)
            self._listening.close()
        with self._order:
            clients, self._clients = self._clients, []
        for client in clients:
            with contextlib.suppress(OutboxFullError):
                client.outbox.say(Ended(words))
            client.outbox.close()
        until = time.monotonic() + TOLD_S
        for client in clients:
            client.told.wait(max(until - time.monotonic(), 0.0))

    # -- clients -----------------------------------------------------------------------------------------------

    def _accept(self, listening: socket.socket) -> None:
        while True:
            try:
                link, _ = listening.accept()
            except OSError:
                return
            if is_own(link):
                self.take_in(link)
            else:
                link.close()

    def take_in(self, link: socket.socket) -> None:
        """Serve a connection in threads of its own."""
        threading.Thread(target=self._serve_client, args=(link,), name="niente-client", daemon=True).start()

    def _serve_client(self, link: socket.socket) -> None:
        channel = MessageChannel(link, _REQUESTS)
        client: Client | None = None
        try:
            channel.patience(HELLO_S)
            hello = channel.receive()
            channel.patience(None)
            if not isinstance(hello, Hello):
                raise ChannelError("no hello")
            problem = self._problem_with(hello)
            if problem is not None:
                channel.send(Refused(problem.text))
                return
            client = self._welcome(channel, hello)
            threading.Thread(target=self._tell, args=(client,), name="niente-teller", daemon=True).start()
            while (request := channel.receive()) is not None:
                if isinstance(request, Leave):
                    client.left = request
                    break
                self._carry_out(client, request)
        except (ChannelError, OSError) as error:
            LOG.warning("a client was dropped: %s", error)
        except Exception:
            LOG.exception("a client was dropped")
        finally:
            if client is None:
                channel.close()
            elif not self._ends_with(client):
                self._gone(client)

    def _problem_with(self, hello: Hello) -> NienteError | None:
        if hello.protocol != PROTOCOL:
            return BookError(
                f"The bench of this book was started by Niente {__version__}, and this is Niente {hello.version}: they do not "
                "speak the same protocol.",
                safe="The bench there goes on.",
                remedy="End it with the Niente that started it, then open the book again.",
            )
        if self._bench is None or self._ends():
            return RigError("The bench is closing.", remedy="Open the book again in a moment.")
        return None

    def _welcome(self, channel: MessageChannel[Any], hello: Hello) -> Client:
        """Take a client in: how the bench stands, then what is under way, then whatever follows."""
        assert self._bench is not None
        bench, client = self._bench, Client(channel, hello.when_lost)
        with contextlib.suppress(BookError):
            bench.writer.flush()  # the client reads the samples so far from the book
        with self._order:
            if hello.commands and self._commander is None:
                self._commander = client
            welcome = Welcome(
                PROTOCOL,
                __version__,
                str(bench.path),
                bench.card,
                bench.own_card,
                bench.first_sheet,
                bench.sheet_problems,
                bench.project,
                bench.interrupted,
                bench.cautions_read,
                bench.busy,
                bench.pace,
                self._commander is client,
                self._under_way.first_run or 0,
                bench.stays,
            )
            client.outbox.say(welcome)
            for record in self._under_way.before_samples():
                client.outbox.put(record)
            run, last_s = self._under_way.run, self._under_way.last_s
            if bench.busy and run is not None and last_s is not None:
                client.outbox.miss(run.run_id, float("-inf"), last_s)
            for record in self._under_way.after_samples():
                client.outbox.put(record)
            if bench.open_card is not None:
                client.outbox.say(MetersShown(bench.shown))
            self._clients.append(client)
        return client

    def _tell(self, client: Client) -> None:
        """Send a client what is queued for it, until it is gone."""
        try:
            while (messages := client.outbox.take()) is not None:
                for message in messages:
                    client.channel.send(message)
        except OSError:
            return
        finally:
            client.channel.close()
            client.told.set()

    def _ends_with(self, client: Client) -> bool:
        """Return whether the bench is to end with the client that leaves, which then hears of the end."""
        with self._order:
            stop = client.left is not None and client.left.stop and self._commander is client
            if not stop or self._clients != [client]:
                return False
            self.over.set()
            return True

    def _gone(self, client: Client) -> None:
        """A client has ended, with or without a word."""
        client.outbox.close()
        with self._order:
            if client in self._clients:
                self._clients.remove(client)
            commanded, self._commander = self._commander is client, None if self._commander is client else self._commander
            alone = not self._clients
            self._asking = None if self._asking is client else self._asking
        bench = self._bench
        if bench is None or not commanded:
            return
        if client.left is None and not self._ends():
            LOG.warning("the commanding client ended without a word; the bench is to %s", client.when_lost)
        stop = client.left.stop if client.left is not None else client.when_lost == WhenLost.STOP
        if stop and alone:
            self.over.set()
        elif stop:
            bench.stop()

    def _drop(self, client: Client, why: str) -> None:
        LOG.warning("a client was dropped: %s", why)
        self._clients.remove(client)
        client.channel.close()

    # -- requests ----------------------------------------------------------------------------------------------

    def _carry_out(self, client: Client, request: Any) -> None:
        """Carry a request out; what speaks against it goes back in words, a bug into the log."""
        try:
            if isinstance(request, AskForCommand):
                self._ask_for_command(client)
                return
            if client is not self._commander:
                raise self._looks_on()
            self._commanded(client, request)
        except NienteError as error:
            client.outbox.say(Denied(type(request).__name__, error.text))
        except Exception as error:
            LOG.exception("a request failed")
            words = NienteError(
                f"The bench could not carry that out: {type(error).__name__}.",
                safe="What runs goes on.",
                remedy="See the log (Help), and try it again.",
            )
            client.outbox.say(Denied(type(request).__name__, words.text))

    def _looks_on(self) -> BookError:
        title = self._bench.card.title if self._bench is not None else "the bench"
        return BookError(
            f"Another window or terminal commands {title}; this one is view-only.",
            safe="What runs there goes on.",
            remedy="Ask for command, or do it there.",
        )

    def _commanded(self, client: Client, request: Any) -> None:
        bench = self._bench
        assert bench is not None
        do: dict[type, Callable[[Any], object]] = {
            StartPlan: lambda one: bench.start(one.plan, one.limits),
            PutInForce: lambda one: bench.put_in_force(one.setting),
            GiveCommand: lambda one: bench.send_command(one.command),
            StopPlanNow: lambda _: bench.stop(),
            ConfirmCard: lambda one: bench.confirm(one.readings),
            TickBoxes: lambda one: bench.tick(one.boxes),
            JudgeRun: lambda one: bench.judge(machine_down=one.machine_down),
            ChangePlan: lambda one: bench.change_plan(one.plan),
            TakeSheet: lambda one: bench.take_sheet(one.sheet),
            ReadCautions: lambda _: bench.read_cautions(),
            AddNote: lambda one: bench.note(one.text),
            SaveProject: lambda one: bench.save_project(one.project),
            SetPace: lambda one: self._set_pace(bench, one.pace),
            SetWhenLost: lambda one: setattr(client, "when_lost", one.when_lost),
            HandOverCommand: lambda _: self._pass_command(self._asking),
        }
        do[type(request)](request)

    def _set_pace(self, bench: Bench, pace: float | None) -> None:
        bench.set_pace(pace)
        with self._order:
            for client in self._clients:
                client.outbox.say(PaceSet(bench.pace))

    def _ask_for_command(self, client: Client) -> None:
        with self._order:
            if self._commander is None or self._commander is client:
                self._pass_command(client)
                return
            self._asking = client
            self._commander.outbox.say(CommandWanted())

    def _pass_command(self, to: Client | None) -> None:
        with self._order:
            if to is None or to not in self._clients:
                return
            before, self._commander, self._asking = self._commander, to, None
            if before is not None and before is not to:
                before.outbox.say(CommandPassed(False))
            to.outbox.say(CommandPassed(True))

    def _tell_meters(self) -> None:
        """While a card asks for readings, tell what a simulated machine's meters show."""
        bench = self._bench
        while bench is not None and bench.open_card is not None and bench.card.simulated and not self._ends():
            with self._order:
                for client in self._clients:
                    with contextlib.suppress(OutboxFullError):
                        client.outbox.say(MetersShown(bench.shown))
            time.sleep(METERS_S)
