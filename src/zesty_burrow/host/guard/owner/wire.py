"""The guard's socket: one JSON document a line each way. The same on both sides."""

from __future__ import annotations

import json
import os
import socket
import struct
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path
from typing import Any

MAX_LINE = 1 << 20
SEND_SECONDS = 1.0
CREDENTIALS = struct.Struct("3i")


def socket_of(record: Path) -> Path:
    """Where the guard's process listens whose record is at ``record``."""
    return record.with_suffix(".socket")


def peer_user(channel: socket.socket) -> int:
    """The user at the other end of a Unix socket."""
    return int(CREDENTIALS.unpack(channel.getsockopt(socket.SOL_SOCKET, socket.SO_PEERCRED, CREDENTIALS.size))[1])


def listen(path: Path) -> socket.socket:
    """A listening socket at ``path``. Everybody may connect; what somebody may ask depends on who it is.

    Raises ``OSError``.
    """
    path.unlink(missing_ok=True)
    channel = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM | socket.SOCK_CLOEXEC)
    before = os.umask(0o111)
    try:
        channel.bind(str(path))
    finally:
        os.umask(before)
    channel.listen(32)
    channel.setblocking(False)
    return channel


class Connection:
    """A caller at the service. ``uid``: who it is."""

    def __init__(self, channel: socket.socket) -> None:
        channel.settimeout(SEND_SECONDS)
        self.channel, self.uid, self.is_closed = channel, peer_user(channel), False
        self._received = b""

    def take_requests(self) -> Iterator[Any]:
        """The documents that have come whole; None for a line that is no document. To be called when there is
        something.
        """
        try:
            part = self.channel.recv(65536, socket.MSG_DONTWAIT)
        except BlockingIOError:
            return
        except OSError:
            part = b""
        self._received += part
        self.is_closed = not part or len(self._received) > MAX_LINE
        *lines, self._received = self._received.split(b"\n")
        for line in lines:
            try:
                yield json.loads(line)
            except (ValueError, RecursionError):
                yield None

    def send(self, document: dict[str, Any]) -> None:
        """Answer. A caller that does not read its answer is given up."""
        try:
            self.channel.sendall(json.dumps(document).encode() + b"\n")
        except OSError:
            self.is_closed = True


def call(path: Path, document: dict[str, Any], timeout: float) -> tuple[dict[str, Any], int]:
    """Ask the service at ``path``; its answer, and the user that it runs as.

    Raises ``FileNotFoundError`` or ``ConnectionRefusedError`` where none runs, ``PermissionError`` where it may not be
    asked, ``TimeoutError`` where it does not answer, other ``OSError`` or ``ValueError`` where it ends before it has
    answered.
    """
    with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM | socket.SOCK_CLOEXEC) as channel:
        channel.settimeout(timeout)
        channel.connect(str(path))
        channel.sendall(json.dumps(document).encode() + b"\n")
        received = b""
        with suppress(ConnectionResetError):
            while not received.endswith(b"\n") and len(received) <= MAX_LINE:
                part = channel.recv(65536)
                if not part:
                    break
                received += part
        if not received.endswith(b"\n"):
            raise ConnectionResetError("it ended instead of answering")
        answer = json.loads(received)
        if not isinstance(answer, dict):
            raise ValueError("the answer is no object")
        return answer, peer_user(channel)
