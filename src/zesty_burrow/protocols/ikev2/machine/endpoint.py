"""What both ends of a negotiation share: the IKE SA in use, requests and answers, datagrams and events."""

from __future__ import annotations

import hashlib
import ipaddress
from collections import deque
from collections.abc import Sequence

from zesty_burrow.core.crypto.random_octets import Random
from zesty_burrow.core.net import Datagram, Endpoint
from zesty_burrow.errors import BurrowError, Malformed
from zesty_burrow.protocols.ikev2.events import Event, Failed
from zesty_burrow.protocols.ikev2.machine.ike_sa import SMALL_FRAGMENT_SIZE, Backoff, IkeSa
from zesty_burrow.protocols.ikev2.wire.keys import IkeKeys
from zesty_burrow.protocols.ikev2.wire.message import Message, Unusable
from zesty_burrow.protocols.ikev2.wire.payloads import Payload
from zesty_burrow.protocols.ikev2.wire.registry import ExchangeType

NON_ESP_MARKER = bytes(4)
KEEPALIVE = b"\xff"
"""RFC 3948 §2.2, §2.3."""
RETRY, LONGEST_RETRY = 10.0, 600.0
"""Seconds after which a rekeying that was put off is tried again; up to half as much again, by chance.

Where it is refused again and again, each wait is twice the one before, up to the longest.
"""
MAX_IKE_SAS = 8
"""Beside the one in use; a peer that makes more has lost count."""


def with_marker(data: bytes, encapsulated: bool) -> bytes:
    """Put the non-ESP marker in front where the port asks for it."""
    return NON_ESP_MARKER + data if encapsulated else data


def nat_detection_hash(spi_i: bytes, spi_r: bytes, endpoint: Endpoint) -> bytes:
    """RFC 7296 §2.23: SHA-1 over both SPIs, the address and the port."""
    host, port = endpoint
    octets = spi_i + spi_r + ipaddress.ip_address(host).packed + port.to_bytes(2)
    return hashlib.sha1(octets, usedforsecurity=False).digest()


