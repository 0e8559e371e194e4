"""Everything that an initiator needs to know beforehand."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime

from cryptography import x509

from zesty_burrow.core.certificates.revocation import Revocations
from zesty_burrow.core.credentials import AdditionalKey, Credentials, PreSharedKey
from zesty_burrow.core.identity import Identity
from zesty_burrow.core.net import Address, AddressRange, Endpoint
from zesty_burrow.protocols.ikev2.machine.ike_sa import Backoff
from zesty_burrow.protocols.ikev2.wire.offer import Offer
from zesty_burrow.records import dataclass, field

EAP, CERTIFICATE, SHARED_KEY, RAW_KEY = "eap-mschapv2", "certificate", "pre-shared-key", "raw-public-key"
EAP_TLS, TWO_ROUNDS, BY_EAP = "eap-tls", "certificate+eap-mschapv2", "eap"
"""How a side proves itself, by the words of a profile."""


@dataclass(frozen=True, slots=True)
class InitiatorConfig:
    """Everything that the negotiation needs to know beforehand.

    ``gateway``: the gateway's address and port for IKE_SA_INIT; ``credentials`` is called only after the proof;
    ``wall_time`` is what certificates are judged by; ``local`` and ``remote`` are the ranges to ask for; ``method``
    and ``proof``: how this side and the gateway prove themselves, by the words of a profile. Without EAP the protocol
    wants this side's proof first (RFC 7296 §1.2): it says who we are, and nothing that would let others sign in.
    ``child_seconds`` and ``child_octets``: after how much of either a child SA gets new keys.
    ``redirected_from``: the gateway that has sent us here. ``second``: what the second of two rounds signs in with.
    ``over_stream``: messages go in a byte stream (RFC 9329), ``gateway`` and ``encapsulation_port`` name its TCP port.
    ``wanted``: inner addresses to ask for, which this side had before. ``need_status``: a certificate of which it is
    not known whether it was revoked is refused.
    """

    gateway: Endpoint
    gateway_identity: Identity
    own_identity: Identity
    ike_offers: tuple[Offer, ...]
    esp_offers: tuple[Offer, ...]
    anchors: tuple[x509.Certificate, ...]
    credentials: Callable[[], Credentials]
    wall_time: datetime
    local: tuple[AddressRange, ...]
    remote: tuple[AddressRange, ...]
    encapsulation_port: int = 4500
    local_port: int = 4500
    over_stream: bool = False
    revocation_lists: tuple[Revocations, ...] = ()
    method: str = EAP
    proof: str = CERTIFICATE
    gateway_key: Callable[[], PreSharedKey] | None = None
    gateway_keys: tuple[bytes, ...] = ()
    second: Callable[[], Credentials] | None = None
    redirected_from: str = ""
    child_seconds: float = 3600.0
    child_octets: int = 1 << 36
    ike_seconds: float = 4 * 3600.0
    liveness_seconds: float = 30.0
    need_status: bool = False
    over_tls: bool = False
    additional: AdditionalKey | None = None
    additional_required: bool = False
    wanted: tuple[Address, ...] = ()
    backoff: Backoff = field(default_factory=Backoff)

    @property
    def proves_at_once(self) -> bool:
        """Whether this side's own proof goes into the first IKE_AUTH request."""
        return self.method not in (EAP, EAP_TLS)
