"""Messages over a local stream socket: the length of each, four bytes little-endian, then the message as MessagePack."""

import contextlib
import os
import socket
import struct
import threading
from typing import Any, Generic, TypeVar

import msgspec
import numpy as np

from niente.core.science.arrays import Array

M = TypeVar("M")
LENGTH = struct.Struct("<I")
MAX_BYTES = 256 * 2**20
"""A longer message is rubbish: the longest there are is a plan of thousands of runs, some MB."""
CREDENTIALS = struct.Struct("3i")


class ChannelError(Exception):
    """What came over a channel is no message of its kind."""


def _as_plain(value: Any) -> Any:
    """Return an array as its shape and its bytes."""
    if isinstance(value, np.ndarray):
        return value.shape, np.ascontiguousarray(value, "<f8").tobytes()
    raise NotImplementedError(type(value).__name__)


def _from_plain(kind: type, value: Any) -> Array:
    """Return an array from its shape and its bytes; it can be written to. Raises ``ValueError`` for what is none."""
    shape, data = value
    found: Array = np.frombuffer(bytearray(data), "<f8").reshape(tuple(shape))
    return found


ENCODER = msgspec.msgpack.Encoder(enc_hook=_as_plain)


def decoder_for(kinds: Any) -> msgspec.msgpack.Decoder[Any]:
    """Return a decoder for a union of messages."""
    return msgspec.msgpack.Decoder(kinds, dec_hook=_from_plain)


class MessageChannel(Generic[M]):
    """One end of a connection; ``M`` is what comes in."""

    def __init__(self, link: socket.socket, incoming: msgspec.msgpack.Decoder[M]) -> None:
        self._link = link
        self._incoming = incoming
        self._sending = threading.Lock()

    def send(self, message: msgspec.Struct) -> None:
        """Send a message, and wait until the other side's end of the line has room for it. Raises ``OSError``."""
        data = ENCODER.encode(message)
        with self._sending:
            self._link.sendall(LENGTH.pack(len(data)) + data)

    def receive(self) -> M | None:
        """Wait for a message; ``None`` once the other side has ended. Raises ``ChannelError`` for rubbish."""
        head = self._exactly(LENGTH.size)
        if head is None:
            return None
        (length,) = LENGTH.unpack(head)
        if length > MAX_BYTES:
            raise ChannelError(f"a message of {length} bytes")
        data = self._exactly(length)
        if data is None:
            return None
        try:
            return self._incoming.decode(data)
        except (msgspec.DecodeError, ValueError, TypeError, RecursionError) as error:
            raise ChannelError(str(error)) from None

    def patience(self, seconds: float | None) -> None:
        """Wait so long at most for what is sent and received; ``None`` for as long as it takes."""
        self._link.settimeout(seconds)

    def close(self) -> None:
        """Hang up; whoever waits on either side gets out."""
        with contextlib.suppress(OSError):
            self._link.shutdown(socket.SHUT_RDWR)
        self._link.close()

    def _exactly(self, count: int) -> bytes | None:
        """Return so many bytes; ``None`` where the other side ended before."""
        parts = bytearray()
        while len(parts) < count:
            try:
                part = self._link.recv(min(count - len(parts), 2**20))
            except ConnectionError:
                return None
            except OSError as error:
                if isinstance(error, TimeoutError):
                    raise
                return None
            if not part:
                return None
            parts += part
        return bytes(parts)


def is_own(link: socket.socket) -> bool:
    """Return whether the process at the other end is this person's."""
    data = link.getsockopt(socket.SOL_SOCKET, socket.SO_PEERCRED, CREDENTIALS.size)
    _, user, _ = CREDENTIALS.unpack(data)
    return bool(user == os.getuid())
