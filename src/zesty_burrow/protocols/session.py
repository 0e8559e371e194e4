"""What the carrier knows of a tunnel protocol: a session that negotiates, a channel that carries packets, and events.

A session is one protocol's connection to a gateway. It does no I/O, has no clock and no randomness of its own: its
owner hands in what came from the network and the time, sends what it wants sent, and polls its events.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from datetime import datetime
from enum import StrEnum
from ipaddress import IPv4Interface, IPv6Interface
from typing import Protocol, runtime_checkable

from zesty_burrow.core.credentials import Credentials
from zesty_burrow.core.dns.encrypted_resolver import EncryptedResolver
from zesty_burrow.core.finding import Finding
from zesty_burrow.core.net import GRE, Address, AddressRange, Datagram, Endpoint
from zesty_burrow.core.policy.suite import Suite
from zesty_burrow.core.scope import CredentialsKind
from zesty_burrow.records import dataclass, field

Secrets = Mapping[CredentialsKind, Credentials]
"""What a profile signs in with, by kind."""


class Step(StrEnum):
    """The steps of a connection, in their order. A session completes those from ``REACH`` to ``SIGN_IN``."""

    RESOLVE = "resolve"
    REACH = "reach"
    NEGOTIATE = "negotiate"
    PROVE = "prove"
    SIGN_IN = "sign in"
    ADDRESS = "address"
    ROUTES = "routes"
    NAME_SERVERS = "name servers"


class Transport(StrEnum):
    """What a session's messages and packets travel over."""

    DATAGRAMS = "datagrams"
    STREAM = "byte stream"
    FRAMED = "datagrams in a byte stream"
    STREAM_AND_GRE = "a byte stream, and packets of GRE beside it"


GRE_PORT = GRE
"""By which ``local_port`` packets of GRE are known: its protocol number (RFC 2637 §4.1)."""


class FrameReader(Protocol):
    """Cuts a byte stream into datagrams. ``is_begun``: what a connection begins with has come."""

    @property
    def is_begun(self) -> bool:
        """Whether only datagrams follow."""

    def hand_over(self) -> bytes:
        """What is kept, for another reader; this one is empty then."""

    def feed(self, data: bytes) -> list[bytes]:
        """The datagrams that are complete now. Raises only ``Malformed``: then the connection is to be closed."""


class Framing(Protocol):
    """How datagrams go in a byte stream."""

    def begin(self) -> bytes:
        """What a new connection begins with."""

    def frame(self, datagram: bytes, /) -> bytes:
        """A datagram as it goes into the stream."""

    def reader(self) -> FrameReader:
        """For what comes on a new connection."""


@dataclass(frozen=True, slots=True)
class NetworkSettings:
    """What the gateway handed out for the inside of the tunnel. ``refused``: addresses that no host can have."""

    addresses: tuple[IPv4Interface | IPv6Interface, ...] = ()
    name_servers: tuple[Address, ...] = ()
    suffixes: tuple[str, ...] = ()
    netbios_name_servers: tuple[Address, ...] = ()
    encrypted_resolvers: tuple[EncryptedResolver, ...] = ()
    refused: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class NegotiatedSuite:
    """Algorithms that are in use: for what (``IKE``, ``ESP``, ``TLS``), and which."""

    label: str
    suite: Suite


class AnyChannel(Protocol):
    """What every channel for packets has: those that seal them into datagrams, and those that leave it to the session.

    ``revision`` rises when keys, labels or selectors change. ``last_sent``, ``last_received``: by the caller's clock.
    """

    revision: int
    last_sent: float
    last_received: float

    @property
    def counters(self) -> ChannelCounters:
        """Packets and octets so far."""

    @property
    def wants_rekey(self) -> bool:
        """Whether the session should be told, by ``handle_timer``, that a key is used up."""

    def largest_inner(self, room: int) -> int:
        """Largest inner packet that fits a datagram of ``room`` octets."""

    def allows_out(self, addresses: bytes) -> bool:
        """Whether a packet with these addresses (source and destination) may go out here."""


