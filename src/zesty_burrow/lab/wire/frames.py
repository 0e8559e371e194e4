"""What a frame on a wire is, in a word or two: for a look at what leaves a machine. Values only."""

from __future__ import annotations

from ipaddress import ip_address

from zesty_burrow.core.dns.question import read_question_untrusted

NEIGHBOURS, DHCP, TUNNEL, NAMES, OTHERS = (
    "ARP and neighbour discovery",
    "DHCP",
    "IKE and ESP in UDP",
    "questions for names",
    "anything else",
)
KINDS = (TUNNEL, NAMES, OTHERS, DHCP, NEIGHBOURS)
"""From what a look is for to what is always there."""
ETHERNET = 14
ARP, IPV4, IPV6, VLAN = 0x0806, 0x0800, 0x86DD, 0x8100
TCP, UDP, ICMP, ICMPV6, HOP_BY_HOP = 6, 17, 1, 58, 0
PROTOCOLS = {TCP: "TCP", UDP: "UDP", ICMP: "ICMP", ICMPV6: "ICMPv6"}
DISCOVERY = {130, 131, 132, 133, 134, 135, 136, 137, 143}
"""ICMPv6 types of RFC 4861, RFC 2710 and RFC 3810."""
DHCP_PORTS, IKE_PORTS, DNS_PORTS = {67, 68, 546, 547}, {500, 4500}, {53, 853}


def describe_frame(frame: bytes) -> tuple[str, str]:
    """Kind and particulars of an Ethernet frame. Never raises."""
    kind = int.from_bytes(frame[12:14])
    if kind == ARP:
        return NEIGHBOURS, ""
    if kind == IPV4 and len(frame) >= ETHERNET + 20:
        head = frame[ETHERNET:]
        size = (head[0] & 15) * 4
        later = int.from_bytes(head[6:8]) & 0x1FFF
        return _describe(head[9], str(ip_address(head[16:20])), b"" if later else head[size:])
    if kind == IPV6 and len(frame) >= ETHERNET + 40:
        head = frame[ETHERNET:]
        protocol, rest = head[6], head[40:]
        if protocol == HOP_BY_HOP and len(rest) >= 8:
            # RFC 8200 §4.3; multicast listener reports have one.
            protocol, rest = rest[0], rest[(rest[1] + 1) * 8 :]
        return _describe(protocol, str(ip_address(head[24:40])), rest)
    return OTHERS, f"EtherType {kind:#06x}"


def _describe(protocol: int, destination: str, rest: bytes) -> tuple[str, str]:
    if protocol == ICMPV6 and rest[:1] and rest[0] in DISCOVERY:
        return NEIGHBOURS, ""
    name = PROTOCOLS.get(protocol, f"protocol {protocol}")
    if protocol not in (TCP, UDP) or len(rest) < 4:
        return OTHERS, f"{name} to {destination}"
    ports = {int.from_bytes(rest[:2]), int.from_bytes(rest[2:4])}
    port = int.from_bytes(rest[2:4])
    if protocol == UDP and ports & DHCP_PORTS:
        return DHCP, ""
    if protocol == UDP and ports & IKE_PORTS:
        return TUNNEL, f"to {destination} port {port}"
    if port in DNS_PORTS:
        asked = read_question_untrusted(rest[8:]) if protocol == UDP else None
        what = asked[0] if asked else f"{name} port {port}"
        return NAMES, f"{what}, of {destination}"
    return OTHERS, f"{name} to {destination} port {port}"
