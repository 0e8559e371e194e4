"""What both ends show of themselves: the parts that they share, and what can be seen of them."""

from __future__ import annotations

from zesty_burrow.core.net import Datagram, Endpoint
from zesty_burrow.protocols.ikev2.events import ChildEstablished, Event
from zesty_burrow.protocols.ikev2.machine.associations import Associations
from zesty_burrow.protocols.ikev2.machine.endpoint import IkeEndpoint
from zesty_burrow.protocols.ikev2.machine.ike_sa import IkeSa
from zesty_burrow.protocols.ikev2.wire.keys import IkeKeys


class EndMachine:
    """The base of initiator and responder."""

    def __init__(self, end: IkeEndpoint, associations: Associations) -> None:
        self.end = end
        self.associations = associations

    @property
    def sa(self) -> IkeSa:
        """The IKE SA in use."""
        return self.end.sa

    @property
    def keys(self) -> IkeKeys | None:
        """Its keys, once there are any."""
        return self.end.keys

    @property
    def child(self) -> ChildEstablished | None:
        """The pair of child SAs in use."""
        return self.associations.children.child

    @property
    def peer(self) -> Endpoint:
        """The other end's address and port."""
        return self.end.peer

    @property
    def mobile(self) -> bool:
        """Whether both sides know MOBIKE."""
        return self.associations.mobility.enabled

    @property
    def own_spis(self) -> set[bytes]:
        """The SPIs by which the peer may name an IKE SA to us."""
        return self.end.own_spis

    def send(self, now: float) -> list[Datagram]:
        return self.end.send()

    def next_event(self) -> Event | None:
        """The next event, or None."""
        return self.end.next_event()