class PacketChannel(AnyChannel, Protocol):
    """Seals and opens the packets of one tunnel, each in a datagram of its own.

    ``labels``: the first four octets of datagrams that belong to this channel; what begins otherwise is the session's.
    """

    @property
    def labels(self) -> frozenset[bytes]:
        """Whose datagrams these are."""

    @property
    def overhead(self) -> int:
        """Octets that sealing adds at least."""

    def allows_in(self, label: bytes, addresses: bytes) -> bool:
        """Whether a packet with these addresses may come in here."""

    def seal(self, packet: bytes, now: float) -> bytes:
        """The datagram around a packet."""

    def open(self, data: bytes, now: float) -> bytes:
        """The packet in a datagram; empty where it carries none; ``Malformed`` where it is not authentic."""


@runtime_checkable
class QueuedChannel(AnyChannel, Protocol):
    """The packets of a tunnel that travel in the session's own messages: they wait here for each other."""

    def allows_in(self, addresses: bytes) -> bool:
        """Whether a packet with these addresses may come in here."""

    def put(self, packet: bytes, now: float) -> None:
        """Hand a packet to the session, which sends it with the next ``send``."""

    def take(self) -> list[bytes]:
        """The packets that the session has received since the last time."""


@runtime_checkable
class CapsuleChannel(AnyChannel, Protocol):
    """What a queued channel over a byte stream of capsules (RFC 9297 §3.2) has for who makes and reads many at a time.

    ``stream`` counts the streams that there were; each begins where the session's reader of it has come to.
    """

    stream: int

    def allows_in(self, addresses: bytes) -> bool:
        """Whether a packet with these addresses may come in here."""

    def put_capsules(self, octets: bytes, packets: int, size: int, now: float) -> None:
        """Hand whole capsules of ``packets`` packets to the session; ``size``: octets in these."""

    def divert(self, take: Callable[[bytes], bytes] | None) -> None:
        """Have what comes given to ``take``, which gives back whole capsules that are the session's; None: no more."""

    def take_over(self) -> tuple[bytes, int]:
        """What the session's reader has begun to read, and how many octets it is passing over."""

    def count_in(self, packets: int, octets: int, now: float) -> None:
        """So many packets have come in."""


class ChannelCounters(Protocol):
    """What a channel has counted."""

    @property
    def packets_in(self) -> int:
        """Authentic packets."""

    @property
    def octets_in(self) -> int:
        """Octets in them."""

    @property
    def packets_out(self) -> int:
        """Packets that were sealed."""

    @property
    def octets_out(self) -> int:
        """Octets in them."""

    @property
    def rejected(self) -> int:
        """Datagrams that were not authentic, or came before."""


# Events.


@dataclass(frozen=True, slots=True)
class StepDone:
    """A step of the connection is complete; ``detail`` in words."""

    at: float
    step: Step
    detail: str = ""


@dataclass(frozen=True, slots=True)
class Negotiated:
    """Algorithms are agreed on, or were renewed."""

    at: float
    suites: tuple[NegotiatedSuite, ...]


@dataclass(frozen=True, slots=True)
class Up:
    """The tunnel is up. ``remote``: where the gateway carries packets to."""

    at: float
    network: NetworkSettings
    remote: tuple[AddressRange, ...]
    channel: PacketChannel | QueuedChannel = field(repr=False)


@dataclass(frozen=True, slots=True)
class Rekeyed:
    """Keys were renewed; ``suites``: what is in use now."""

    at: float
    suites: tuple[NegotiatedSuite, ...]


@dataclass(frozen=True, slots=True)
class ChannelChanged:
    """The channel takes other datagrams than before: its ``revision`` has risen."""

    at: float


@dataclass(frozen=True, slots=True)
class Moved:
    """This machine has another address, and both ends know it; ``peer``: where the other end is."""

    at: float
    peer: Endpoint


@dataclass(frozen=True, slots=True)
class Redirected:
    """The gateway asks to go to another one, while the tunnel is still up."""

    at: float
    to: str


@dataclass(frozen=True, slots=True)
class SignInDue:
    """The gateway wants the sign-in to be repeated within so many seconds; later it ends the tunnel."""

    at: float
    seconds: int


@dataclass(frozen=True, slots=True)
class Down:
    """The session is over: before it was up, with ``error``, or afterwards; ``by_peer`` tells who ended it."""

    at: float
    by_peer: bool
    reason: str = ""
    error: Exception | None = None


@dataclass(frozen=True, slots=True)
class Noticed:
    """Something that the user ought to know of, and that does not end the tunnel."""

    at: float
    finding: Finding


