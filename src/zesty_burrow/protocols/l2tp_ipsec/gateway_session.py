"""The gateway's end of L2TP over IPsec, for stand-ins: many callers behind the two UDP ports of IKE."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable

from zesty_burrow.core.crypto.random_octets import Random
from zesty_burrow.core.net import AddressRange, Datagram, Endpoint
from zesty_burrow.protocols.l2tp_ipsec.channel import L2tpChannel
from zesty_burrow.protocols.l2tp_ipsec.ikev1.config import Authenticated, ChildUp, Ended, IkeConfig
from zesty_burrow.protocols.l2tp_ipsec.ikev1.end import IkeEnd
from zesty_burrow.protocols.l2tp_ipsec.ikev1.message import HEADER, NON_ESP
from zesty_burrow.protocols.l2tp_ipsec.l2tp.connection import L2tpConnection, Over
from zesty_burrow.protocols.l2tp_ipsec.layers import Layers, Renewed
from zesty_burrow.protocols.l2tp_ipsec.settings import NAT_PORT, PORT
from zesty_burrow.protocols.ppp.link import CalledConfig, LinkOver, NetworkUp, PppLink
from zesty_burrow.protocols.session import ChannelChanged, Down, Rekeyed, Up
from zesty_burrow.records import dataclass

MOST_CALLERS = 512
UNFINISHED_SECONDS = 30.0
VERSION_AT = 17
"""Of the octet with the version in IKE's header (RFC 2408 §3.1, RFC 7296 §3.1)."""
EVERYTHING = (AddressRange(bytes(4), b"\xff" * 4), AddressRange(bytes(16), b"\xff" * 16))


def is_version_1(message: bytes) -> bool:
    """Whether a message without its marker is IKEv1's; IKEv2's have the same layout so far."""
    return len(message) >= HEADER.size and message[VERSION_AT] >> 4 == 1


@dataclass(frozen=True, slots=True)
class L2tpGatewayConfig:
    """``ike``, ``ppp``: for each caller. ``name``: what L2TP calls the gateway; ``numbered``: data has numbers."""

    ike: IkeConfig
    ppp: Callable[[], CalledConfig]
    name: str
    numbered: bool = False


class L2tpCaller:
    """One caller. ``account``: as whom it has signed in; ``channel``: once there are keys of ESP."""

    def __init__(self, layers: Layers, begun: float) -> None:
        self.layers, self.begun = layers, begun
        self.is_up = False

    @property
    def account(self) -> str:
        """As whom it has signed in."""
        return self.layers.link.account

    @property
    def peer(self) -> Endpoint:
        """Where it is."""
        return self.layers.ike.peer

    @property
    def channel(self) -> L2tpChannel | None:
        return self.layers.channel

    def moved(self, peer: Endpoint) -> None:
        """Its authentic packets come from somewhere else now (RFC 3948 §3.3)."""
        self.layers.ike.peer = peer

    def next_timer(self) -> float | None:
        """When it wants to look at the time."""
        return self.layers.next_timer()


@dataclass(frozen=True, slots=True)
class L2tpCallerEvent:
    """Something has happened to a caller's tunnel."""

    caller: L2tpCaller
    event: Up | ChannelChanged | Rekeyed | Down


