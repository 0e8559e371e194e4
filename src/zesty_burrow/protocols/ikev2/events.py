"""What the IKE machines report: events with keys and SAs. The session turns them into those that every protocol has."""

from __future__ import annotations

from zesty_burrow.core.crypto.protection import Protection
from zesty_burrow.core.crypto.random_octets import Random
from zesty_burrow.core.finding import Finding
from zesty_burrow.core.net import AddressRange, Endpoint
from zesty_burrow.core.policy.suite import Suite
from zesty_burrow.protocols.ikev2.wire.keys import ChildKeys, IkeKeys
from zesty_burrow.protocols.session import NetworkSettings
from zesty_burrow.records import dataclass, field


@dataclass(frozen=True, slots=True)
class Reached:
    """The gateway answered for the first time."""

    at: float


@dataclass(frozen=True, slots=True)
class Negotiated:
    """Algorithms of the IKE SA are agreed; ``nat_there``: the gateway is behind NAT."""

    at: float
    suite: Suite
    nat_there: bool


@dataclass(frozen=True, slots=True)
class Proven:
    """The gateway has proven who it is."""

    at: float
    subject: str
    findings: tuple[Finding, ...] = ()


@dataclass(frozen=True, slots=True)
class SignedIn:
    """The gateway accepted our credentials, and showed that it knows them."""

    at: float


@dataclass(frozen=True, slots=True)
class ChildEstablished:
    """A pair of ESP SAs is established. ``spi_in`` is ours, ``spi_out`` the peer's.

    ``as_initiator``: this side asked for it, so that the first half of the keys protects what it sends.
    ``is_caller``: ``inner`` holds this side's own addresses.
    """

    at: float
    spi_in: int
    spi_out: int
    keys: ChildKeys
    inner: NetworkSettings
    local: tuple[AddressRange, ...]
    remote: tuple[AddressRange, ...]
    as_initiator: bool = True
    is_caller: bool = True

    @property
    def extended(self) -> bool:
        """Whether sequence numbers have 64 bits."""
        return self.keys.suite.esn == 1

    def outbound(self, random: Random) -> Protection:
        """The protection of what this side sends."""
        return self.keys.protection(self.as_initiator, random)

    def inbound(self, random: Random) -> Protection:
        """The protection of what the peer sends."""
        return self.keys.protection(not self.as_initiator, random)


@dataclass(frozen=True, slots=True)
class ChildRekeyed:
    """Another pair of ESP SAs has come in place of the one whose incoming SPI was ``old_spi_in``.

    Where the peer asked for it, it may still send with the old pair; we send with the new one once it does.
    """

    at: float
    old_spi_in: int
    child: ChildEstablished
    by_peer: bool


@dataclass(frozen=True, slots=True)
class IkeRekeyed:
    """Another IKE SA has come in place of the one in use; the child SAs are its own now."""

    at: float
    suite: Suite


@dataclass(frozen=True, slots=True)
class NotRenewed:
    """The peer refuses to renew keys, and keeps the old ones; this side tries again. ``label``: whose, IKE or ESP."""

    at: float
    label: str
    why: str


@dataclass(frozen=True, slots=True)
class Moved:
    """The caller has another address, and both ends know it (RFC 4555); ``peer``: where the other end is."""

    at: float
    peer: Endpoint


@dataclass(frozen=True, slots=True)
class SignInLimit:
    """The gateway wants the sign-in to be repeated within so many seconds (RFC 4478); later it ends the tunnel."""

    at: float
    seconds: int


@dataclass(frozen=True, slots=True)
class Redirected:
    """The gateway asks to go to another one, in the middle of a tunnel that is still up (RFC 5685 §5)."""

    at: float
    to: str


@dataclass(frozen=True, slots=True)
class ChildGone:
    """A pair of ESP SAs that was replaced is not used by anybody any more."""

    at: float
    spi_in: int


@dataclass(frozen=True, slots=True)
class Failed:
    """The negotiation ended without a tunnel. ``error`` is one of the classes in ``errors``, ready to be raised."""

    at: float
    error: Exception


@dataclass(frozen=True, slots=True)
class Closed:
    """The IKE SA is gone: ``by_peer`` tells who ended it."""

    at: float
    by_peer: bool
    reason: str = ""


@dataclass(frozen=True, slots=True)
class KeyExport:
    """Everything an analyser needs to decrypt one capture."""

    spi_i: bytes
    spi_r: bytes
    ike: IkeKeys = field(repr=False)
    child: ChildKeys | None = field(default=None, repr=False)
    spi_in: int = 0
    spi_out: int = 0


Event = (
    Reached
    | Negotiated
    | Proven
    | SignedIn
    | ChildEstablished
    | ChildRekeyed
    | ChildGone
    | IkeRekeyed
    | NotRenewed
    | Moved
    | Redirected
    | SignInLimit
    | Failed
    | Closed
)
