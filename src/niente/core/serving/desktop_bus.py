"""The desktop around the window: a word when a plan ends, and no sleep while one runs. All of it where there is a bus.

The desktop's message bus is asked in a thread of its own: the window never waits for it, and a desktop without one, or
without the service, simply goes without.
"""

import contextlib
import queue
import threading
from collections.abc import Callable
from typing import Any

NOTIFY = ("/org/freedesktop/Notifications", "org.freedesktop.Notifications", "org.freedesktop.Notifications")
LOGIN = ("/org/freedesktop/login1", "org.freedesktop.login1", "org.freedesktop.login1.Manager")
ANSWER_S = 3.0


class DesktopBus:
    """Notifications and the sleep lock, by the freedesktop.org specifications (Desktop Notifications 1.2; login1)."""

    def __init__(self, session_bus: str = "SESSION", system_bus: str = "SYSTEM") -> None:
        self._buses = {"session": session_bus, "system": system_bus}
        self._links: dict[str, Any] = {}
        self._lock: Any = None
        self._work: queue.Queue[Callable[[], None] | None] = queue.Queue()
        self._thread: threading.Thread | None = None

    def notify(self, title: str, text: str, *, urgent: bool = False) -> None:
        """Show a notification."""
        self._later(lambda: self._notify(title, text, urgent))

    def keep_awake(self, why: str) -> None:
        """Ask the machine not to go to sleep until ``let_sleep``."""
        self._later(lambda: self._take_lock(why))

    def let_sleep(self) -> None:
        """Let go of the sleep lock."""
        self._later(self._drop_lock)

    def close(self) -> None:
        """Let go of everything."""
        if self._thread is None:
            return
        self._work.put(self._drop_lock)
        self._work.put(None)
        self._thread.join(2 * ANSWER_S)
        self._thread = None

    # -- in the bus's thread ------------------------------------------------------------------------------------

    def _later(self, work: Callable[[], None]) -> None:
        if self._thread is None:
            self._thread = threading.Thread(target=self._live, name="niente-desktop-bus", daemon=True)
            self._thread.start()
        self._work.put(work)

    def _live(self) -> None:
        while (work := self._work.get()) is not None:
            # No bus, no service, or a service that says no: the desktop goes without, and nothing else is lost.
            with contextlib.suppress(Exception):
                work()
        for link in self._links.values():
            link.close()
        self._links = {}

    def _ask(self, bus: str, address: tuple[str, str, str], method: str, signature: str, body: tuple[Any, ...]) -> Any:
        from jeepney import DBusAddress, new_method_call
        from jeepney.io.blocking import open_dbus_connection
        from jeepney.wrappers import unwrap_msg

        if bus not in self._links:
            self._links[bus] = open_dbus_connection(bus=self._buses[bus], enable_fds=True)
        path, name, interface = address
        call = new_method_call(DBusAddress(path, bus_name=name, interface=interface), method, signature, body)
        return unwrap_msg(self._links[bus].send_and_get_reply(call, timeout=ANSWER_S))

    def _notify(self, title: str, text: str, urgent: bool) -> None:
        hints = {"urgency": ("y", 2 if urgent else 1), "desktop-entry": ("s", "org.niente.Niente")}
        body: tuple[Any, ...] = ("Niente", 0, "org.niente.Niente", title, text, [], hints, -1)
        self._ask("session", NOTIFY, "Notify", "susssasa{sv}i", body)

    def _take_lock(self, why: str) -> None:
        if self._lock is None:
            (lock,) = self._ask("system", LOGIN, "Inhibit", "ssss", ("sleep:idle", "Niente", why, "block"))
            self._lock = lock

    def _drop_lock(self) -> None:
        if self._lock is not None:
            self._lock.close()
            self._lock = None
