"""What both ends of a negotiation share: the IKE SA in use, requests and answers, datagrams and events."""

from __future__ import annotations

import hashlib
import ipaddress
from collections import deque
from collections.abc import Sequence

from zesty_burrow.core.crypto.protection import Random
from zesty_burrow.core.net import Datagram, Endpoint
from zesty_burrow.errors import Malformed
from zesty_burrow.protocols.ikev2.events import Event
from zesty_burrow.protocols.ikev2.machine.ike_sa import Backoff, IkeSa
from zesty_burrow.protocols.ikev2.wire.keys import IkeKeys
from zesty_burrow.protocols.ikev2.wire.message import Message
from zesty_burrow.protocols.ikev2.wire.payloads import Payload
from zesty_burrow.protocols.ikev2.wire.registry import ExchangeType

NON_ESP_MARKER = bytes(4)
KEEPALIVE = b"\xff"
"""RFC 3948 §2.2, §2.3."""


def with_marker(data: bytes, encapsulated: bool) -> bytes:
    """Put the non-ESP marker in front where the port asks for it."""
    return NON_ESP_MARKER + data if encapsulated else data


def nat_detection_hash(spi_i: bytes, spi_r: bytes, endpoint: Endpoint) -> bytes:
    """RFC 7296 §2.23: SHA-1 over both SPIs, the address and the port."""
    host, port = endpoint
    octets = spi_i + spi_r + ipaddress.ip_address(host).packed + port.to_bytes(2)
    return hashlib.sha1(octets, usedforsecurity=False).digest()


class IkeEndpoint:
    """One end. No I/O, no clock, no randomness of its own. ``sa`` is the IKE SA in use; ``_at`` that of a message."""

    def __init__(
        self, random: Random, backoff: Backoff, peer: Endpoint, local_port: int, *, is_initiator: bool
    ) -> None:
        self.sa = IkeSa(random, is_initiator=is_initiator)
        self.peer = peer
        self.local_port = local_port
        self.ignored: deque[str] = deque(maxlen=20)
        self._at = self.sa
        self._random = random
        self._backoff = backoff
        self._out: deque[Datagram] = deque()
        self._events: deque[Event] = deque()

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

    @property
    def keys(self) -> IkeKeys | None:
        """The keys of the IKE SA in use."""
        return self.sa.keys

    def _open(self, message: Message) -> tuple[Payload, ...]:
        return self._at.open(message)

    def _ask(self, parts: Sequence[bytes], message_id: int, now: float, give_up: float, sa: IkeSa) -> None:
        """Send a request and keep it until it is answered."""
        datagrams = [Datagram(data, self.local_port, self.peer) for data in parts]
        sa.ask(datagrams, message_id, now, self._backoff.first, give_up or self._backoff.give_up)
        self._out.extend(datagrams)

    def _request(
        self,
        exchange: ExchangeType,
        payloads: Sequence[Payload],
        now: float,
        give_up: float = 0.0,
        sa: IkeSa | None = None,
    ) -> None:
        """A protected request, by the SA in use or another one."""
        sa = sa or self.sa
        sa.next_request_id += 1
        parts = sa.seal(exchange, sa.next_request_id, payloads, response=False)
        self._ask([with_marker(part, encapsulated=True) for part in parts], sa.next_request_id, now, give_up, sa)

    def _respond(self, message: Message, payloads: Sequence[Payload]) -> None:
        """A protected answer, by the SA that the request came by; kept in case it is asked for again."""
        header, sa = message.header, self._at
        parts = sa.seal(header.exchange, header.message_id, payloads, response=True)
        sa.last_response = tuple(
            Datagram(with_marker(part, encapsulated=True), self.local_port, self.peer) for part in parts
        )
        sa.peer_request_id += 1
        self._out.extend(sa.last_response)

    def _retransmit(self, now: float, sa: IkeSa) -> bool:
        """Send the outstanding request again if its time has come; True once it is time to give up."""
        datagrams, gave_up = sa.retransmit(now, self._backoff.factor)
        self._out.extend(datagrams)
        return gave_up

    def _expect_answer(self, message: Message) -> None:
        """Raises :class:`Malformed` for an answer that nobody waits for."""
        if not self._at.answered(message.header.message_id):
            raise Malformed("a message was turned away", why="it answers no request of ours")

    def _ignore(self, reason: str) -> None:
        self.ignored.append(reason)
