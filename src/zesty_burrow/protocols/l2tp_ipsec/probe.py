"""What a gateway can do by IKEv1, without signing in: the first message of main mode, and what it answers."""

from __future__ import annotations

from collections import deque

from zesty_burrow.core.crypto.random_octets import Random
from zesty_burrow.core.net import Datagram, Endpoint
from zesty_burrow.core.policy.algorithms import describe
from zesty_burrow.core.policy.policy import parts_of
from zesty_burrow.core.policy.suite import Suite
from zesty_burrow.core.profile import Profile
from zesty_burrow.errors import BurrowError, Malformed, ProgramFault
from zesty_burrow.protocols.l2tp_ipsec.from_profile import any_address, offer_of
from zesty_burrow.protocols.l2tp_ipsec.ikev1.algorithms import ECDSA_SIGNATURES, RSA_SIGNATURE, SHARED_KEY, Offer
from zesty_burrow.protocols.l2tp_ipsec.ikev1.config import IkeConfig
from zesty_burrow.protocols.l2tp_ipsec.ikev1.identities import read_notification, refuse_error
from zesty_burrow.protocols.l2tp_ipsec.ikev1.main_mode import MainMode
from zesty_burrow.protocols.l2tp_ipsec.ikev1.message import (
    NON_ESP,
    Exchange,
    Kind,
    of_kind,
    read_header,
    read_payloads,
)
from zesty_burrow.protocols.l2tp_ipsec.settings import CERTIFICATE, NAT_PORT, WEAK, is_weak, settings_of
from zesty_burrow.protocols.repeater import Repeater
from zesty_burrow.protocols.session import Framing, ProbeDone, Transport
from zesty_burrow.records import dataclass

AFTER_ANSWER, BRIEF = 2.0, 1.2
"""Seconds for another answer of a gateway that has answered once; and for any, among other questions."""


@dataclass(slots=True)
class L2tpCapabilities:
    """``chosen``: of the profile's offer; ``weak``: what it takes where nothing else is offered."""

    chosen: Suite | None = None
    weak: Suite | None = None
    against: str = ""
    round_trip: float = 0.0

    @property
    def is_known(self) -> bool:
        """Whether the gateway has said anything."""
        return self.chosen is not None or self.weak is not None or bool(self.against)

    @property
    def words(self) -> str:
        """What there is to know."""
        parts = [str(self.chosen)] if self.chosen else []
        if self.weak is not None:
            names = [describe(*part) for part in parts_of(self.weak) if is_weak(part[0], part[1])]
            parts.append(f"takes weak algorithms too: {', '.join(names)}")
        return "; ".join(parts)


class L2tpProbe:
    """``start``, then the calls of a protocol machine. No key exchange is made, and no credentials are in it."""

    transport = Transport.DATAGRAMS
    local_port = 1

    def __init__(self, profile: Profile, address: str, timeout: float, random: Random, *, is_brief: bool) -> None:
        own = settings_of(profile)
        self.gateway = address, own.port
        self.found = L2tpCapabilities()
        self._own, self._random = offer_of(own), random
        # Who speaks IKEv2 alone does not answer at all: among other questions there is no use in waiting long.
        self._timeout = min(timeout, BRIEF) if is_brief else timeout
        by_key = profile.sign_in.gateway != CERTIFICATE
        self._methods = (SHARED_KEY,) if by_key else (RSA_SIGNATURE, *ECDSA_SIGNATURES)
        weak = {label: tuple(number for number, _ in rows) for label, rows in WEAK.items()}
        offer = Offer(WEAK["encryption"], weak["integrity"], weak["key_exchange"])
        self._questions = deque([("own", self._own)] + ([] if is_brief else [("weak", offer)]))
        self._mode: MainMode | None = None
        self._message = b""
        self._repeater: Repeater | None = None
        self._out: deque[bytes] = deque()
        self._events: deque[ProbeDone] = deque()

    @property
    def framing(self) -> Framing:
        """It travels in UDP alone."""
        raise ProgramFault("a probe by UDP has nothing to frame")

    def start(self, now: float) -> None:
        """Ask the first question."""
        self._ask(now)

    def _ask(self, now: float) -> None:
        if not self._questions:
            self._repeater = None
            self._events.append(ProbeDone(now))
            return
        local = any_address(self.gateway[0])
        config = IkeConfig(self._questions[0][1], self._methods, local, local, timeout=self._timeout)
        self._mode = MainMode(config, self._random, self.gateway, is_initiator=True)
        self._message = self._mode.start()
        self._put()
        limit = min(self._timeout, AFTER_ANSWER) if self.found.is_known else self._timeout
        self._repeater = Repeater(now, 0.5, limit)

    def _put(self) -> None:
        self._out.append((NON_ESP if self.gateway[1] == NAT_PORT else b"") + self._message)

    def receive(self, data: bytes, source: Endpoint, now: float, local_port: int = 0) -> None:
        """Take a datagram. Never raises for content."""
        mode, repeater = self._mode, self._repeater
        if mode is None or repeater is None or source[0] != self.gateway[0]:
            return
        try:
            header, first, body = read_header(data[4:] if data[:4] == NON_ESP else data)
            if header.cookies[0] != mode.cookies[0] or header.encrypted:
                return
            if header.exchange == Exchange.INFORMATIONAL:
                payloads, _ = read_payloads(first, body)
                names = [refuse_error(read_notification(one)[0]) for one in of_kind(payloads, Kind.NOTIFICATION)]
                if not any(names):
                    return
                self._refused(f"it answers {next(filter(None, names))}")
            elif header.exchange == Exchange.MAIN:
                mode.receive(header, first, body, now)
                self._agreed(mode.suite)
        except Malformed:
            return
        except BurrowError as problem:
            self._refused(problem.why or str(problem))
        if repeater.tries == 1 and not self.found.round_trip:
            self.found.round_trip = now - repeater.begun
        self._questions.popleft()
        self._ask(now)

    def _agreed(self, suite: Suite | None) -> None:
        if self._questions[0][0] == "own":
            self.found.chosen = suite
        else:
            self.found.weak = suite

    def _refused(self, why: str) -> None:
        if self._questions[0][0] == "own":
            self.found.against = why

    def send(self, now: float) -> list[Datagram]:
        datagrams = [Datagram(data, self.local_port, self.gateway) for data in self._out]
        self._out.clear()
        return datagrams

    def next_timer(self) -> float | None:
        """When to call ``handle_timer``."""
        return self._repeater.due if self._repeater is not None else None

    def handle_timer(self, now: float) -> None:
        if self._repeater is None or not self._repeater.again(now):
            return
        if not self._repeater.is_over(now):
            self._put()
        elif self.found.is_known:
            # To an offer of weak algorithms alone many do not answer at all.
            self._questions.popleft()
            self._ask(now)
        else:
            self._repeater = None
            self._events.append(ProbeDone(now, silent=True))

    def next_event(self) -> ProbeDone | None:
        """The next event, or None."""
        return self._events.popleft() if self._events else None
