"""A link of PPP, at either end: LCP, the sign-in, then the network protocols (RFC 1661 §3).

Frames of IPv4 and IPv6 are the owner's once the link is up; until then they come here too.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable
from ipaddress import IPv4Address, IPv4Interface, IPv6Address, IPv6Interface, IPv6Network

from zesty_burrow.core.credentials import NamePassword
from zesty_burrow.core.crypto.random_octets import Random
from zesty_burrow.core.net import is_host
from zesty_burrow.errors import Malformed
from zesty_burrow.protocols.ppp import network, router
from zesty_burrow.protocols.ppp.automaton import Automaton
from zesty_burrow.protocols.ppp.lcp import LcpOptions
from zesty_burrow.protocols.ppp.mppe import MppeOptions
from zesty_burrow.protocols.ppp.network import CalledIpcp, CallerIpcp, Ipv6cp
from zesty_burrow.protocols.ppp.packet import (
    Code,
    Number,
    Packet,
    read_frame,
    read_packet,
    write_frame,
    write_packet,
)
from zesty_burrow.protocols.ppp.phases import (
    ECHO_EVERY,
    MOST_ECHOES,
    ROUTER_WAITS,
    EchoTest,
    RouterQuestion,
    SignInPhase,
)
from zesty_burrow.protocols.ppp.sign_in import Judge, PasswordOf, peer_for
from zesty_burrow.protocols.session import NetworkSettings
from zesty_burrow.records import dataclass, field

SIGN_IN_DUE, SIGN_IN_AGAIN = 20.0, 1.5
"""Seconds for a whole sign-in, and between retries."""


@dataclass(frozen=True, slots=True)
class CallerConfig:
    """``methods``: by which this side signs in; ``families``: versions of IP that are wanted; ``mru``: octets.

    ``encrypted``: packets go under MPPE or not at all.
    """

    methods: tuple[str, ...]
    credentials: NamePassword = field(repr=False)
    families: tuple[int, ...]
    mru: int
    wanted: bytes = network.NOWHERE
    encrypted: bool = False


@dataclass(frozen=True, slots=True)
class CalledConfig:
    """``method``: by which callers sign in; ``assign``: inner addresses for an account; ``name``: this side's."""

    method: str
    password_of: PasswordOf
    assign: Callable[[str], NetworkSettings | None]
    own: bytes
    name: str
    mru: int
    encrypted: bool = False


@dataclass(frozen=True, slots=True)
class SignedIn:
    """The caller's name and password were taken; ``method`` is empty where nobody has asked for them."""

    at: float
    method: str


@dataclass(frozen=True, slots=True)
class NetworkUp:
    """Packets may go. ``refused``: addresses that no host can have."""

    at: float
    settings: NetworkSettings


@dataclass(frozen=True, slots=True)
class LinkOver:
    """The link is over. ``sign_in``: because name or password were not taken."""

    at: float
    by_peer: bool
    reason: str
    sign_in: bool = False


LinkEvent = SignedIn | NetworkUp | LinkOver