class L2tpGatewaySession:
    """``config`` may be replaced at any time: it holds for callers from then on."""

    def __init__(self, config: L2tpGatewayConfig, random: Random) -> None:
        self.config = config
        self._random = random
        self._by_cookie: dict[bytes, L2tpCaller] = {}
        self._said: deque[Datagram] = deque(maxlen=1024)
        self._events: deque[L2tpCallerEvent] = deque()

    @property
    def callers(self) -> list[L2tpCaller]:
        """Those whose tunnels are up."""
        return [one for one in self._everybody if one.is_up]

    @property
    def _everybody(self) -> list[L2tpCaller]:
        return list(dict.fromkeys(self._by_cookie.values()))

    @property
    def has_received(self) -> bool:
        """Whether messages came in the channels' datagrams."""
        return any(one.layers.has_received for one in self._everybody)

    def receive(self, data: bytes, source: Endpoint, now: float, local_port: int) -> None:
        """Take a datagram of IKEv1, or of ESP that no data path knows yet."""
        marked = local_port == NAT_PORT
        if marked and data[:4] != NON_ESP:
            caller = next((one for one in self._everybody if one.channel and data[:4] in one.channel.labels), None)
        else:
            message = data[4:] if marked else data
            caller = self._by_cookie.get(message[:8])
            if caller is None and is_version_1(message):
                caller = self._known_at(source)
                if caller is None and message[8:16] == bytes(8):
                    caller = self._begin(message[:8], source, now)
        if caller is not None:
            if (not marked or data[:4] == NON_ESP) and len(self._by_cookie) < MOST_CALLERS:
                self._by_cookie.setdefault((data[4:] if marked else data)[:8], caller)
            caller.layers.receive(data, source, now, marked=marked)
            self._look(caller, now)

    def _known_at(self, source: Endpoint) -> L2tpCaller | None:
        """Who is up at this address and port, and renews its keys."""
        return next((caller for caller in self.callers if caller.peer == source), None)

    def _begin(self, cookie: bytes, source: Endpoint, now: float) -> L2tpCaller | None:
        if len(self._by_cookie) >= MOST_CALLERS:
            return None
        config = self.config
        connection = L2tpConnection(self._random, config.name, is_caller=False)
        connection.numbered = config.numbered
        link = PppLink(config.ppp(), self._random)
        made = L2tpCaller(Layers(IkeEnd(config.ike, self._random, source), connection, link, self._random), now)
        self._by_cookie[cookie] = made
        return made

    def _look(self, caller: L2tpCaller, now: float) -> None:
        layers = caller.layers
        while (event := layers.next_event()) is not None:
            if isinstance(event, NetworkUp):
                caller.is_up = True
                theirs = tuple(
                    AddressRange(address.ip.packed, address.ip.packed) for address in event.settings.addresses
                )
                layers.open_channel(EVERYTHING, theirs)
                if layers.channel is not None:
                    self._tell(caller, Up(now, event.settings, theirs, layers.channel))
            elif isinstance(event, Renewed):
                self._tell(caller, Rekeyed(now, ()) if event.suite is not None else ChannelChanged(now))
            elif isinstance(event, Authenticated):
                self._keep_cookies(caller)
            elif isinstance(event, LinkOver | Over | Ended):
                self._over(caller, now)
            elif isinstance(event, ChildUp):
                self._replace_former(caller, now)

    def _keep_cookies(self, caller: L2tpCaller) -> None:
        """Those of its ISAKMP SAs, which have come and gone."""
        known = {association.cookies[0] for association in caller.layers.ike.associations}
        others = {cookie: one for cookie, one in self._by_cookie.items() if one is not caller}
        self._by_cookie = {**others, **dict.fromkeys(known, caller)}

    def _replace_former(self, caller: L2tpCaller, now: float) -> None:
        """Somebody at the same address and port who was there before is gone (RFC 2407 §4.6.3.3)."""
        for other in self._everybody:
            if other is not caller and other.peer == caller.peer:
                self._forget(other, now)

    def _over(self, caller: L2tpCaller, now: float) -> None:
        if not caller.layers.is_over:
            caller.layers.close(now)
            self._said += self._datagrams(caller, now)
        self._forget(caller, now)

    def _forget(self, caller: L2tpCaller, now: float) -> None:
        self._by_cookie = {cookie: one for cookie, one in self._by_cookie.items() if one is not caller}
        if caller.is_up:
            caller.is_up = False
            self._tell(caller, Down(now, True))

    def _tell(self, caller: L2tpCaller, event: Up | ChannelChanged | Rekeyed | Down) -> None:
        self._events.append(L2tpCallerEvent(caller, event))

    def _datagrams(self, caller: L2tpCaller, now: float) -> list[Datagram]:
        port = NAT_PORT if caller.layers.ike.is_marked else PORT
        return [Datagram(data, port, caller.peer) for data in caller.layers.send(now)]

    def send(self, now: float) -> list[Datagram]:
        datagrams = list(self._said)
        self._said.clear()
        for caller in self._everybody:
            datagrams += self._datagrams(caller, now)
            self._look(caller, now)
        return datagrams

    def next_timer(self) -> float | None:
        """When to call ``handle_timer``."""
        found = [one.next_timer() for one in self._everybody]
        found += [one.begun + UNFINISHED_SECONDS for one in self._everybody if not one.is_up]
        return min((one for one in found if one is not None), default=None)

    def handle_timer(self, now: float) -> None:
        """Time has passed: drop callers that have not come up in time."""
        for caller in self._everybody:
            caller.layers.handle_timer(now)
            self._look(caller, now)
            if not caller.is_up and now >= caller.begun + UNFINISHED_SECONDS:
                self._forget(caller, now)

    def close(self, now: float) -> None:
        """End all tunnels."""
        for caller in self._everybody:
            self._over(caller, now)

    def forget(self, now: float) -> None:
        """Know no caller any more, and tell none of them."""
        for caller in self._everybody:
            self._forget(caller, now)

    def next_event(self) -> L2tpCallerEvent | None:
        """The next event, or None."""
        return self._events.popleft() if self._events else None
