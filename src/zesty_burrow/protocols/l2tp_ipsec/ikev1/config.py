"""What one end of IKEv1 needs to know beforehand, and what it tells."""

from __future__ import annotations

from collections.abc import Callable

from cryptography import x509

from zesty_burrow.core.crypto.private_key import PrivateKey
from zesty_burrow.core.finding import Finding
from zesty_burrow.core.identity import Identity
from zesty_burrow.core.policy.suite import Suite
from zesty_burrow.errors import BurrowError
from zesty_burrow.protocols.gateway_proof import Proof
from zesty_burrow.protocols.l2tp_ipsec.ikev1.algorithms import Offer
from zesty_burrow.protocols.l2tp_ipsec.ikev1.keys import EspKeys
from zesty_burrow.records import dataclass, field

PORT, NAT_PORT = 500, 4500
L2TP_PORT = 1701
UDP = 17


@dataclass(frozen=True, slots=True)
class IkeConfig:
    """``methods``: of authentication, as RFC 2409 appendix A numbers them, those that are taken.

    ``judge``: of the peer's certificates, its own first; raises ``BurrowError`` where they prove nothing.
    ``local``: this side's address as the network knows it, or any. ``timeout``: seconds for an answer.
    ``probe_after``: seconds of silence after which the peer is asked whether it is there; ``dead``: after which it is
    not.
    """

    offer: Offer
    methods: tuple[int, ...]
    own: Identity
    local: Identity
    shared_key: bytes = field(default=b"", repr=False)
    key: PrivateKey | None = field(default=None, repr=False)
    certificates: tuple[bytes, ...] = ()
    judge: Callable[[tuple[x509.Certificate, ...]], Proof] | None = None
    timeout: float = 15.0
    probe_after: float = 30.0
    dead: float = 180.0


@dataclass(frozen=True, slots=True)
class ChildSa:
    """A pair of SAs of ESP; ``seconds``: how long its keys are used; ``by_peer``: the peer has asked for it."""

    spi_in: int
    spi_out: int
    inbound: EspKeys = field(repr=False)
    outbound: EspKeys = field(repr=False)
    seconds: int
    by_peer: bool

    @property
    def suite(self) -> Suite:
        return self.outbound.suite


@dataclass(frozen=True, slots=True)
class Reached:
    """The peer has answered the first message."""

    at: float


@dataclass(frozen=True, slots=True)
class Agreed:
    """Algorithms of the ISAKMP SA."""

    at: float
    suite: Suite


@dataclass(frozen=True, slots=True)
class Authenticated:
    """The peer has proven itself; ``again``: for new keys of a tunnel that is up."""

    at: float
    subject: str
    findings: tuple[Finding, ...]
    again: bool


@dataclass(frozen=True, slots=True)
class ChildUp:
    """A pair of SAs is ready."""

    at: float
    child: ChildSa


@dataclass(frozen=True, slots=True)
class ChildConfirmed:
    """The peer who asked for a pair of SAs has it too: packets may go out by it."""

    at: float
    spi_in: int


@dataclass(frozen=True, slots=True)
class ChildGone:
    """A pair of SAs is not used any more, by its inbound SPI."""

    at: float
    spi_in: int


@dataclass(frozen=True, slots=True)
class Ended:
    """It is over; with ``error`` where it never was up or was lost."""

    at: float
    by_peer: bool
    reason: str = ""
    error: BurrowError | None = None


IkeEvent = Reached | Agreed | Authenticated | ChildUp | ChildConfirmed | ChildGone | Ended
