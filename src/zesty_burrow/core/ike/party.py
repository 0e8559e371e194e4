"""What both ends of an IKE SA share: sealing, message numbers, retransmission, the queue of events."""

from __future__ import annotations

import hashlib
import ipaddress
from collections import deque
from collections.abc import Iterable
from dataclasses import dataclass

from zesty_burrow.core.ike.events import Datagram, Endpoint, Event
from zesty_burrow.core.ike.keys import IkeKeys
from zesty_burrow.core.ike.message import Header, Message, build_sealed, open_sealed
from zesty_burrow.core.ike.payloads import Payload
from zesty_burrow.core.ike.registry import Flag
from zesty_burrow.core.protection import Protection, Random
from zesty_burrow.errors import Malformed, ProgramFault

NON_ESP_MARKER = bytes(4)
KEEPALIVE = b"\xff"
"""RFC 3948 §2.2, §2.3."""


@dataclass(frozen=True, slots=True)
class Backoff:
    """When to send a request again (RFC 7296 §2.4): seconds; each wait is ``factor`` times the one before."""

    first: float = 0.5
    factor: float = 2.0
    give_up: float = 15.0


@dataclass(slots=True)
class Outstanding:
    """A request that waits for its answer."""

    message_id: int
    datagram: Datagram
    started: float
    wait: float
    due: float
    give_up: float


def with_marker(data: bytes, encapsulated: bool) -> bytes:
    """Put the non-ESP marker in front where the port asks for it."""
    return NON_ESP_MARKER + data if encapsulated else data


def nat_detection_hash(spi_i: bytes, spi_r: bytes, endpoint: Endpoint) -> bytes:
    """RFC 7296 §2.23: SHA-1 over both SPIs, the address and the port."""
    host, port = endpoint
    octets = spi_i + spi_r + ipaddress.ip_address(host).packed + port.to_bytes(2)
    return hashlib.sha1(octets, usedforsecurity=False).digest()


class Party:
    """One end of one IKE SA. No I/O, no clock, no randomness of its own."""

    def __init__(self, random: Random, backoff: Backoff, *, is_initiator: bool) -> None:
        self.is_initiator = is_initiator
        self.spi_i = bytes(8)
        self.spi_r = bytes(8)
        self.keys: IkeKeys | None = None
        self.ignored: deque[str] = deque(maxlen=20)
        self._random = random
        self._backoff = backoff
        self._out: deque[Datagram] = deque()
        self._events: deque[Event] = deque()
        self._sending: Protection | None = None
        self._receiving: Protection | None = None
        self._outstanding: Outstanding | None = None
        self._next_request_id = 0
        self._peer_request_id = 0
        self._last_response: Datagram | None = None
        self._opened: tuple[Message, tuple[Payload, ...]] | None = None

    # The calls that a pump makes.

    def send(self, now: float) -> list[Datagram]:
        """Datagrams to send now."""
        out = list(self._out)
        self._out.clear()
        return out

    def next_event(self) -> Event | None:
        """The next event, or None."""
        return self._events.popleft() if self._events else None

    # What the machines build on.

    def _use_keys(self, keys: IkeKeys) -> None:
        self.keys = keys
        self._sending = keys.protection(self.is_initiator, self._random)
        self._receiving = keys.protection(not self.is_initiator, self._random)

    def _header(self, exchange: int, message_id: int, *, response: bool) -> Header:
        flags = (Flag.INITIATOR if self.is_initiator else 0) | (Flag.RESPONSE if response else 0)
        return Header(self.spi_i, self.spi_r, exchange, flags, message_id)

    def _seal(self, exchange: int, message_id: int, payloads: Iterable[Payload], *, response: bool) -> bytes:
        if self._sending is None:
            raise ProgramFault("a message is to be sealed before there are keys")
        return build_sealed(self._header(exchange, message_id, response=response), payloads, self._sending)

    def _open(self, message: Message) -> tuple[Payload, ...]:
        if self._receiving is None or not message.sealed_at:
            raise Malformed("a message was turned away", why="it is not protected")
        if self._opened is None or self._opened[0] is not message:
            self._opened = message, open_sealed(message, self._receiving)
        return self._opened[1]

    def _ask(self, data: bytes, message_id: int, now: float, port: int, to: Endpoint, give_up: float = 0.0) -> None:
        """Send a request and keep it until it is answered."""
        datagram = Datagram(data, port, to)
        wait = self._backoff.first
        limit = now + (give_up or self._backoff.give_up)
        self._outstanding = Outstanding(message_id, datagram, now, wait, now + wait, limit)
        self._out.append(datagram)

    def _answered(self, message_id: int) -> bool:
        """Whether this number answers the outstanding request; if so the request is done with."""
        if self._outstanding is None or self._outstanding.message_id != message_id:
            return False
        self._outstanding = None
        return True

    def _retransmit(self, now: float) -> bool:
        """Send the outstanding request again if its time has come; True once it is time to give up."""
        request = self._outstanding
        if request is None or now < request.due:
            return False
        if now >= request.give_up:
            self._outstanding = None
            return True
        self._out.append(request.datagram)
        request.wait *= self._backoff.factor
        request.due = min(now + request.wait, request.give_up)
        return False

    def _ignore(self, reason: str) -> None:
        self.ignored.append(reason)
