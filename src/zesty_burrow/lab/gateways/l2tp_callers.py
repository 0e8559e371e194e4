"""Callers of a gateway by L2TP over IPsec: beside those by IKEv2, behind the same two ports."""

from __future__ import annotations

import os
from datetime import UTC, datetime
from ipaddress import ip_address
from typing import TYPE_CHECKING, Protocol

from cryptography.hazmat.primitives.serialization import Encoding

from zesty_burrow.core.identity import Identity
from zesty_burrow.core.net import Datagram, Endpoint
from zesty_burrow.lab import story
from zesty_burrow.protocols.gateway_proof import Proof, caller_of
from zesty_burrow.protocols.l2tp_ipsec.from_profile import offer_of
from zesty_burrow.protocols.l2tp_ipsec.gateway_session import (
    L2tpGatewayConfig,
    L2tpGatewaySession,
    is_version_1,
)
from zesty_burrow.protocols.l2tp_ipsec.ikev1.algorithms import SHARED_KEY, Offer
from zesty_burrow.protocols.l2tp_ipsec.ikev1.config import NAT_PORT, IkeConfig
from zesty_burrow.protocols.l2tp_ipsec.ikev1.signatures import methods_of
from zesty_burrow.protocols.l2tp_ipsec.settings import WEAK, L2tpSettings
from zesty_burrow.protocols.ppp.link import CalledConfig
from zesty_burrow.protocols.ppp.sign_in import MSCHAPV2, PAP
from zesty_burrow.protocols.session import NetworkSettings

if TYPE_CHECKING:
    from cryptography import x509

    from zesty_burrow.core.crypto.private_key import PrivateKey
    from zesty_burrow.lab.authority import Authority
    from zesty_burrow.protocols.ikev2.gateway_session import CallerEvent
    from zesty_burrow.protocols.l2tp_ipsec.gateway_session import L2tpCaller, L2tpCallerEvent

MRU = 1400
OLD = Offer(*(tuple(row if label == "encryption" else row[0] for row in rows) for label, rows in WEAK.items()))  # type: ignore[arg-type]
"""What the fault weak-proposals leaves."""


class L2tpCallersOwner(Protocol):
    place: story.Site
    authority: Authority
    shared_key: str
    faults: frozenset[str]

    def server_keys(self) -> tuple[PrivateKey, tuple[x509.Certificate, ...]]:
        """Its key and certificates at present."""

    def password_of(self, account: str) -> str | None:
        """An account's."""

    def assign(self, account: str, wanted: tuple[bytes, ...]) -> NetworkSettings | None:
        """Inner addresses for an account."""


def gateway_config(host: L2tpCallersOwner) -> L2tpGatewayConfig:
    """As the gateway is at the moment: its accounts, its shared key, and its faults."""
    faults = host.faults
    key, chain = host.server_keys()

    def judge(shown: tuple[x509.Certificate, ...]) -> Proof:
        return Proof(caller_of(shown, (host.authority.certificate,), datetime.now(UTC)), ())

    own = Identity.of(host.place.outer)
    ike = IkeConfig(
        offer=OLD if "weak-proposals" in faults else offer_of(L2tpSettings(weak_algorithms=True)),
        methods=(SHARED_KEY, *methods_of(key)),
        own=own,
        local=own,
        shared_key=b"another one" if "wrong-shared-key" in faults else host.shared_key.encode(),
        key=key,
        certificates=tuple(one.public_bytes(Encoding.DER) for one in chain),
        judge=judge,
    )
    gateway_address = ip_address(f"{host.place.pool4}1").packed

    def called() -> CalledConfig:
        method = PAP if "asks-for-pap" in host.faults else MSCHAPV2
        return CalledConfig(
            method, host.password_of, lambda account: host.assign(account, ()), gateway_address, host.place.name, MRU
        )

    return L2tpGatewayConfig(ike, called, host.place.name, numbered="numbers-packets" in faults)


class GatewayMachine(Protocol):
    """The end of IKEv2: the calls of a gateway's session."""

    def receive(self, data: bytes, source: Endpoint, now: float, local_port: int) -> None:
        """Take a datagram."""

    def send(self, now: float) -> list[Datagram]:
        """Datagrams to send now."""

    def next_timer(self) -> float | None:
        """When to call ``handle_timer``."""

    def handle_timer(self, now: float) -> None:
        """Time has passed."""

    def next_event(self) -> CallerEvent | None:
        """The next event, or None."""


class BothVersions:
    """IKEv2's end and L2TP's as one machine; it hears nothing while the gateway is to be silent."""

    def __init__(self, host: L2tpCallersOwner, current: GatewayMachine) -> None:
        self._host, self._current = host, current
        self.former = L2tpGatewaySession(gateway_config(host), os.urandom) if host.place.is_old else None

    def renew(self) -> None:
        """The gateway has other faults."""
        if self.former is not None:
            self.former.config = gateway_config(self._host)

    @property
    def callers(self) -> list[L2tpCaller]:
        """By L2TP, those whose tunnels are up."""
        return self.former.callers if self.former is not None else []

    def close(self, now: float) -> None:
        """End L2TP's tunnels."""
        if self.former is not None:
            self.former.close(now)

    def forget(self, now: float) -> None:
        """Know none of L2TP's callers any more."""
        if self.former is not None:
            self.former.forget(now)

    @property
    def has_received(self) -> bool:
        """Whether messages came in the datagrams of packets."""
        return self.former is not None and self.former.has_received

    def receive(self, data: bytes, source: Endpoint, now: float, local_port: int) -> None:
        """Take a datagram that is no packet's."""
        if "silent" in self._host.faults:
            return
        marked = local_port == NAT_PORT
        is_esp = marked and data[:4] != bytes(4)
        if self.former is not None and (is_esp or is_version_1(data[4:] if marked else data)):
            self.former.receive(data, source, now, local_port)
        else:
            self._current.receive(data, source, now, local_port)

    def send(self, now: float) -> list[Datagram]:
        return self._current.send(now) + (self.former.send(now) if self.former is not None else [])

    def next_timer(self) -> float | None:
        """When to call ``handle_timer``."""
        found = [self._current.next_timer(), self.former.next_timer() if self.former is not None else None]
        return min((one for one in found if one is not None), default=None)

    def handle_timer(self, now: float) -> None:
        self._current.handle_timer(now)
        if self.former is not None:
            self.former.handle_timer(now)

    def next_event(self) -> CallerEvent | L2tpCallerEvent | None:
        """The next event, or None."""
        event = self._current.next_event()
        return event if event is not None or self.former is None else self.former.next_event()
