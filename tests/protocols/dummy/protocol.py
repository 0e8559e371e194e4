"""What the registry offers: settings, session and channel of the dummy protocol."""

from __future__ import annotations

import hashlib
import ipaddress
import json
import os
from collections import deque
from dataclasses import dataclass

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM

from zesty_burrow.core.net import AddressRange, Datagram
from zesty_burrow.core.policy.suite import Suite
from zesty_burrow.core.profile import ProtocolSettings
from zesty_burrow.core.scope import CredentialsKind
from zesty_burrow.errors import GatewayUnreachable, Malformed, SignInRefused
from zesty_burrow.protocols.session import (
    Down,
    Negotiated,
    NegotiatedSuite,
    NetworkSettings,
    ProbeDone,
    Step,
    StepDone,
    Transport,
    Up,
)

LABEL = b"DUMY"
CONTROL = bytes(4)
SUITE = (NegotiatedSuite("DUMMY", Suite(20, 256)),)


@dataclass(frozen=True, slots=True)
class DummySettings(ProtocolSettings):
    """``port``: the gateway's; ``motto``: shown, and sent with the sign-in."""

    port: int = 7777
    motto: str = ""

    def needs(self, sign_in):
        return (CredentialsKind.NAME_PASSWORD,)

    def written(self):
        return {"port": self.port, "motto": self.motto}

    def rows(self):
        return [("motto", self.motto)]

    def over(self):
        return "UDP"

    def typed(self, gateway):
        return (("motto", self.motto),)


@dataclass(slots=True)
class Counters:
    packets_in: int = 0
    octets_in: int = 0
    packets_out: int = 0
    octets_out: int = 0
    rejected: int = 0


class DummyChannel:
    """Both ends' packet channel."""

    labels = frozenset({LABEL})
    overhead = 32
    wants_rekey = False
    revision = 0

    def __init__(self, password, local, remote):
        self.counters = Counters()
        self.last_sent = self.last_received = 0.0
        self.local, self.remote = local, remote
        self._cipher = AESGCM(hashlib.sha256(password.encode()).digest())

    def largest_inner(self, room):
        return room - self.overhead

    def allows_out(self, addresses):
        half = len(addresses) // 2
        return any(addresses[:half] in one for one in self.local) and any(
            addresses[half:] in one for one in self.remote
        )

    def allows_in(self, label, addresses):
        half = len(addresses) // 2
        return self.allows_out(addresses[half:] + addresses[:half])

    def seal(self, packet, now):
        self.last_sent = now
        self.counters.packets_out += 1
        self.counters.octets_out += len(packet)
        nonce = os.urandom(12)
        return LABEL + nonce + self._cipher.encrypt(nonce, packet, None)

    def open(self, data, now):
        try:
            packet = self._cipher.decrypt(data[4:16], data[16:], None)
        except (InvalidTag, ValueError):
            self.counters.rejected += 1
            raise Malformed("a packet was rejected") from None
        self.last_received = now
        self.counters.packets_in += 1
        self.counters.octets_in += len(packet)
        return packet