class PppLink:
    def __init__(self, config: CallerConfig | CalledConfig, random: Random) -> None:
        self.config = config
        self.is_up = self.is_over = False
        self._random = random
        methods = () if isinstance(config, CalledConfig) else config.methods
        demanded = config.method if isinstance(config, CalledConfig) else ""
        self.options = LcpOptions(random, config.mru, methods, demanded)
        self._lcp = Automaton(Number.LCP, self.options)
        self._is_called = isinstance(config, CalledConfig)
        self._sign_in = SignInPhase()
        self._networks: dict[int, Automaton] = {}
        self._ccp: Automaton | None = None
        self._router = RouterQuestion()
        self._inner = NetworkSettings()
        self._echo = EchoTest()
        self._number = 0
        self._out: deque[bytes] = deque()
        self._events: deque[LinkEvent] = deque()

    @property
    def account(self) -> str:
        """As whom the caller has signed in, at the called end."""
        return self._sign_in.account

    @property
    def last_heard(self) -> float:
        return self._echo.last_heard

    @property
    def is_encrypted(self) -> bool:
        """Whether packets are to go under MPPE from now on."""
        return self._ccp is not None and self._ccp.is_open

    @property
    def key(self) -> bytes:
        """What the sign-in has left for MPPE; empty where it leaves nothing."""
        return self._sign_in.key

    # What the owner asks for.

    def start(self, now: float) -> None:
        self._lcp.open(now)
        self._after(now)

    def close(self, now: float) -> None:
        """End it, and send the other side a request to terminate once."""
        if not self.is_over:
            self._lcp.close(now)
            self._collect()
            self._end(now, "", by_peer=False)

    def heard(self, at: float) -> None:
        """A packet came by it, which its owner has taken."""
        self._echo.last_heard = max(self._echo.last_heard, at)

    def echo(self) -> None:
        """See whether the other side is there (RFC 1661 §5.8)."""
        if self._lcp.is_open:
            self._echo.unanswered += 1
            packet = write_packet(Code.ECHO_REQUEST, self._next(), self.options.magic)
            self._out.append(write_frame(Number.LCP, packet))

    # The network.

    def receive(self, frame: bytes, now: float) -> None:
        """Take a frame. Never raises for its content."""
        if self.is_over:
            return
        self._echo.last_heard = now
        try:
            number, content = read_frame(frame)
            self._take(number, content, now)
        except Malformed:
            return
        self._after(now)

    def _take(self, number: int, content: bytes, now: float) -> None:
        if number == Number.LCP:
            self._on_lcp(read_packet(content), now)
        elif not self._lcp.is_open:
            # RFC 1661 §3.4: before it is open nothing else is looked at.
            return
        elif number in (Number.PAP, Number.CHAP):
            self._on_sign_in(number, read_packet(content), now)
        elif not self._sign_in.is_done:
            return
        elif number == Number.CCP and self._ccp is not None:
            packet = read_packet(content)
            # Resets are for keys that do not change with every packet (RFC 3078 §8).
            if packet.code not in (Code.RESET_REQUEST, Code.RESET_ACK):
                self._ccp.receive(packet, now)
        elif number in self._networks:
            self._networks[number].receive(read_packet(content), now)
        elif number == Number.IPV6:
            self._on_ipv6(content)
        elif number != Number.IPV4:
            limit = self.options.peer_mru - 6
            refusal = write_packet(Code.PROTOCOL_REJECT, self._next(), number.to_bytes(2) + content[:limit])
            self._out.append(write_frame(Number.LCP, refusal))

    def _on_lcp(self, packet: Packet, now: float) -> None:
        if packet.code == Code.ECHO_REQUEST:
            if self._lcp.is_open and packet.data[:4] != self.options.magic:
                answer = write_packet(Code.ECHO_REPLY, packet.identifier, self.options.magic + packet.data[4:])
                self._out.append(write_frame(Number.LCP, answer))
        elif packet.code == Code.ECHO_REPLY:
            self._echo.unanswered = 0
        elif packet.code == Code.PROTOCOL_REJECT:
            number = int.from_bytes(packet.data[:2])
            refused = self._ccp if number == Number.CCP else self._networks.get(number)
            if refused is not None and len(packet.data) >= 2:
                refused.protocol_refused(now)
        elif packet.code != Code.DISCARD_REQUEST:
            self._lcp.receive(packet, now)

    def _on_sign_in(self, number: int, packet: Packet, now: float) -> None:
        if self._sign_in.judge is not None and self._sign_in.judge.number == number:
            answer = self._sign_in.judge.take(packet)
            self._put(number, answer)
            if self._sign_in.judge.good and not self._sign_in.is_done:
                self._sign_in.account = self._sign_in.judge.account
                self._signed_in(now)
            elif self._sign_in.judge.good is False:
                self._collect()
                self._lcp.close(now)
                self._end(now, "name or password is wrong", by_peer=False, sign_in=True)
        elif self._sign_in.peer is not None and self._sign_in.peer.number == number:
            try:
                self._say(number, self._sign_in.peer.take(packet), now)
            except Malformed as problem:
                # A proof that does not hold ends it; anything else is as good as lost.
                if packet.code == Code.CONFIGURE_NAK:
                    self._lcp.close(now)
                    self._end(now, f"{problem.what}: {problem.why}", by_peer=True, sign_in=True)
                return
            if self._sign_in.peer.refused:
                self._end(now, self._sign_in.peer.refused, by_peer=True, sign_in=True)
            elif self._sign_in.peer.done and not self._sign_in.is_done:
                self._signed_in(now)

    def _say(self, number: int, packet: bytes, now: float) -> None:
        """A packet of the sign-in that waits for an answer."""
        if packet and not self._sign_in.is_done:
            self._sign_in.said, self._sign_in.again = (number, packet), now + SIGN_IN_AGAIN
        self._put(number, packet)

    def _put(self, number: int, packet: bytes) -> None:
        if packet:
            self._out.append(write_frame(number, packet))

    def _next(self) -> int:
        self._number = self._number + 1 & 0xFF
        return self._number

    # One phase after the other.

    def _after(self, now: float) -> None:
        """Whatever has happened: see what it leads to."""
        lcp = self._lcp
        if not lcp.is_open:
            if self._sign_in.due is not None and not self.is_up and not lcp.failed:
                self._begin_again()
            elif self._sign_in.due is not None or lcp.failed:
                why = lcp.failed or "the other side began LCP again"
                if not self._is_called and not self._sign_in.is_done and self.options.unwanted:
                    why = f"it wants to have name and password by {self.options.unwanted}, which is not allowed here"
                self._end(now, why, by_peer=True, sign_in=bool(self.options.unwanted) and not self._sign_in.is_done)
        elif self._sign_in.due is None:
            self._begin_sign_in(now)
        elif self._sign_in.is_done:
            self._look_at_networks(now)
        self._collect()

    def _begin_again(self) -> None:
        """LCP is negotiated once more before anything has come of it (RFC 1661 §3.4): so is what follows it."""
        self._sign_in = SignInPhase()
        self._ccp = None
        self._networks.clear()

    def _begin_sign_in(self, now: float) -> None:
        self._sign_in.due = now + SIGN_IN_DUE
        config = self.config
        if isinstance(config, CalledConfig):
            self._sign_in.judge = Judge(config.method, config.password_of, self._random, config.name)
            self._collect()
            self._say(self._sign_in.judge.number, self._sign_in.judge.start(), now)
        elif self.options.method:
            self._sign_in.peer = peer_for(self.options.method, config.credentials, self._random)
            self._collect()
            self._say(self._sign_in.peer.number, self._sign_in.peer.start(), now)
        else:
            self._signed_in(now)

    def _signed_in(self, now: float) -> None:
        self._sign_in.is_done, self._sign_in.again = True, None
        self._events.append(SignedIn(now, self.options.method or self.options.demanded))
        self._echo.due = now + ECHO_EVERY
        if not self.config.encrypted:
            self._begin_networks(now)
        elif not self.key:
            self._end(now, "this sign-in leaves no key for encryption", by_peer=True)
        else:
            self._ccp = Automaton(Number.CCP, MppeOptions())
            self._ccp.open(now)

    def _begin_networks(self, now: float) -> None:
        if isinstance(self.config, CalledConfig):
            self._begin_as_called(self.config, now)
        else:
            if 4 in self.config.families:
                self._networks[Number.IPCP] = Automaton(Number.IPCP, CallerIpcp(self.config.wanted))
            if 6 in self.config.families:
                self._networks[Number.IPV6CP] = Automaton(Number.IPV6CP, Ipv6cp(self._random))
        for one in self._networks.values():
            one.open(now)

    def _begin_as_called(self, config: CalledConfig, now: float) -> None:
        inner = config.assign(self.account)
        if inner is None:
            self._end(now, "no address is left", by_peer=False)
            return
        self._inner = inner
        four = next((address.ip.packed for address in inner.addresses if address.version == 4), None)
        six = next((address.ip.packed for address in inner.addresses if address.version == 6), None)
        if four is not None:
            given = {network.ADDRESS: four}
            servers = [name_server.packed for name_server in inner.name_servers if name_server.version == 4]
            netbios = [
                netbios_name_server.packed
                for netbios_name_server in inner.netbios_name_servers
                if netbios_name_server.version == 4
            ]
            given |= dict(zip((network.FIRST_NAME_SERVER, network.SECOND_NAME_SERVER), servers, strict=False))
            given |= dict(zip((network.FIRST_NETBIOS, network.SECOND_NETBIOS), netbios, strict=False))
            self._networks[Number.IPCP] = Automaton(Number.IPCP, CalledIpcp(config.own, given))
        if six is not None:
            self._networks[Number.IPV6CP] = Automaton(Number.IPV6CP, Ipv6cp(self._random, given=six[8:]))

    def _is_encryption_settled(self, ccp: Automaton, now: float) -> bool:
        """Whether packets can go under MPPE; without it the link is over (RFC 3078 §2)."""
        if ccp.failed or (self.is_up and not ccp.is_open):
            self._end(now, f"no encryption that is good enough: {ccp.failed or 'it was ended'}", by_peer=True)
            return False
        if ccp.is_open and not self._networks:
            self._begin_networks(now)
        return ccp.is_open

    def _look_at_networks(self, now: float) -> None:
        """Up once all that is wanted is there, or cannot be had."""
        if self._ccp is not None and not self._is_encryption_settled(self._ccp, now):
            return
        networks = self._networks.values()
        if self.is_up:
            if not any(network.is_open for network in networks):
                self._end(now, "the other side ended its networks", by_peer=True)
            return
        six = self._networks.get(Number.IPV6CP)
        needs_router = six is not None and six.is_open and not self._is_called
        if needs_router and self._router.due is None:
            self._ask_router(now)
        if not all(network.is_open or network.failed for network in networks):
            return
        if not any(network.is_open for network in networks):
            why = ", ".join(network.failed for network in networks) or "neither IPv4 nor IPv6"
            self._end(now, f"no address was given: {why}", by_peer=True)
        elif not needs_router or self._router.advertised is not None or self._router.is_exhausted:
            self._come_up(now)

    def _come_up(self, now: float) -> None:
        if not self._is_called:
            self._inner = self._settings(self._networks.get(Number.IPCP), self._networks.get(Number.IPV6CP))
            if not self._inner.addresses:
                self._end(now, "the addresses that were given are no host's", by_peer=True)
                return
        self.is_up = True
        self._events.append(NetworkUp(now, self._inner))

    def _ask_router(self, now: float) -> None:
        six = self._networks[Number.IPV6CP].options
        if isinstance(six, Ipv6cp):
            self._out.append(write_frame(Number.IPV6, router.solicitation(six.own)))
        self._router.due = now + ROUTER_WAITS[min(self._router.asked, len(ROUTER_WAITS) - 1)]
        self._router.asked += 1

    def _on_ipv6(self, packet: bytes) -> None:
        six = self._networks.get(Number.IPV6CP)
        if six is None or not six.is_open or not isinstance(six.options, Ipv6cp):
            return
        if not self._is_called:
            self._router.advertised = self._router.advertised or router.read_advertisement(packet)
        elif router.is_for_router(packet):
            prefix = next(
                (address.network for address in self._inner.addresses if isinstance(address, IPv6Interface)), None
            )
            servers = tuple(
                name_server for name_server in self._inner.name_servers if isinstance(name_server, IPv6Address)
            )
            if prefix is not None:
                self._out.append(write_frame(Number.IPV6, router.advertisement(six.options.own, prefix, servers)))

    def _settings(self, four: Automaton | None, six: Automaton | None) -> NetworkSettings:
        """What the called side has given."""
        addresses: list[IPv4Interface | IPv6Interface] = []
        servers: list[IPv4Address | IPv6Address] = []
        netbios: tuple[IPv4Address, ...] = ()
        refused = []
        if four is not None and four.is_open and isinstance(four.options, CallerIpcp):
            address = four.options.address()
            if is_host(address):
                addresses.append(IPv4Interface((address, 32)))
            else:
                refused.append(str(address))
            servers += four.options.servers(network.FIRST_NAME_SERVER, network.SECOND_NAME_SERVER)
            netbios = four.options.servers(network.FIRST_NETBIOS, network.SECOND_NETBIOS)
        told = self._router.advertised
        if six is not None and six.is_open and isinstance(six.options, Ipv6cp) and told is not None:
            servers += told.resolvers
            if told.prefix is not None:
                prefix: IPv6Network = told.prefix
                addresses.append(IPv6Interface((router.address_of(prefix, six.options.own), 64)))
        good = tuple(server for server in servers if is_host(server))
        refused += [str(server) for server in servers if not is_host(server)]
        return NetworkSettings(tuple(addresses), good, netbios_name_servers=netbios, refused=tuple(refused))

    # Sending, and time.

    @property
    def _automata(self) -> tuple[Automaton, ...]:
        return (self._lcp, *((self._ccp,) if self._ccp is not None else ()), *self._networks.values())

    def _collect(self) -> None:
        for automaton in self._automata:
            while automaton.out:
                self._out.append(write_frame(automaton.number, automaton.out.popleft()))

    def send(self) -> list[bytes]:
        self._collect()
        found = list(self._out)
        self._out.clear()
        return found

    def next_timer(self) -> float | None:
        """When to call ``handle_timer``."""
        if self.is_over:
            return None
        found = [one.next_timer() for one in self._automata]
        found += [self._echo.due, self._sign_in.again, None if self._sign_in.is_done else self._sign_in.due]
        found += [None if self.is_up or self._router.advertised else self._router.due]
        return min((one for one in found if one is not None), default=None)

    def handle_timer(self, now: float) -> None:
        if self.is_over:
            return
        for one in self._automata:
            one.handle_timer(now)
        if not self._sign_in.is_done and self._sign_in.due is not None and now >= self._sign_in.due:
            self._end(now, "the sign-in was not answered", by_peer=True)
        elif self._sign_in.again is not None and now >= self._sign_in.again:
            # RFC 1334 §2.2, RFC 1994 §4.1: the side that waits for an answer asks again.
            self._say(*self._sign_in.said, now)
        if (
            self._router.due is not None
            and not self.is_up
            and self._router.advertised is None
            and now >= self._router.due
        ):
            self._ask_router(now)
        if self._echo.wants_request(now):
            if self._echo.unanswered >= MOST_ECHOES:
                self._end(now, f"{self._echo.unanswered} echo requests were not answered", by_peer=True)
                return
            self.echo()
            self._echo.due = now + ECHO_EVERY
        self._after(now)

    def _end(self, now: float, reason: str, *, by_peer: bool, sign_in: bool = False) -> None:
        if not self.is_over:
            self.is_over, self.is_up = True, False
            self._collect()
            self._events.append(LinkOver(now, by_peer, reason, sign_in))

    def next_event(self) -> LinkEvent | None:
        """The next event, or None."""
        return self._events.popleft() if self._events else None
