"""The gateway's end of IKEv2 behind the calls and events that every protocol has; for stand-ins."""

from __future__ import annotations

from zesty_burrow.core.crypto.random_octets import Random
from zesty_burrow.core.esp.channel import EspChannel
from zesty_burrow.core.net import AddressRange, Datagram, Endpoint
from zesty_burrow.protocols.ikev2 import events as ike
from zesty_burrow.protocols.ikev2.esp import pair_of
from zesty_burrow.protocols.ikev2.responder.gateway import IkeGateway
from zesty_burrow.protocols.ikev2.responder.responder import Responder
from zesty_burrow.protocols.ikev2.responder.table import ResponderConfig, State
from zesty_burrow.protocols.session import ChannelChanged, Down, Moved, Rekeyed, Transport, Up
from zesty_burrow.records import dataclass


class Caller:
    """One caller of a gateway. ``remote``: the inner addresses that it was given."""

    def __init__(self, responder: Responder, channel: EspChannel, remote: tuple[AddressRange, ...]) -> None:
        self.responder, self.channel, self.remote = responder, channel, remote

    @property
    def account(self) -> str:
        """As whom it has signed in."""
        return self.responder.account

    @property
    def peer(self) -> Endpoint:
        """Where it is."""
        return self.responder.peer

    def next_timer(self) -> float | None:
        """When its responder wants to look at the time: it waits for an answer."""
        return self.responder.next_timer()

    @property
    def is_up(self) -> bool:
        """Whether its IKE SA is established."""
        return self.responder.state is State.ESTABLISHED


@dataclass(frozen=True, slots=True)
class CallerEvent:
    """Something has happened to a caller's tunnel: ``Up``, ``ChannelChanged``, ``Rekeyed``, ``Moved`` or ``Down``."""

    caller: Caller
    event: Up | ChannelChanged | Rekeyed | Moved | Down


class IkeGatewaySession:
    """Many callers behind the two UDP ports of IKE."""

    transport = Transport.DATAGRAMS

    def __init__(self, config: ResponderConfig, random: Random, address: str) -> None:
        self.gateway = IkeGateway(config, random, address)
        self._random = random
        self._callers: dict[Responder, Caller] = {}

    @property
    def callers(self) -> list[Caller]:
        """Those whose tunnels are up."""
        return [caller for caller in self._callers.values() if caller.is_up]

    def close(self, now: float) -> None:
        """End all tunnels."""
        self.gateway.close(now)

    def forget(self, now: float) -> None:
        """Know no caller any more, and tell none of them."""
        self.gateway.forget(now)

    def receive(self, data: bytes, source: Endpoint, now: float, local_port: int = 500) -> None:
        """Take a datagram that is not ESP."""
        self.gateway.receive(data, source, now, local_port)

    def send(self, now: float) -> list[Datagram]:
        return self.gateway.send(now)

    def next_timer(self) -> float | None:
        """When to call ``handle_timer``."""
        return self.gateway.next_timer()

    def handle_timer(self, now: float) -> None:
        self.gateway.handle_timer(now)

    def next_event(self) -> CallerEvent | None:
        """The next event, or None."""
        while (reported := self.gateway.next_event()) is not None:
            caller = self._callers.get(reported.responder)
            event = self._translate(reported.responder, caller, reported.event)
            if event is not None:
                return event
        return None

    def _translate(self, responder: Responder, caller: Caller | None, event: ike.Event) -> CallerEvent | None:
        if isinstance(event, ike.ChildEstablished):
            channel = EspChannel(pair_of(event, event.local, self._random))
            caller = self._callers[responder] = Caller(responder, channel, event.remote)
            return CallerEvent(caller, Up(event.at, event.inner, event.remote, channel))
        if caller is None:
            return None
        if isinstance(event, ike.ChildRekeyed):
            # What we send goes under the new keys once the caller uses them, or has asked us to.
            caller.channel.add(pair_of(event.child, event.child.local, self._random), by_peer=event.by_peer)
            return CallerEvent(caller, Rekeyed(event.at, ()))
        if isinstance(event, ike.ChildGone):
            caller.channel.remove(event.spi_in)
            return CallerEvent(caller, ChannelChanged(event.at))
        if isinstance(event, ike.IkeRekeyed):
            return CallerEvent(caller, Rekeyed(event.at, ()))
        if isinstance(event, ike.Moved):
            return CallerEvent(caller, Moved(event.at, event.peer))
        if isinstance(event, ike.Closed | ike.Failed):
            del self._callers[responder]
            return CallerEvent(caller, Down(event.at, True))
        return None