class DummySession:
    """hello, welcome or refused; bye."""

    transport = Transport.DATAGRAMS
    local_port = 1

    def __init__(self, profile, request):
        self.peer = (request.address, profile.settings.port)
        self.round_trip, self.last_heard = float("inf"), 0.0
        self.is_up = False
        self._profile, self._request = profile, request
        self._own = request.secrets[CredentialsKind.NAME_PASSWORD]
        self._out, self._events = deque(), deque()
        self._asked = self._deadline = None

    def _send(self, **words):
        self._out.append(Datagram(CONTROL + json.dumps(words).encode(), self.local_port, self.peer))

    def start(self, now):
        self._asked, self._deadline = now, now + self._request.timeout
        digest = hashlib.sha256(b"sign in" + self._own.password.text().encode()).hexdigest()
        self._send(hello=self._own.name, proof=digest, motto=self._profile.settings.motto)

    def close(self, now):
        if self.is_up:
            self._send(bye=self._own.name)
        self.is_up = False
        self._events.append(Down(now, False))

    def address_changed(self, now):
        """The gateway follows by itself."""

    def receive(self, data, source, now, local_port=0):
        if source != self.peer or data[:4] != CONTROL:
            return
        answer = json.loads(data[4:])
        self._deadline, self.round_trip = None, now - self._asked
        self._events.append(StepDone(now, Step.REACH, self.peer[0]))
        if "refused" in answer:
            self._events.append(Down(now, True, "refused", SignInRefused("the gateway refused the sign-in")))
            return
        inner = ipaddress.ip_interface(answer["address"])
        local = (AddressRange(inner.ip.packed, inner.ip.packed),)
        remote = tuple(AddressRange.of(one) for one in self._profile.traffic.networks)
        self._events += [Negotiated(now, SUITE), StepDone(now, Step.NEGOTIATE, "AES-GCM"),
                         StepDone(now, Step.PROVE, "by the password"), StepDone(now, Step.SIGN_IN, answer["greeting"])]  # fmt: skip
        channel = DummyChannel(self._own.password.text(), local, remote)
        self.is_up = True
        self._events.append(Up(now, NetworkSettings((inner,)), remote, channel))

    def send(self, now):
        out = list(self._out)
        self._out.clear()
        return out

    def next_timer(self):
        return self._deadline

    def handle_timer(self, now):
        if self._deadline is not None and now >= self._deadline:
            self._deadline = None
            self._events.append(Down(now, True, "silent", GatewayUnreachable("the gateway does not answer")))

    def next_event(self):
        return self._events.popleft() if self._events else None

    def exported_keys(self):
        return "{}\n"


class Dummy:
    """The dummy protocol."""

    name = "dummy"
    sign_in_methods, gateway_proofs = ("password",), ("password",)
    unprotected_code = ""

    def refuse_sign_in(self, sign_in):
        return ""

    def extras(self, profile):
        return ()

    def outer_ports(self, profile):
        return ((17, profile.settings.port),)

    def read_settings(self, table):
        return DummySettings(table.number("port", 7777, 1, 65535), table.text("motto"))

    def session(self, profile, request, random):
        return DummySession(profile, request)

    def title(self, profile):
        return "a dummy for tests"

    def probe(self, profile, request, random, *, is_brief=False):
        return DummyProbe(profile, request)


@dataclass(frozen=True)
class DummyCapabilities:
    """``chosen`` etc. as the program asks for them."""

    words: str = ""
    round_trip: float = float("inf")
    is_known: bool = False
    chosen: Suite | None = None
    against: str = ""


class DummyProbe:
    """Asks who is there."""

    transport = Transport.DATAGRAMS
    local_port = 1

    def __init__(self, profile, request):
        self.gateway = (request.address, profile.settings.port)
        self.found = DummyCapabilities()
        self._timeout = request.timeout
        self._out, self._events = deque(), deque()
        self._asked = self._deadline = None

    def start(self, now):
        self._asked, self._deadline = now, now + self._timeout
        self._out.append(Datagram(CONTROL + b'{"who": 1}', self.local_port, self.gateway))

    def receive(self, data, source, now, local_port=0):
        if source == self.gateway and data[:4] == CONTROL:
            self._deadline = None
            self.found = DummyCapabilities(json.loads(data[4:])["here"], now - self._asked, True, SUITE[0].suite)
            self._events.append(ProbeDone(now))

    def send(self, now):
        found = list(self._out)
        self._out.clear()
        return found

    def next_timer(self):
        return self._deadline

    def handle_timer(self, now):
        if self._deadline is not None and now >= self._deadline:
            self._deadline = None
            self._events.append(ProbeDone(now, silent=True))

    def next_event(self):
        return self._events.popleft() if self._events else None


PROTOCOL = Dummy()
