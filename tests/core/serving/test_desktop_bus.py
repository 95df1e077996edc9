"""The desktop's bus, for real: a bus of the test's own with stand-ins for its two services."""

import os
import select
import shutil
import socket
import subprocess
import tempfile
import threading
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest
from jeepney import MessageType, new_method_return
from jeepney.bus_messages import message_bus
from jeepney.io.blocking import open_dbus_connection

from niente.core.serving.desktop_bus import LOGIN, NOTIFY, DesktopBus
from tests.waiting import PATIENCE_S

pytestmark = pytest.mark.skipif(shutil.which("dbus-daemon") is None, reason="no dbus-daemon here")


@pytest.fixture
def bus(tmp_path: Path) -> Iterator[str]:
    """A message bus of its own; ended by its own process id. Its socket's path is short: the system allows 107 characters."""
    room = Path(tempfile.mkdtemp(prefix="bus-", dir="/tmp"))
    config = tmp_path / "bus.conf"
    config.write_text(
        "<busconfig><type>session</type>"
        f"<listen>unix:path={room}/socket</listen><auth>EXTERNAL</auth>"
        '<policy context="default"><allow send_destination="*" eavesdrop="true"/><allow eavesdrop="true"/>'
        '<allow own="*"/></policy></busconfig>'
    )
    daemon = subprocess.Popen(
        ["dbus-daemon", f"--config-file={config}", "--nofork", "--print-address"], stdout=subprocess.PIPE, text=True
    )
    assert daemon.stdout is not None
    try:
        yield daemon.stdout.readline().strip()
    finally:
        daemon.terminate()
        daemon.wait(PATIENCE_S)
        daemon.stdout.close()
        shutil.rmtree(room)


class Service:
    """Answers calls to one name, and keeps them; ``Inhibit`` is answered with one end of a pair of sockets."""

    def __init__(self, bus: str, name: str) -> None:
        self.calls: list[tuple[str, tuple[Any, ...]]] = []
        self.lock, self._given = socket.socketpair()
        self._link = open_dbus_connection(bus=bus, enable_fds=True)
        self._link.send_and_get_reply(message_bus.RequestName(name), timeout=5)
        self.called, self._closing = threading.Event(), threading.Event()
        self._thread = threading.Thread(target=self._live, daemon=True)
        self._thread.start()

    def _live(self) -> None:
        while not self._closing.is_set():
            try:
                message = self._link.receive(timeout=0.3)
            except TimeoutError:
                continue
            except (OSError, ConnectionError):
                return
            if message.header.message_type != MessageType.method_call:
                continue
            member = message.header.fields[3]
            self.calls.append((member, message.body))
            if member == "Inhibit":
                self._link.send(new_method_return(message, "h", (self._given.fileno(),)))
            else:
                self._link.send(new_method_return(message, "u", (7,)))
            self.called.set()

    def lock_is_held(self) -> bool:
        """Whether somebody still holds the other end at this moment."""
        return not select.select([self.lock], [], [], 0.0)[0]

    def wait_for_release(self, seconds: float) -> bool:
        """Wait for the end of file that comes once nobody holds the other end; the daemon lets go of its copy when it will."""
        return bool(select.select([self.lock], [], [], seconds)[0]) and self.lock.recv(1) == b""

    def give_away(self) -> None:
        """Keep no end for ourselves: then only the one who asked holds it."""
        self._given.close()

    def close(self) -> None:
        self._closing.set()
        self._thread.join(12)
        self._link.close()
        self.lock.close()
        self._given.close()


@pytest.fixture
def serve(bus: str) -> Iterator[Callable[[str], Service]]:
    """Starts a service under a name; it ends with the test, however that ends."""
    services: list[Service] = []

    def start(name: str) -> Service:
        services.append(Service(bus, name))
        return services[-1]

    yield start
    for service in services:
        service.close()


@pytest.fixture
def desktop_bus(bus: str) -> Iterator[DesktopBus]:
    made = DesktopBus(session_bus=bus, system_bus=bus)
    yield made
    made.close()


def test_a_word_is_shown_by_the_desktop(serve: Callable[[str], Service], desktop_bus: DesktopBus) -> None:
    service = serve(NOTIFY[1])
    desktop_bus.notify("Larkspur", "The plan is done.", urgent=True)
    assert service.called.wait(PATIENCE_S)
    member, body = service.calls[0]
    assert member == "Notify"
    assert body[0] == "Niente"
    assert body[3:5] == ("Larkspur", "The plan is done.")
    assert body[6]["urgency"] == ("y", 2)


def test_sleep_is_kept_off_until_it_is_let_go(serve: Callable[[str], Service], desktop_bus: DesktopBus) -> None:
    service = serve(LOGIN[1])
    desktop_bus.keep_awake("A plan is running")
    assert service.called.wait(PATIENCE_S)
    assert service.calls == [("Inhibit", ("sleep:idle", "Niente", "A plan is running", "block"))]
    done = threading.Event()
    desktop_bus._later(done.set)
    assert done.wait(PATIENCE_S)
    service.give_away()
    assert service.lock_is_held()
    desktop_bus.let_sleep()
    assert service.wait_for_release(10)


def test_without_a_bus_nothing_happens_and_nothing_breaks() -> None:
    desktop_bus = DesktopBus(session_bus="unix:path=/nowhere/bus", system_bus="unix:path=/nowhere/bus")
    before = len(os.listdir("/proc/self/fd"))
    for _ in range(3):
        desktop_bus.notify("Larkspur", "words")
        desktop_bus.keep_awake("a plan")
        desktop_bus.let_sleep()
    desktop_bus.close()
    assert len(os.listdir("/proc/self/fd")) <= before + 1


def test_a_bus_that_was_never_needed_has_no_thread() -> None:
    desktop_bus = DesktopBus()
    desktop_bus.close()
    assert desktop_bus._thread is None
