"""One IKE SA: its SPIs and keys, its message numbers, the request that waits, fragments (RFC 7296 §2.1 to §2.3)."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from zesty_burrow.core.crypto.protection import Protection
from zesty_burrow.core.crypto.random_octets import Random
from zesty_burrow.core.net import Datagram
from zesty_burrow.errors import Malformed, ProgramFault
from zesty_burrow.protocols.ikev2.wire.keys import IkeKeys
from zesty_burrow.protocols.ikev2.wire.message import (
    Header,
    Message,
    Unusable,
    build_fragments,
    build_sealed,
    chain,
    check_critical,
    open_chunk,
    parse_inner_untrusted,
)
from zesty_burrow.protocols.ikev2.wire.payloads import Payload
from zesty_burrow.protocols.ikev2.wire.registry import Flag
from zesty_burrow.records import dataclass

FRAGMENT_SIZE = 1228
"""Octets of an IKE message in an IPv6 packet of 1280 with UDP and marker (RFC 7383 §2.5.1, RFC 8200 §5)."""
SMALL_FRAGMENT_SIZE = 544
"""The same in an IPv4 packet of 576 (RFC 7383 §2.5.1): where longer ones do not arrive."""
TRIES_BEFORE_SMALL = 2
"""How often a request is sent before it is sent in small fragments."""
ENVELOPE = 64
"""At least what header, encrypted payload, IV, padding and ICV add."""
MAX_FRAGMENT_OCTETS = 1 << 16
"""Octets of one message's fragments (RFC 7383 §5)."""


@dataclass(frozen=True, slots=True)
class Backoff:
    """When to send a request again (RFC 7296 §2.4): seconds; each wait is ``factor`` times the one before.

    ``give_up``: for how long while a tunnel is set up. ``dead``: for how long afterwards, where "at least a dozen times
    over a period of at least several minutes" is asked for. ``longest``: no wait is longer.
    """

    first: float = 0.5
    factor: float = 2.0
    give_up: float = 15.0
    dead: float = 180.0
    longest: float = 16.0


@dataclass(slots=True)
class Outstanding:
    """A request that waits for its answer. ``small``: its parts where the first ones may be too long; else empty."""

    message_id: int
    datagrams: tuple[Datagram, ...]
    asked: float
    wait: float
    due: float
    give_up: float
    small: tuple[Datagram, ...] = ()
    tries: int = 1


