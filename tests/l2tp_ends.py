"""Both ends of L2TP over IPsec in memory, and a network between them that loses, doubles and reorders by a seed."""

from __future__ import annotations

import heapq
import itertools
import random
from datetime import UTC, datetime
from ipaddress import IPv4Interface, IPv6Interface, ip_address

from cryptography.hazmat.primitives.serialization import Encoding

from http_ends import AUTHORITY, HOST, KEY, PEM, certificate
from support import Reported, seeded
from zesty_burrow.core.credentials import NamePassword, PreSharedKey
from zesty_burrow.core.identity import Identity
from zesty_burrow.core.profile import Gateway, Profile, SignIn, Traffic, TunnelSettings
from zesty_burrow.core.scope import CredentialsKind
from zesty_burrow.core.secret import Secret
from zesty_burrow.protocols.gateway_proof import Proof, caller_of
from zesty_burrow.protocols.l2tp_ipsec.from_profile import offer_of
from zesty_burrow.protocols.l2tp_ipsec.gateway_session import L2tpGatewayConfig, L2tpGatewaySession
from zesty_burrow.protocols.l2tp_ipsec.ikev1.algorithms import SHARED_KEY
from zesty_burrow.protocols.l2tp_ipsec.ikev1.config import IkeConfig
from zesty_burrow.protocols.l2tp_ipsec.ikev1.signatures import methods_of
from zesty_burrow.protocols.l2tp_ipsec.settings import L2tpSettings
from zesty_burrow.protocols.ppp.link import CalledConfig
from zesty_burrow.protocols.registry import protocol
from zesty_burrow.protocols.session import NetworkSettings, Noticed, SessionRequest

NAME, PASSWORD, GROUP_KEY = "TIDEWRACK\\Heron_77", "kelp-Forest_42", "blue whale, three times"
GATEWAY, HERE = "198.51.100.98", ("192.0.2.1", 40000)
INNER = NetworkSettings(
    (IPv4Interface("10.66.6.10/32"), IPv6Interface("2001:db8:66:6::a/64")),
    (ip_address("10.20.0.53"), ip_address("2001:db8::53")),
    netbios_name_servers=(ip_address("10.20.0.10"),),
)


def a_profile(method="ms-chap-v2", proof="pre-shared-key", traffic=None, **settings):
    return Profile(
        "office",
        Gateway((HOST,)),
        tunnel=TunnelSettings(protocol="l2tp-ipsec"),
        sign_in=SignIn(proof, method),
        settings=L2tpSettings(**settings),
        authorities=(PEM,),
        traffic=traffic or Traffic(),
    )


def the_secrets(password=PASSWORD, shared=GROUP_KEY, own=None):
    found = {
        CredentialsKind.NAME_PASSWORD: NamePassword(NAME, Secret(password)),
        CredentialsKind.PRE_SHARED_KEY: PreSharedKey(Secret(shared)),
    }
    return {**found, CredentialsKind.CLIENT_KEY: own} if own is not None else found


def a_session(profile, seed=1, timeout=5.0, wanted=(), **secrets):
    request = SessionRequest(GATEWAY, the_secrets(**secrets), datetime.now(UTC), timeout, wanted=wanted)
    return protocol("l2tp-ipsec").session(profile, request, seeded(seed))


def gateway_config(method="ms-chap-v2", inner=INNER, shown=None, numbered=False, **settings):
    """``shown``: the gateway's certificates; ``settings``: of what it takes."""
    own = Identity.of(GATEWAY)
    chain = shown or (certificate(),)
    ike = IkeConfig(
        offer=offer_of(L2tpSettings(**{"weak_algorithms": True, **settings})),
        methods=(SHARED_KEY, *methods_of(KEY)),
        own=own,
        local=own,
        shared_key=GROUP_KEY.encode(),
        key=KEY,
        certificates=tuple(one.public_bytes(Encoding.DER) for one in chain),
        judge=lambda rows: Proof(caller_of(rows, (AUTHORITY.certificate,), datetime.now(UTC)), ()),
    )
    known = {NAME: PASSWORD}
    own_address = ip_address("10.66.6.1").packed
    return L2tpGatewayConfig(
        ike, lambda: CalledConfig(method, known.get, lambda account: inner, own_address, "office", 1400), "office",
        numbered,
    )  # fmt: skip


