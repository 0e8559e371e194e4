"""What the workstation's own system does on a local network: ask for settings by DHCP, move to another network."""

from __future__ import annotations

import ctypes
import fcntl
import os
import random
import socket
import struct
import time
from ipaddress import IPv4Address, IPv4Network
from pathlib import Path
from typing import NamedTuple

from zesty_burrow.errors import MachineError
from zesty_burrow.host.names.resolv_conf import RESOLV_CONF
from zesty_burrow.host.netlink import RTPROT_DHCP, Netlink, Route
from zesty_burrow.lab import story
from zesty_burrow.lab.local_network import dhcp

MAIN = 254
ANSWER_SECONDS = 3.0
SIOCETHTOOL, SET_TRANSMIT_CHECKSUMS = 0x8946, 0x17
EVERYWHERE = IPv4Network("0.0.0.0/0")


class Lease(NamedTuple):
    """The DHCP lease: routes (RFC 3442) and resolvers."""

    address: IPv4Address
    routes: dhcp.Routes
    resolvers: tuple[IPv4Address, ...]


def renew() -> int:
    """Ask for settings again on the network that is up, and take them over as they are. For a process on the host."""
    device = next(one for one in story.LOCAL_NETWORKS.values() if _is_up(one))
    lease = ask_for_lease(device)
    with Netlink() as netlink:
        for route in netlink.routes_by(RTPROT_DHCP):
            netlink.delete_route(route)
        known = {one.destination for one in netlink.routes(MAIN) if one.device == device}
        for network, router in lease.routes:
            if str(network) not in known:
                netlink.add_route(Route(str(network), MAIN, device, str(router)), RTPROT_DHCP)
    text = "".join(f"nameserver {address}\n" for address in lease.resolvers)
    # A client of this kind writes what it was told, and looks at nobody else's lines.
    last = Path(os.environ["ZESTY_BURROW_HOME"], "resolvers-by-dhcp")
    if not last.exists() or last.read_text() != text:
        RESOLV_CONF.write_text(text)
        last.write_text(text)
    return 0


def _is_up(device: str) -> bool:
    with Netlink() as netlink:
        return netlink.is_up(device)


def ask_for_lease(device: str) -> Lease:
    """DISCOVER, OFFER, REQUEST, ACKNOWLEDGE (RFC 2131 §3.1). :class:`MachineError` where nobody answers."""
    transaction = random.getrandbits(32)
    with socket.socket(socket.AF_PACKET, socket.SOCK_RAW, 0) as wire:
        wire.bind((device, 0))
        mac = wire.getsockname()[4]
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as channel:
        channel.setsockopt(socket.SOL_SOCKET, socket.SO_BINDTODEVICE, device.encode())
        channel.setsockopt(socket.SOL_SOCKET, socket.SO_BROADCAST, 1)
        channel.bind(("", dhcp.CLIENT_PORT))
        wanted = bytes((dhcp.MASK, dhcp.ROUTER, dhcp.RESOLVERS, dhcp.ROUTES))
        options = {dhcp.KIND: bytes((dhcp.DISCOVER,)), dhcp.PARAMETERS: wanted}
        offer = _ask(channel, dhcp.DhcpMessage(dhcp.REQUEST, transaction, mac, options), dhcp.OFFER)
        options = {dhcp.KIND: bytes((dhcp.ASK,)), dhcp.WANTED: offer.given.packed, dhcp.PARAMETERS: wanted}
        options[dhcp.SERVER] = offer.options.get(dhcp.SERVER, b"")
        answer = _ask(channel, dhcp.DhcpMessage(dhcp.REQUEST, transaction, mac, options), dhcp.ACKNOWLEDGE)
    routes = dhcp.decode_routes_untrusted(answer.options.get(dhcp.ROUTES, b""))
    if not routes:
        # RFC 3442: option 3 counts only where there is no option 121.
        routes = tuple((EVERYWHERE, address) for address in dhcp.addresses(answer.options.get(dhcp.ROUTER, b""))[:1])
    return Lease(answer.given, routes, tuple(dhcp.addresses(answer.options.get(dhcp.RESOLVERS, b""))))


def _ask(channel: socket.socket, message: dhcp.DhcpMessage, kind: int) -> dhcp.DhcpMessage:
    channel.sendto(dhcp.encode(message), ("255.255.255.255", dhcp.SERVER_PORT))
    until = time.monotonic() + ANSWER_SECONDS
    while (left := until - time.monotonic()) > 0:
        channel.settimeout(left)
        try:
            answer = dhcp.decode_untrusted(channel.recv(4096))
        except TimeoutError:
            break
        if answer and (answer.transaction, answer.operation, answer.kind) == (message.transaction, dhcp.REPLY, kind):
            return answer
    raise MachineError("no DHCP server answers", why=f"nothing came within {ANSWER_SECONDS:g} s")


def move(device: str) -> int:
    """Leave the network that the workstation is in, and join the one of ``device``. For a process on the host."""
    with Netlink() as netlink:
        for other in story.LOCAL_NETWORKS.values():
            if other != device:
                for address in netlink.addresses(other):
                    netlink.remove_address(other, address)
                netlink.set_link(other, state="down")
        port = next(link.other for link in story.links() if link.other.device == device)
        netlink.set_link(device, state="up")
        present = netlink.addresses(device)
        for address in port.addresses:
            if address not in present:
                netlink.add_address(device, address)
        known = {(route.destination, route.device) for route in netlink.routes(MAIN)}
        for destination, gateway in port.routes:
            if (destination, device) not in known:
                netlink.add_route(Route(destination, MAIN, device, gateway))
    return 0


def leave_to_the_wire(offloads: bool) -> int:
    """Whether the wire is left anything: with False no frame goes out without its checksum, or larger than it takes."""
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as channel:
        for device in story.LOCAL_NETWORKS.values():
            # The kernel drops what rests on checksums (pieces of TCP and UDP) together with them.
            value = ctypes.create_string_buffer(struct.pack("=II", SET_TRANSMIT_CHECKSUMS, offloads))
            fcntl.ioctl(channel, SIOCETHTOOL, struct.pack("16sP16x", device.encode(), ctypes.addressof(value)))
    return 0