class IkeSa:
    """``is_initiator``: this side asked for this very SA, so that the first of its SPIs is ours (RFC 7296 §2.2)."""

    fragment_size = FRAGMENT_SIZE

    def __init__(self, random: Random, *, is_initiator: bool) -> None:
        self.is_initiator = is_initiator
        self.spi_i = bytes(8)
        self.spi_r = bytes(8)
        self.keys: IkeKeys | None = None
        self.outstanding: Outstanding | None = None
        self.next_request_id = -1
        self.peer_request_id = 0
        self.last_response: tuple[Datagram, ...] = ()
        self.fragmenting = False
        self.expires = float("inf")
        self._random = random
        self._sending: Protection | None = None
        self._receiving: Protection | None = None
        self._before: tuple[Protection | None, int] = (None, 0)
        self._fragments: dict[int, bytes] = {}
        self._fragments_of = (0, False, 0)
        self._first_fragment: Message | None = None
        self._opened: tuple[Message, tuple[Payload, ...], bytes] | None = None

    @property
    def own_spi(self) -> bytes:
        """The SPI by which the peer names this SA to us."""
        return self.spi_i if self.is_initiator else self.spi_r

    def owns(self, header: Header) -> bool:
        """Whether a message carries this SA's SPIs and comes from the other side."""
        foreign = header.spi_is_foreign(self.spi_i, self.spi_r)
        return not foreign and header.from_initiator is not self.is_initiator and header.major_version == 2

    def use_keys(self, keys: IkeKeys) -> None:
        """From here on messages are protected by these.

        Requests that were answered before may come again, under the keys that they were sent under.
        """
        self.keys = keys
        self._before = self._receiving, self.peer_request_id
        self._sending = keys.protection(self.is_initiator, self._random)
        self._receiving = keys.protection(not self.is_initiator, self._random)

    def _opener(self, header: Header) -> Protection | None:
        protection, number = self._before
        is_old = protection is not None and not header.is_response and header.message_id < number
        return protection if is_old else self._receiving

    def header(self, exchange: int, message_id: int, *, response: bool) -> Header:
        """The header of a message of ours."""
        flags = (Flag.INITIATOR if self.is_initiator else 0) | (Flag.RESPONSE if response else 0)
        return Header(self.spi_i, self.spi_r, exchange, flags, message_id)

    def seal(
        self, exchange: int, message_id: int, payloads: Iterable[Payload], *, response: bool, limit: int = 0
    ) -> list[bytes]:
        """The message; in parts where it is long and both sides know of it (RFC 7383 §2.4). ``limit``: of a part."""
        if self._sending is None:
            raise ProgramFault("a message is to be sealed before there are keys")
        header, (first, inner) = self.header(exchange, message_id, response=response), chain(payloads)
        limit = limit or self.fragment_size
        if self.fragmenting and len(inner) + ENVELOPE > limit:
            return build_fragments(header, first, inner, self._sending, limit)
        return [build_sealed(header, first, inner, self._sending)]

    @property
    def fragment_octets(self) -> int:
        """How much is kept of messages of which parts are missing."""
        return sum(map(len, self._fragments.values()))

    def whole(self, message: Message) -> Message | None:
        """The message that a fragment completes; None while others are missing (RFC 7383 §2.6).

        Only what carries the peer's own integrity check value is kept, and never more than ``MAX_FRAGMENT_OCTETS``.
        """
        if not message.fragments:
            return message
        opener = self._opener(message.header)
        if opener is None or not self.fragmenting:
            raise Malformed("a message was dropped", why="fragments were not agreed on")
        header = message.header
        belongs = header.message_id, header.is_response, message.fragments
        if belongs[:2] == self._fragments_of[:2]:
            if message.fragments < self._fragments_of[2]:
                raise Malformed("a fragment was dropped", why="a newer set has begun")
            if belongs == self._fragments_of and message.fragment in self._fragments:
                raise Malformed("a fragment was dropped", why="it came before")
        chunk = open_chunk(message, opener)
        if message.fragment < message.fragments and not header.is_response:
            # RFC 7383 §2.5.1: what the peer can send is what it can receive.
            self.fragment_size = min(self.fragment_size, max(SMALL_FRAGMENT_SIZE, len(message.raw)))
        if belongs != self._fragments_of:
            self._fragments_of, self._fragments, self._first_fragment = belongs, {}, None
        self._fragments[message.fragment] = chunk
        if message.fragment == 1:
            self._first_fragment = message
        if self.fragment_octets > MAX_FRAGMENT_OCTETS:
            self._fragments = {}
            raise Malformed("a message was dropped", why=f"its fragments hold more than {MAX_FRAGMENT_OCTETS} octets")
        first = self._first_fragment
        if len(self._fragments) < message.fragments or first is None:
            return None
        plaintext = b"".join(self._fragments[number] for number in range(1, message.fragments + 1))
        self._fragments_of, self._fragments, self._first_fragment = (0, False, 0), {}, None
        self._opened = first, self._payloads(first, plaintext), plaintext
        return first

    def open(self, message: Message) -> tuple[Payload, ...]:
        """What is inside a message; :class:`Malformed` where the peer did not seal it."""
        opener = self._opener(message.header)
        if opener is None or not message.sealed_at:
            raise Malformed("a message was dropped", why="it is not protected")
        if self._opened is None or self._opened[0] is not message:
            plaintext = open_chunk(message, opener)
            self._opened = message, self._payloads(message, plaintext), plaintext
        return self._opened[1]

    def _payloads(self, message: Message, plaintext: bytes) -> tuple[Payload, ...]:
        """Raises :class:`Unusable`: from here on it is the peer's own fault."""
        try:
            payloads = parse_inner_untrusted(message.sealed_first, plaintext)
        except Malformed as problem:
            raise Unusable.by_syntax(str(problem)) from None
        check_critical((*message.payloads, *payloads))
        return payloads

    def plaintext(self, message: Message) -> bytes:
        """The octets of the payloads inside a message, put together from its parts."""
        self.open(message)
        if self._opened is None:
            raise ProgramFault("a message was opened and is not there")
        return self._opened[2]

    def answer_to_old_fragment(self, message: Message) -> tuple[Datagram, ...] | None:
        """RFC 7383 §2.6.1: of a request that was answered before, only the first fragment asks for the answer again.

        None where the message is nothing of the kind.
        """
        header = message.header
        if not message.fragments or header.is_response or header.message_id != self.peer_request_id - 1:
            return None
        opener = self._opener(header)
        if message.fragment == 1 and opener is not None:
            open_chunk(message, opener)
            return self.last_response
        return ()

    def ask(
        self,
        datagrams: Sequence[Datagram],
        message_id: int,
        now: float,
        wait: float,
        give_up: float,
        small: Sequence[Datagram] = (),
    ) -> None:
        """Keep a request until it is answered."""
        self.outstanding = Outstanding(message_id, tuple(datagrams), now, wait, now + wait, now + give_up, tuple(small))

    def answered(self, message_id: int) -> bool:
        """Whether this number answers the outstanding request; if so the request is done with."""
        if self.outstanding is None or self.outstanding.message_id != message_id:
            return False
        if self.outstanding.small and self.outstanding.tries > TRIES_BEFORE_SMALL:
            self.fragment_size = SMALL_FRAGMENT_SIZE  # what was longer did not arrive
        self.outstanding = None
        return True

    def peer_is_alive(self, now: float, patience: float) -> None:
        """RFC 7296 §2.4: something authentic has come, so the outstanding request is given its full time again."""
        if self.outstanding is not None:
            self.outstanding.give_up = max(self.outstanding.give_up, now + patience)

    def retransmit(self, now: float, backoff: Backoff) -> tuple[Sequence[Datagram], bool]:
        """The outstanding request again if its time has come, and whether it is time to give up."""
        request = self.outstanding
        if request is None or now < request.due:
            return (), False
        if now >= request.give_up:
            self.outstanding = None
            return (), True
        request.wait = min(request.wait * backoff.factor, backoff.longest)
        request.due = min(now + request.wait, request.give_up)
        request.tries += 1
        if request.small and request.tries > TRIES_BEFORE_SMALL:
            return request.small, False
        return request.datagrams, False
