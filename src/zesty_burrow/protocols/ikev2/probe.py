"""Asks a gateway what it can do, with real IKE_SA_INIT requests and without signing in (RFC 7296 §1.2, §2.7).

A gateway chooses one algorithm of each kind. So it is asked again without the one that it has chosen, until it
refuses: what it has chosen is what it can do, in its own order. Half-open negotiations are left to time out there, as
those of anybody who breaks off; a gateway that fears a flood asks for cookies, and gets them.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Generator, Sequence
from typing import TypeVar

from zesty_burrow.core.crypto.key_exchange import METHODS, make_key_agreement
from zesty_burrow.core.crypto.random_octets import Random
from zesty_burrow.core.net import Datagram, Endpoint
from zesty_burrow.core.policy.algorithms import AEAD_NUMBERS, ALGORITHMS, BY_NUMBER, TransformType
from zesty_burrow.core.policy.suite import Suite
from zesty_burrow.errors import Malformed
from zesty_burrow.protocols.ikev2.machine.endpoint import NON_ESP_MARKER, nat_detection_hash, with_marker
from zesty_burrow.protocols.ikev2.machine.ike_sa import Backoff, IkeSa
from zesty_burrow.protocols.ikev2.machine.negotiation import announced_hashes, request_payloads
from zesty_burrow.protocols.ikev2.wire.message import (
    Message,
    build_clear,
    find,
    notifications,
    parse_message_untrusted,
)
from zesty_burrow.protocols.ikev2.wire.offer import Offer
from zesty_burrow.protocols.ikev2.wire.payloads import KeyExchange, Notify, SecurityAssociation
from zesty_burrow.protocols.ikev2.wire.proposals import accept_answer
from zesty_burrow.protocols.ikev2.wire.registry import ExchangeType, NotifyType, Protocol
from zesty_burrow.protocols.ikev2.wire.stream_framing import StreamFraming
from zesty_burrow.protocols.session import ProbeDone, Transport
from zesty_burrow.records import dataclass, field

T = TransformType
MAX_QUESTIONS = 96
PLAIN_GROUP = 14
"""The group of the KE payload where none of those asked about can be computed here: the answer names the right one."""


def _variants(kind: TransformType) -> tuple[tuple[int, int], ...]:
    rows = [entry for entry in ALGORITHMS if entry.type is kind]
    return tuple((entry.number, bits) for entry in rows for bits in (tuple(reversed(entry.bits)) or (0,)))


_SKIPPED = {(T.ENCR, 11), (T.INTEG, 0)}
"""NULL and NONE are no ciphers for IKE (RFC 7296 §3.3.2)."""
CIPHERS = tuple(variant for variant in _variants(T.ENCR) if (T.ENCR, variant[0]) not in _SKIPPED)
PRFS = tuple(number for number, _ in _variants(T.PRF))
CHECKS = tuple(number for number, _ in _variants(T.INTEG) if (T.INTEG, number) not in _SKIPPED)
GROUPS = tuple(number for number, _ in _variants(T.KE))
QUICK_FIRST = (31, 19, 20, 21, 32, 14, 15, 16)
"""Groups that are implemented, the cheapest first."""


@dataclass(frozen=True, slots=True)
class Answer:
    """What was received: a suite, or the group that is needed, or a refusal (both empty); ``notifies``: by number."""

    suite: Suite | None = None
    wanted: int = 0
    notifies: frozenset[int] = frozenset()
    hashes: frozenset[int] = frozenset()
    nat_there: bool = False


@dataclass(slots=True)
class IkeCapabilities:
    """What a gateway can do, each list in its own order of preference; ciphers as number and key bits.

    ``chosen``: what it chose of the offers that it was asked about first, if any.
    """

    chosen: Suite | None = None
    ciphers: list[tuple[int, int]] = field(default_factory=list)
    checks: list[int] = field(default_factory=list)
    prfs: list[int] = field(default_factory=list)
    groups: list[int] = field(default_factory=list)
    hashes: frozenset[int] = frozenset()
    fragments: bool = False
    additional_key: bool = False
    cookies: bool = False
    nat_there: bool = False
    questions: int = 0
    round_trip: float = 0.0

    @property
    def is_known(self) -> bool:
        """Whether the gateway has said anything."""
        return bool(self.groups) or self.chosen is not None

    @property
    def words(self) -> str:
        """What there is to know, in a few words."""
        return str(self.chosen) if self.chosen else ""

    @property
    def against(self) -> str:
        """Why no tunnel would come of it."""
        return "" if self.chosen else "it takes none of what is offered"

    def has(self, kind: int, number: int, key_bits: int = 0) -> bool:
        """Whether the gateway took it."""
        lists = {T.INTEG: self.checks, T.PRF: self.prfs, T.KE: self.groups}
        return (number, key_bits) in self.ciphers if kind == T.ENCR else number in lists.get(T(kind), [])


Question = tuple[tuple[Offer, ...], int]
"""Offers, and the group of the KE payload."""
_Plan = Generator[Question, Answer, None]
_Asking = Generator[Question, Answer, Answer]
K = TypeVar("K")


class Probe:
    """``start``, then the calls of a protocol machine. ``offers``: a profile's own, to be asked about first.

    ``is_brief``: a gateway that takes one of them is asked nothing more.
    """

    def __init__(
        self,
        gateway: Endpoint,
        offers: tuple[Offer, ...],
        random: Random,
        backoff: Backoff,
        local_port: int = 4500,
        *,
        over_stream: bool = False,
        is_brief: bool = False,
    ) -> None:
        self.gateway = gateway
        self.transport = Transport.FRAMED if over_stream else Transport.DATAGRAMS
        self.framing = StreamFraming()
        self._has_marker = over_stream or gateway[1] == 4500
        self.found = IkeCapabilities()
        self.local_port = local_port
        self.ignored: deque[str] = deque(maxlen=20)
        self._random = random
        self._backoff = backoff
        self._offers, self._is_brief = offers, is_brief
        self._plan: _Plan = self._questions()
        self._asked: Question = ((), 0)
        self._sa = IkeSa(random, is_initiator=True)
        self._cookies = 0
        self._out: deque[Datagram] = deque()
        self._events: deque[ProbeDone] = deque()

    # Calls.

    def start(self, now: float) -> None:
        """Ask the first question."""
        self._asked = next(self._plan)
        self._ask(now)

    def receive(self, data: bytes, source: Endpoint, now: float, local_port: int = 0) -> None:
        """Take a datagram; only the gateway's address is listened to. Never raises for content."""
        if source[0] != self.gateway[0]:
            return
        if self._has_marker and source[1] == self.gateway[1]:
            if data[:4] != NON_ESP_MARKER:
                return
            data = data[4:]
        try:
            self._take(parse_message_untrusted(data), now)
        except Malformed as problem:
            self.ignored.append(str(problem))

    def send(self, now: float) -> list[Datagram]:
        out = list(self._out)
        self._out.clear()
        return out

    def next_timer(self) -> float | None:
        """When ``handle_timer`` wants to be called."""
        return self._sa.outstanding.due if self._sa.outstanding else None

    def handle_timer(self, now: float) -> None:
        """Ask again, or give up."""
        again, gave_up = self._sa.retransmit(now, self._backoff)
        self._out.extend(again)
        if gave_up:
            self._events.append(ProbeDone(now, silent=True))

    def next_event(self) -> ProbeDone | None:
        """The next event, or None."""
        return self._events.popleft() if self._events else None

    # Inside.

    def _ask(self, now: float) -> None:
        offers, group = self._asked
        self.found.questions += 1
        sa = self._sa = IkeSa(self._random, is_initiator=True)
        while sa.spi_i == bytes(8):
            sa.spi_i = self._random(8)
        if group in METHODS:
            public = make_key_agreement(group, self._random).public
        else:
            group, public = PLAIN_GROUP, self._random(BY_NUMBER[T.KE, PLAIN_GROUP].size)
        value = KeyExchange(group, public)
        payloads = request_payloads(offers, value, self._random(32), sa.spi_i, self.gateway, mixing=True)
        data = build_clear(sa.header(ExchangeType.IKE_SA_INIT, 0, response=False), payloads)
        datagram = Datagram(with_marker(data, self._has_marker), self.local_port, self.gateway)
        sa.ask([datagram], 0, now, self._backoff.first, self._backoff.give_up)
        self._out.append(datagram)

    def _take(self, message: Message, now: float) -> None:
        header = message.header
        if not header.is_response or header.exchange != ExchangeType.IKE_SA_INIT or not self._sa.owns(header):
            raise Malformed("a message was dropped", why="it answers no question of ours")
        waiting = self._sa.outstanding
        if waiting is None:
            raise Malformed("a message was dropped", why="it came before")
        answer = self._read(message)
        self._note(answer)
        told = notifications(message.payloads)
        if NotifyType.COOKIE in told and self._cookies < MAX_QUESTIONS:
            self._cookies += 1
            self.found.cookies = True
            self._repeat(waiting.datagrams[0], told[NotifyType.COOKIE].data, now)
            return
        trip = now - waiting.asked
        self.found.round_trip = min(self.found.round_trip or trip, trip)
        self._sa.answered(0)
        try:
            self._asked = self._plan.send(answer)
        except StopIteration:
            self._events.append(ProbeDone(now))
            return
        if self.found.questions >= MAX_QUESTIONS:
            self._events.append(ProbeDone(now))
            return
        self._ask(now)

    def _repeat(self, before: Datagram, cookie: bytes, now: float) -> None:
        """RFC 7296 §2.6: the same message again, with the cookie in front."""
        marker = len(NON_ESP_MARKER) if self._has_marker else 0
        message = parse_message_untrusted(before.data[marker:])
        payloads = [entry for entry in message.payloads if getattr(entry, "notification", 0) != NotifyType.COOKIE]
        header = self._sa.header(ExchangeType.IKE_SA_INIT, 0, response=False)
        data = build_clear(header, [Notify(NotifyType.COOKIE, cookie), *payloads])
        datagram = Datagram(with_marker(data, marker > 0), self.local_port, self.gateway)
        self._sa.ask([datagram], 0, now, self._backoff.first, self._backoff.give_up)
        self._out.append(datagram)

    def _read(self, message: Message) -> Answer:
        told = notifications(message.payloads)
        wanted = told.get(NotifyType.INVALID_KE_PAYLOAD)
        if wanted is not None:
            return Answer(wanted=int.from_bytes(wanted.data) if len(wanted.data) == 2 else 0)
        answer = find(message.payloads, SecurityAssociation)
        accepted = accept_answer(answer.proposals, self._asked[0], Protocol.IKE) if answer else None
        if accepted is None:
            return Answer(notifies=frozenset(told))
        source = told.get(NotifyType.NAT_DETECTION_SOURCE_IP)
        expected = nat_detection_hash(message.header.initiator_spi, message.header.responder_spi, self.gateway)
        return Answer(
            accepted[1],
            notifies=frozenset(told),
            hashes=announced_hashes(told),
            nat_there=source is not None and source.data != expected,
        )

    def _questions(self) -> _Plan:
        """What to ask, in the light of what was answered."""
        found = self.found
        if self._offers:
            answer = yield from _with_group(self._offers, self._offers[0].groups)
            found.chosen = answer.suite
            if self._is_brief and found.chosen:
                return
        groups: list[int] = list(GROUPS)
        while groups:
            answer = yield _everything(CIPHERS, CHECKS, PRFS, tuple(groups)), _computable(groups)
            group = answer.wanted or (answer.suite.group if answer.suite else 0)
            if group not in groups:
                break
            groups.remove(group)
            found.groups.append(group)
        usable = tuple(one for one in found.groups if one in METHODS)
        if not usable:
            return
        yield from self._eliminate(
            list(CIPHERS),
            lambda left: _everything(left, CHECKS, PRFS, usable),
            lambda suite: (suite.encryption, suite.key_bits),
            found.ciphers,
            usable,
        )
        yield from self._eliminate(
            list(PRFS),
            lambda left: _everything(CIPHERS, CHECKS, left, usable),
            lambda suite: suite.prf,
            found.prfs,
            usable,
        )
        plain = tuple(cipher for cipher in found.ciphers if cipher[0] not in AEAD_NUMBERS)
        if plain:
            yield from self._eliminate(
                list(CHECKS),
                lambda left: (Offer(plain, left, PRFS, usable),),
                lambda suite: suite.integrity,
                found.checks,
                usable,
            )

    def _note(self, answer: Answer) -> None:
        self.found.fragments |= NotifyType.IKEV2_FRAGMENTATION_SUPPORTED in answer.notifies
        self.found.additional_key |= NotifyType.USE_PPK in answer.notifies
        self.found.hashes |= answer.hashes
        self.found.nat_there |= answer.nat_there

    def _eliminate(
        self,
        left: list[K],
        make: Callable[[tuple[K, ...]], tuple[Offer, ...]],
        read: Callable[[Suite], K],
        into: list[K],
        groups: tuple[int, ...],
    ) -> _Plan:
        """Ask with what is left of one kind, and take out what is chosen, until nothing is."""
        while left:
            answer = yield from _with_group(make(tuple(left)), groups)
            chosen = read(answer.suite) if answer.suite is not None else None
            if chosen is None or chosen not in left:
                return
            left.remove(chosen)
            into.append(chosen)


def _everything(
    ciphers: tuple[tuple[int, int], ...], checks: tuple[int, ...], prfs: tuple[int, ...], groups: tuple[int, ...]
) -> tuple[Offer, ...]:
    """Combined-mode ciphers and others cannot share a proposal (RFC 7296 §3.3)."""
    combined = tuple(cipher for cipher in ciphers if cipher[0] in AEAD_NUMBERS)
    plain = tuple(cipher for cipher in ciphers if cipher[0] not in AEAD_NUMBERS)
    offers = (Offer(combined, (), prfs, groups),) if combined else ()
    return (*offers, Offer(plain, checks, prfs, groups)) if plain else offers


def _computable(groups: Sequence[int]) -> int:
    """The quickest group that can be computed here, or 0."""
    return next((one for one in QUICK_FIRST if one in groups), 0)


def _with_group(offers: tuple[Offer, ...], groups: Sequence[int]) -> _Asking:
    """Ask, and once more with the group that is needed."""
    answer = yield offers, _computable(groups)
    if answer.wanted in METHODS and answer.wanted in groups:
        answer = yield offers, answer.wanted
    return answer
