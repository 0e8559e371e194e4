"""What a session knows of the connection below it: HTTP of some version, secured by TLS or QUIC, with one request.

A link does no I/O and has no clock. It never sends anything of its owner's before the owner, who has looked at the
other side's certificates, has made the request.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Protocol, runtime_checkable

from cryptography import x509

from zesty_burrow.core.net import Endpoint
from zesty_burrow.records import dataclass, field

CAPSULES = ("capsule-protocol", "?1")
"""RFC 9297 §3.4."""
UPGRADE = "connect-ip"


@dataclass(frozen=True, slots=True)
class Request:
    """``headers``: besides those that every such request has, in small letters."""

    authority: str
    path: str
    headers: Mapping[str, str] = field(default_factory=dict, repr=False)


# Events.


@dataclass(frozen=True, slots=True)
class Secured:
    """The handshake is complete, and nothing has been sent that answers it. ``version``: of HTTP.

    ``group_words``: where ``group`` is the weakest that it can have been.
    """

    chain: tuple[x509.Certificate, ...]
    cipher_suite: str
    group: str
    version: str
    group_words: str = ""


@dataclass(frozen=True, slots=True)
class Answered:
    """To the request: status code, and the headers in small letters."""

    status: int
    headers: Mapping[str, str] = field(default_factory=dict)

    @property
    def is_tunnel(self) -> bool:
        """Whether what follows is the tunnel."""
        return self.status == 101 or 200 <= self.status < 300


@dataclass(frozen=True, slots=True)
class Asked:
    """On the other side: somebody asks for a tunnel, or for something else; then ``protocol`` is another one."""

    request: Request
    protocol: str
    method: str = "CONNECT"


@dataclass(frozen=True, slots=True)
class Content:
    """Octets of the tunnel's capsules."""

    data: bytes


@dataclass(frozen=True, slots=True)
class Payload:
    """An HTTP Datagram that came outside the stream (RFC 9297 §2.1)."""

    data: bytes


@dataclass(frozen=True, slots=True)
class Alive:
    """The peer has answered a keep-alive question."""


@dataclass(frozen=True, slots=True)
class Gone:
    """The connection or the request is over; ``by_peer``: it was ended in an orderly way; ``disagrees``: both ends know
    no TLS in common.
    """

    why: str
    by_peer: bool = False
    disagrees: bool = False


LinkEvent = Secured | Answered | Asked | Content | Payload | Alive | Gone


@runtime_checkable
class Bursts(Protocol):
    """A link that takes many datagrams at once."""

    def receive_burst(self, octets: bytes, size: int, now: float, source: Endpoint | None = None) -> list[LinkEvent]:
        """Datagrams of ``size`` octets, of which the last may be shorter."""


class HttpLink(Protocol):
    """One end of a connection."""

    @property
    def room(self) -> int:
        """The longest packet."""

    @property
    def waiting(self) -> int:
        """Octets that the other side's flow control holds back."""

    def start(self, now: float) -> None:
        """A client: begin the handshake."""

    @property
    def ticket(self) -> object | None:
        """The session, for another connection to resume; None before there is one."""

    def receive(self, data: bytes, now: float, source: Endpoint | None = None) -> list[LinkEvent]:
        """Take what has come; empty data is the end of a byte stream. Never raises for content."""

    def migrate(self, now: float) -> bool:
        """This side has another address: whether the connection goes on."""

    def inquire(self) -> None:
        """A client, once it is content with whom it speaks to, and wants nothing but the other side's settings."""

    @property
    def takes_tunnels(self) -> bool | None:
        """Whether the other side's settings allow the request; None as long as nothing is known."""

    def request(self, request: Request) -> None:
        """A client, once it is content with whom it speaks to."""

    def answer(self, status: int, headers: Mapping[str, str]) -> None:
        """A server, to the one request."""

    def content(self, data: bytes) -> None:
        """Send capsules."""

    def packets(self, packets: Sequence[bytes]) -> None:
        """Send IP packets."""

    def ping(self) -> bool:
        """Ask whether the other side is alive; whether an answer will come."""

    def close(self) -> None:
        """End the request."""

    def out(self, now: float) -> list[tuple[bytes, Endpoint | None]]:
        """What is to be sent now, and where to; None for a byte stream's other end."""

    def next_timer(self) -> float | None:
        """When to call ``handle_timer``."""

    def handle_timer(self, now: float) -> list[LinkEvent]:
        """Time has passed."""