class IkeEndpoint:
    """One end of a negotiation: its IKE SAs, what is asked and answered by them, datagrams to send, events to tell.

    No I/O, no clock, no randomness of its own. ``sa``: the IKE SA in use. ``others``: those that are about to be
    deleted, or were made by the peer while a request of this side was on its way. ``at``: the one that the message in
    hand came by. ``unusable``: what is wrong with it, where it cannot be used. ``patience``: seconds for which a
    request is repeated. The parts of a machine share one of these.
    """

    def __init__(
        self, random: Random, backoff: Backoff, peer: Endpoint, local_port: int, *, is_initiator: bool
    ) -> None:
        self.sa = IkeSa(random, is_initiator=is_initiator)
        self.others: list[IkeSa] = []
        self.at = self.sa
        self.peer = peer
        self.local_port = local_port
        self.random = random
        self.backoff = backoff
        self.out: deque[Datagram] = deque()
        self.events: deque[Event] = deque()
        self.ignored: deque[str] = deque(maxlen=20)
        self.unusable: Unusable | None = None
        self.patience = backoff.give_up

    # What the caller of a machine takes.

    def send(self) -> list[Datagram]:
        out = list(self.out)
        self.out.clear()
        return out

    def next_event(self) -> Event | None:
        """The next event, or None."""
        return self.events.popleft() if self.events else None

    # Messages.

    @property
    def keys(self) -> IkeKeys | None:
        """The keys of the IKE SA in use."""
        return self.sa.keys

    @property
    def own_spis(self) -> set[bytes]:
        """The SPIs by which the peer may name an SA to us."""
        return {sa.own_spi for sa in (self.sa, *self.others)}

    def receive(self, message: Message) -> Message | None:
        """Find the IKE SA that a message is for and put its parts together; None while parts are missing.

        An old request's first fragment brings the answer once more. Raises :class:`Malformed` for a message of another
        negotiation.
        """
        for sa in (self.sa, *self.others):
            if sa.owns(message.header):
                self.at = sa
                break
        else:
            raise Malformed("a message was dropped", why="it belongs to another negotiation")
        again = self.at.answer_to_old_fragment(message)
        self.out.extend(again or ())
        return self.at.whole(message) if again is None else None

    def open(self, message: Message) -> tuple[Payload, ...]:
        """What is inside; raises :class:`Malformed` where the peer did not seal it."""
        return self.at.open(message)

    def ask(
        self,
        parts: Sequence[bytes],
        message_id: int,
        now: float,
        give_up: float,
        sa: IkeSa,
        small: Sequence[bytes] = (),
    ) -> None:
        """Send a request and keep it until it is answered."""
        sa.ask(
            self._to_peer(parts), message_id, now, self.backoff.first, give_up or self.patience, self._to_peer(small)
        )
        self.out.extend(self._to_peer(parts))

    def _to_peer(self, parts: Sequence[bytes]) -> list[Datagram]:
        return [Datagram(data, self.local_port, self.peer) for data in parts]

    def request(
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
        number, small = sa.next_request_id, []
        parts = sa.seal(exchange, number, payloads, response=False)
        if sa.fragmenting and max(map(len, parts)) > SMALL_FRAGMENT_SIZE and "." in self.peer[0]:
            small = sa.seal(exchange, number, payloads, response=False, limit=SMALL_FRAGMENT_SIZE)
        marked = [[with_marker(part, encapsulated=True) for part in entry] for entry in (parts, small)]
        self.ask(marked[0], number, now, give_up, sa, marked[1])

    def respond(self, message: Message, payloads: Sequence[Payload]) -> None:
        """A protected answer, by the SA that the request came by; kept in case it is asked for again."""
        header, sa = message.header, self.at
        parts = sa.seal(header.exchange, header.message_id, payloads, response=True)
        sa.last_response = tuple(self._to_peer([with_marker(part, encapsulated=True) for part in parts]))
        sa.peer_request_id += 1
        self.out.extend(sa.last_response)

    def take_answer_again(self, message: Message) -> bool:
        """Whether the message asks once more for an answer that was given; it is sent again."""
        header, sa = message.header, self.at
        self.open(message)  # before anything else: only the peer itself may ask
        if header.message_id == sa.peer_request_id - 1 and sa.last_response:
            self.out.extend(sa.last_response)
            return True
        if header.message_id != sa.peer_request_id:
            raise Malformed("a message was dropped", why="its number is not expected")
        return False

    def refuse(self, message: Message, problem: Unusable) -> bool:
        """Answer a request that cannot be used, so that the peer's window goes on; whether it was the one expected."""
        header, sa = message.header, self.at
        if header.message_id == sa.peer_request_id - 1 and sa.last_response:
            self.out.extend(sa.last_response)
            return False
        if header.message_id != sa.peer_request_id:
            raise Malformed("a message was dropped", why="its number is not expected")
        self.respond(message, [problem.answer])
        return True

    def note_unusable(self, message: Message, problem: Unusable) -> bool:
        """Never meet an authentic message with silence: answer a request; whether the state has to follow it."""
        header, waiting = message.header, self.sa.outstanding
        self.ignore(str(problem))
        self.unusable = problem
        if not header.is_response:
            return self.refuse(message, problem) and self.at is self.sa
        return self.at is self.sa and waiting is not None and waiting.message_id == header.message_id

    def expect_answer(self, message: Message) -> None:
        """Raises :class:`Malformed` for an answer that nobody waits for."""
        if not self.at.answered(message.header.message_id):
            raise Malformed("a message was dropped", why="it answers no request of ours")

    def ignore(self, reason: str) -> None:
        """Note why a message was dropped; the last few are kept for an error that tells of it."""
        self.ignored.append(reason)

    def fail(self, error: BurrowError, now: float) -> None:
        """The negotiation has failed: nothing more is asked."""
        self.sa.outstanding = None
        self.events.append(Failed(now, error))

    # Time, and IKE SAs beside the one in use.

    def retransmit(self, now: float, sa: IkeSa) -> bool:
        """Send the outstanding request again if its time has come; True once it is time to give up."""
        datagrams, gave_up = sa.retransmit(now, self.backoff)
        self.out.extend(datagrams)
        return gave_up

    def retry_time(self, now: float, refusals: int = 0) -> float:
        """When a rekeying that was put off is tried again; ``refusals``: how often it was refused before."""
        return now + min(RETRY * float(1 << min(refusals, 16)), LONGEST_RETRY) * (1 + self.random(1)[0] / 512)

    def fresh_ike_spi(self) -> bytes:
        """An SPI for a new IKE SA, in octets: not zero, and of none that there is."""
        while (spi := self.random(8)) == bytes(8) or spi in self.own_spis:
            pass
        return spi

    def retire(self, sa: IkeSa, now: float) -> None:
        """Keep an IKE SA for as long as messages by it may still be on their way."""
        sa.expires = now + 2 * self.backoff.give_up
        if sa not in self.others:
            self.others.append(sa)
        del self.others[:-MAX_IKE_SAS]

    def drop(self, sa: IkeSa) -> None:
        """Forget an IKE SA that is not in use."""
        if sa in self.others:
            self.others.remove(sa)

    def others_due(self) -> list[float]:
        """When ``look_after_others`` has something to do."""
        times = [min(sa.expires, sa.outstanding.due if sa.outstanding else sa.expires) for sa in self.others]
        return [due for due in times if due < float("inf")]

    def look_after_others(self, now: float) -> None:
        """Retransmit by the IKE SAs that are about to be deleted, and forget those whose time is over."""
        for sa in list(self.others):
            if self.retransmit(now, sa) or now >= sa.expires:
                self.drop(sa)
