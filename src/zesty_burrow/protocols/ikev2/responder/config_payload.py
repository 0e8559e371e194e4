"""What a gateway reads in a CFG_REQUEST and answers with a CFG_REPLY (RFC 7296 §3.15)."""

from __future__ import annotations

import ipaddress
from collections.abc import Sequence

from zesty_burrow.protocols.ikev2.wire.message import find
from zesty_burrow.protocols.ikev2.wire.payloads import Configuration, Payload
from zesty_burrow.protocols.ikev2.wire.registry import ConfigAttribute, ConfigType
from zesty_burrow.protocols.session import NetworkSettings


def configuration_reply(inner: NetworkSettings) -> Configuration:
    """A CFG_REPLY (RFC 7296 §3.15.1, RFC 8598 §3.2)."""
    attributes: list[tuple[int, bytes]] = []
    for entry in inner.addresses:
        if isinstance(entry, ipaddress.IPv4Interface):
            attributes.append((ConfigAttribute.INTERNAL_IP4_ADDRESS, entry.ip.packed))
        else:
            octets = entry.ip.packed + bytes([entry.network.prefixlen])
            attributes.append((ConfigAttribute.INTERNAL_IP6_ADDRESS, octets))
    for server in inner.name_servers:
        kind = ConfigAttribute.INTERNAL_IP4_DNS if server.version == 4 else ConfigAttribute.INTERNAL_IP6_DNS
        attributes.append((kind, server.packed))
    attributes += [
        (ConfigAttribute.INTERNAL_IP4_NBNS, netbios_name_server.packed)
        for netbios_name_server in inner.netbios_name_servers
    ]
    attributes += [(ConfigAttribute.INTERNAL_DNS_DOMAIN, entry.encode()) for entry in inner.suffixes]
    for resolver in inner.encrypted_resolvers:
        inet = resolver.addresses[0].version == 4
        attributes.append((ConfigAttribute.ENCDNS_IP4 if inet else ConfigAttribute.ENCDNS_IP6, resolver.encode()))
    return Configuration(ConfigType.CFG_REPLY, tuple(attributes))


def requested_versions(payloads: Sequence[Payload]) -> set[int]:
    """The address families that a CFG_REQUEST asks for."""
    asked = find(payloads, Configuration)
    kinds = {kind for kind, _ in asked.attributes} if asked else set()
    pairs = ((ConfigAttribute.INTERNAL_IP4_ADDRESS, 4), (ConfigAttribute.INTERNAL_IP6_ADDRESS, 6))
    return {version for kind, version in pairs if kind in kinds}


def requested_addresses(payloads: Sequence[Payload]) -> tuple[bytes, ...]:
    """The addresses that a CFG_REQUEST asks to have again (RFC 7296 §3.15.1): 4 or 16 octets each."""
    asked = find(payloads, Configuration)
    sizes: dict[int, int] = {ConfigAttribute.INTERNAL_IP4_ADDRESS: 4, ConfigAttribute.INTERNAL_IP6_ADDRESS: 16}
    found = ((value, sizes.get(kind, 0)) for kind, value in (asked.attributes if asked else ()))
    return tuple(value[:size] for value, size in found if size and len(value) >= size)
