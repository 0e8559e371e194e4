"""What both ends of an IKE SA share: sealing, message numbers, retransmission, the queue of events."""

from __future__ import annotations

import hashlib
import ipaddress
from collections import deque
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from zesty_burrow.core.ike.events import Datagram, Endpoint, Event
from zesty_burrow.core.ike.keys import IkeKeys
from zesty_burrow.core.ike.message import (
    Header,
    Message,
    build_fragments,
    build_sealed,
    open_chunk,
    open_sealed,
    parse_inner_untrusted,
)
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
    datagrams: tuple[Datagram, ...]
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


FRAGMENT_SIZE = 1228
"""Octets of an IKE message in an IPv6 packet of 1280 with UDP and marker (RFC 7383 §2.5.1, RFC 8200 §5)."""
ENVELOPE = 64
"""At least what header, encrypted payload, IV, padding and ICV add."""
MOST = 1 << 16
"""Octets of one message's fragments (RFC 7383 §5)."""


class Party:
    """One end of one IKE SA. No I/O, no clock, no randomness of its own."""

    fragment_size = FRAGMENT_SIZE

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
        self._last_response: tuple[Datagram, ...] = ()
        self._fragmenting = False
        self._fragments: dict[int, bytes] = {}
        self._fragments_of = (0, False, 0)
        self._first_fragment: Message | None = None
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

    def _seal(self, exchange: int, message_id: int, payloads: Iterable[Payload], *, response: bool) -> list[bytes]:
        """The message; in parts where it is long and both sides know of it (RFC 7383 §2.4)."""
        if self._sending is None:
            raise ProgramFault("a message is to be sealed before there are keys")
        header, entries = self._header(exchange, message_id, response=response), list(payloads)
        size = sum(4 + len(entry.body()) for entry in entries) + ENVELOPE
        if self._fragmenting and size > self.fragment_size:
            return build_fragments(header, entries, self._sending, self.fragment_size)
        return [build_sealed(header, entries, self._sending)]

    def _whole(self, message: Message) -> Message | None:
        """The message that a fragment completes; None while others are missing (RFC 7383 §2.6).

        Only what carries the peer's own integrity check value is kept, and never more than ``MOST``.
        """
        if not message.fragments:
            return message
        if self._receiving is None or not self._fragmenting:
            raise Malformed("a message was turned away", why="fragments were not agreed on")
        header = message.header
        belongs = header.message_id, header.is_response, message.fragments
        if belongs[:2] == self._fragments_of[:2]:
            if message.fragments < self._fragments_of[2]:
                raise Malformed("a fragment was turned away", why="a newer set has begun")
            if belongs == self._fragments_of and message.fragment in self._fragments:
                raise Malformed("a fragment was turned away", why="it came before")
        chunk = open_chunk(message, self._receiving)
        if belongs != self._fragments_of:
            self._fragments_of, self._fragments, self._first_fragment = belongs, {}, None
        self._fragments[message.fragment] = chunk
        if message.fragment == 1:
            self._first_fragment = message
        if sum(map(len, self._fragments.values())) > MOST:
            self._fragments = {}
            raise Malformed("a message was turned away", why=f"its fragments hold more than {MOST} octets")
        first = self._first_fragment
        if len(self._fragments) < message.fragments or first is None:
            return None
        plaintext = b"".join(self._fragments[number] for number in range(1, message.fragments + 1))
        self._fragments_of, self._fragments, self._first_fragment = (0, False, 0), {}, None
        self._opened = first, parse_inner_untrusted(first.sealed_first, plaintext)
        return first

    def _open(self, message: Message) -> tuple[Payload, ...]:
        if self._receiving is None or not message.sealed_at:
            raise Malformed("a message was turned away", why="it is not protected")
        if self._opened is None or self._opened[0] is not message:
            self._opened = message, open_sealed(message, self._receiving)
        return self._opened[1]

    def _is_old_fragment(self, message: Message) -> bool:
        """RFC 7383 §2.6.1: of a request that was answered before, only the first fragment asks for the answer again."""
        header = message.header
        if not message.fragments or header.is_response or header.message_id != self._peer_request_id - 1:
            return False
        if message.fragment == 1 and self._receiving is not None:
            open_chunk(message, self._receiving)
            self._out.extend(self._last_response)
        return True

    def _ask(
        self, parts: Sequence[bytes], message_id: int, now: float, port: int, to: Endpoint, give_up: float = 0.0
    ) -> None:
        """Send a request and keep it until it is answered."""
        datagrams = tuple(Datagram(data, port, to) for data in parts)
        wait = self._backoff.first
        limit = now + (give_up or self._backoff.give_up)
        self._outstanding = Outstanding(message_id, datagrams, now, wait, now + wait, limit)
        self._out.extend(datagrams)

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
        self._out.extend(request.datagrams)
        request.wait *= self._backoff.factor
        request.due = min(now + request.wait, request.give_up)
        return False

    def _ignore(self, reason: str) -> None:
        self.ignored.append(reason)
