"""A sender that asks an observatory for its own address again and again (STUN), as an application in a call would."""

from __future__ import annotations

import secrets
import socket
import threading
import time
from collections.abc import Sequence
from contextlib import suppress

from zesty_burrow.core.outside import stun
from zesty_burrow.core.outside.transitions import Exchange
from zesty_burrow.errors import Malformed

PAUSE = 0.02
"""Seconds between two questions: as often as a call sends (RFC 3551 §4.2)."""
MOST = 200_000


class Sender:
    """A context manager; ``exchanges`` may be asked for at any time. ``target``: address and port."""

    def __init__(self, target: tuple[str, int]) -> None:
        self._target = target
        self._asked: dict[bytes, Exchange] = {}
        self._stopped = threading.Event()
        family = socket.AF_INET6 if ":" in target[0] else socket.AF_INET
        # Not connected: each packet takes the way and the source that the kernel then chooses.
        self._channel = socket.socket(family, socket.SOCK_DGRAM)
        self._channel.settimeout(PAUSE)
        self._threads = [threading.Thread(target=act, daemon=True) for act in (self._send, self._listen)]

    def __enter__(self) -> Sender:
        for thread in self._threads:
            thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._stopped.set()
        for thread in self._threads:
            thread.join()
        self._channel.close()

    @property
    def exchanges(self) -> Sequence[Exchange]:
        """All so far, in the order in which they were sent."""
        return list(self._asked.values())

    def _send(self) -> None:
        while not self._stopped.wait(PAUSE) and len(self._asked) < MOST:
            request, transaction = stun.binding_request(secrets.token_bytes)
            self._asked[transaction] = Exchange(time.monotonic())
            with suppress(OSError):
                self._channel.sendto(request, self._target)

    def _listen(self) -> None:
        while not self._stopped.is_set():
            try:
                data = self._channel.recv(2048)
            except OSError:
                continue
            transaction = data[8:20]
            known = self._asked.get(transaction)
            if known is None:
                continue
            with suppress(Malformed):
                address, _ = stun.read_response_untrusted(data, transaction)
                self._asked[transaction] = known._replace(answered=time.monotonic(), seen_as=address)