Event = StepDone | Negotiated | Up | Rekeyed | ChannelChanged | Moved | Redirected | SignInDue | Noticed | Down


class Session(Protocol):
    """``start``, then the five calls: ``receive``, ``send``, ``next_timer``, ``handle_timer``, ``next_event``.

    ``round_trip`` is infinite before the first answer.
    """

    @property
    def transport(self) -> Transport:
        """What it travels over."""

    @property
    def framing(self) -> Framing:
        """How its datagrams go in a byte stream; asked for where ``transport`` is ``FRAMED``."""

    @property
    def round_trip(self) -> float:
        """Seconds of the quickest answer so far."""

    @property
    def last_heard(self) -> float:
        """When an answer or packet was last known to have come, by the caller's clock; 0 before the first one."""

    @property
    def local_port(self) -> int:
        """By which ``Datagram.local_port`` its only socket is known."""

    @property
    def peer(self) -> Endpoint:
        """Where the gateway is now."""

    @property
    def is_up(self) -> bool:
        """Whether the tunnel is up."""

    def start(self, now: float) -> None:
        """Begin."""

    def close(self, now: float) -> None:
        """End it; the gateway gets a DELETE if it knows us."""

    def address_changed(self, now: float) -> None:
        """This machine has another address towards the gateway than before."""

    def receive(self, data: bytes, source: Endpoint, now: float, local_port: int = 0) -> None:
        """Take what came from the network to ``local_port``, but for the channel's datagrams. Never raises for it.

        Over a byte stream empty data is its end.
        """

    def send(self, now: float) -> list[Datagram]:
        """What to send now. Over a byte stream the destination does not matter."""

    def next_timer(self) -> float | None:
        """When to call ``handle_timer``."""

    def handle_timer(self, now: float) -> None:
        """Time has passed."""

    def next_event(self) -> Event | None:
        """The next event, or None."""

    def exported_keys(self) -> str:
        """The session's keys for an analyser, as text; only where the user asked for them."""


class Capabilities(Protocol):
    """What a gateway can do; the protocol's own advice knows more of it."""

    @property
    def is_known(self) -> bool:
        """Whether the gateway has said anything."""

    @property
    def chosen(self) -> Suite | None:
        """What it has agreed to, or would."""

    @property
    def words(self) -> str:
        """What there is to know, in a few words."""

    @property
    def against(self) -> str:
        """Why no tunnel would come of it; empty where nothing is known to stand against one."""

    @property
    def round_trip(self) -> float:
        """Seconds of the quickest answer."""


@dataclass(frozen=True, slots=True)
class ProbeDone:
    """The gateway was asked everything, or has fallen silent: then ``silent`` is set."""

    at: float
    silent: bool = False


class Probe(Protocol):
    """Asks a gateway what it can do, without signing in; the calls are those of a session."""

    @property
    def gateway(self) -> Endpoint:
        """Whom it asks."""

    @property
    def transport(self) -> Transport:
        """What it travels over: datagrams, or datagrams in a byte stream."""

    @property
    def framing(self) -> Framing:
        """How its datagrams go in a byte stream."""

    @property
    def found(self) -> Capabilities:
        """What is known so far."""

    @property
    def local_port(self) -> int:
        """By which its only socket is known."""

    def start(self, now: float) -> None:
        """Ask the first question."""

    def receive(self, data: bytes, source: Endpoint, now: float, local_port: int = 0) -> None:
        """Take a datagram. Never raises for content."""

    def send(self, now: float) -> list[Datagram]:
        """Datagrams to send now."""

    def next_timer(self) -> float | None:
        """When to call ``handle_timer``."""

    def handle_timer(self, now: float) -> None:
        """Time has passed."""

    def next_event(self) -> ProbeDone | None:
        """The next event, or None."""


@dataclass(frozen=True, slots=True)
class SessionRequest:
    """What a session is made from besides the profile.

    ``address``: the gateway's, which was looked up; ``timeout``: seconds to wait for an answer; ``wall_time``: what
    certificates are judged by; ``redirected_from``: the gateway that has sent us here; ``wanted``: inner addresses
    that this side had before; ``local_address``: this machine's towards the gateway, empty where it is not known.
    """

    address: str
    secrets: Secrets = field(repr=False)
    wall_time: datetime
    timeout: float
    redirected_from: str = ""
    wanted: tuple[Address, ...] = ()
    local_address: str = ""
