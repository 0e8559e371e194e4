"""From child SAs to the packet channel that carries packets: ESP as IKEv2 sets it up."""

from __future__ import annotations

from collections.abc import Sequence

from zesty_burrow.core.crypto.random_octets import Random
from zesty_burrow.core.esp.channel import EspChannel, SaPair
from zesty_burrow.core.esp.sa import InboundSa, OutboundSa
from zesty_burrow.core.net import AddressRange
from zesty_burrow.protocols.ikev2.events import ChildEstablished

WORN_SEQUENCE = 3 << 30
"""Three quarters of the 32-bit sequence numbers: enough are left while new keys are agreed on (RFC 4303 §3.3.3)."""


def pair_of(child: ChildEstablished, local: Sequence[AddressRange], random: Random) -> SaPair:
    """The pair of SAs of a child SA; ``local``: what this side may use as its addresses in it."""
    outbound = OutboundSa(child.spi_out, child.outbound(random), extended=child.extended)
    inbound = InboundSa(child.spi_in, child.inbound(random), extended=child.extended)
    return SaPair(outbound, inbound, local, child.remote)


def own_addresses(child: ChildEstablished) -> list[AddressRange]:
    """The caller's side: the addresses that the gateway assigned, and no others."""
    return [AddressRange(address.ip.packed, address.ip.packed) for address in child.inner.addresses]


def set_limits(channel: EspChannel, octets: int) -> None:
    """After how much a channel wants new keys."""
    channel.octet_limit, channel.number_limit = octets, WORN_SEQUENCE