class Wire(Reported):
    """``seen``: what went over it, with direction, the gateway's port, and the octets."""

    def __init__(self, profile=None, config=None, seed=1, loss=0.0, doubling=0.0, jitter=0.0, **session):
        self.profile = profile or a_profile()
        self.random = random.Random(seed)
        self.session = a_session(self.profile, seed, **session)
        self.gateway = L2tpGatewaySession(config or gateway_config(), seeded(seed + 1))
        self.loss, self.doubling, self.jitter = loss, doubling, jitter
        self.caller, self.now, self.is_cut = HERE, 100.0, False
        self.flying, self.counter = [], itertools.count()
        self.events, self.gateway_events, self.seen = [], [], []
        self.tamper = lambda data, to_gateway: data
        self.session.start(self.now)

    def _launch(self, data, to_gateway, port):
        self.seen.append((to_gateway, port, data))
        data = self.tamper(data, to_gateway)
        for _ in range(2 if self.random.random() < self.doubling else 1):
            if data is not None and not self.is_cut and self.random.random() >= self.loss:
                due = self.now + 0.01 + self.random.random() * self.jitter
                heapq.heappush(self.flying, (due, next(self.counter), data, to_gateway, port))

    def collect(self):
        for one in self.session.send(self.now):
            self._launch(one.data, True, one.destination[1])
        for one in self.gateway.send(self.now):
            self._launch(one.data, False, one.local_port)
        while (event := self.session.next_event()) is not None:
            self.events.append(event)
        while (event := self.gateway.next_event()) is not None:
            self.gateway_events.append(event.event)

    def run(self, seconds=60.0, stop=lambda wire: False):
        """Let time pass from event to event, for so long or until ``stop`` says so."""
        until = self.now + seconds
        self.collect()
        while not stop(self):
            times = [entry[0] for entry in self.flying[:1]]
            times += [due for end in (self.session, self.gateway) if (due := end.next_timer()) is not None]
            if not times or min(times) > until:
                self.now = until
                return self
            self.now = max(self.now, min(times))
            while self.flying and self.flying[0][0] <= self.now:
                _, _, data, to_gateway, port = heapq.heappop(self.flying)
                if to_gateway:
                    self.gateway.receive(data, self.caller, self.now, port)
                else:
                    self.session.receive(data, (GATEWAY, port), self.now)
            for end in (self.session, self.gateway):
                due = end.next_timer()
                if due is not None and due <= self.now:
                    end.handle_timer(self.now)
            self.collect()
        return self

    def connect(self):
        """Until it is up at both ends, or over."""
        return self.run(stop=lambda wire: (wire.up and wire.gateway.callers) or wire.down)

    @property
    def noticed(self):
        return {one.finding.code.slug for one in self.events if isinstance(one, Noticed)}

    @property
    def far(self):
        """The gateway's channel of the one caller."""
        return self.gateway.callers[0].channel

    def packets_pass(self):
        """A packet each way, through both channels."""
        here, there = "10.66.6.10", "203.0.113.10"
        going, coming = ip4(here, there), ip4(there, here)
        sealed = self.session.channel.seal(going, self.now)
        assert self.session.channel.allows_out(going[12:20])
        assert self.far.open(sealed, self.now) == going
        sealed = self.far.seal(coming, self.now)
        assert self.session.channel.open(sealed, self.now) == coming
        assert self.session.channel.allows_in(sealed[:4], coming[12:20])


def ip4(source, destination, size=100):
    from scapy.layers.inet import IP, UDP

    return bytes(IP(src=source, dst=destination) / UDP(sport=5, dport=6) / bytes(size))
