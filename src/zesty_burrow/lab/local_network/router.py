"""The local network's router, and other users of that network: well-behaved, or hostile by its faults."""

from __future__ import annotations

import asyncio
import socket
from collections.abc import Iterable
from contextlib import suppress
from ipaddress import IPv4Address, IPv4Network, IPv6Address, IPv6Network, ip_interface
from typing import Any

from zesty_burrow.host.packet_filter.source_translation import pass_on, translate_source
from zesty_burrow.lab import story
from zesty_burrow.lab.local_network import dhcp, guest_page, packets
from zesty_burrow.lab.local_network.conditions import ConditionedWire, Conditions
from zesty_burrow.lab.local_network.filtering import filter_network
from zesty_burrow.lab.local_network.proxies import Proxies
from zesty_burrow.lab.local_network.rogue_resolver import RogueResolver
from zesty_burrow.protocols.session import GRE_PORT
from zesty_burrow.records import replace

LEASE_SECONDS = 3600
ADVERTISED_SECONDS = 60
EVERY = 0.5
"""Seconds between the claims of somebody who claims an address."""
SOMEBODY = bytes.fromhex("020000000066")
WIDE4 = (IPv4Network("0.0.0.0/1"), IPv4Network("128.0.0.0/1"))
WIDE6 = (IPv6Network("2000::/3"),)
TOO_BIG = 552
LARGE = 200
RAW_ALL = 3


class LocalNetwork:
    """One network of the workstation's: ``port`` is the router's end of the wire."""

    def __init__(self, port: story.Port, host: story.Port) -> None:
        self.device = port.device
        self._router4, self._router6 = (ip_interface(address) for address in port.addresses)
        self._host4, self._host6 = (ip_interface(address) for address in host.addresses)
        self._faults: frozenset[str] = frozenset()
        self._hardware = b""
        self._wire: ConditionedWire | None = None
        self._tasks: list[asyncio.Task[None]] = []

    @property
    def own_addresses(self) -> tuple[str, str]:
        """The router's, of both families."""
        return str(self._router4.ip), str(self._router6.ip)

    async def start(self) -> None:
        """Answer DHCP, pass on what comes."""
        translate_source(self.device, story.COTTAGE_PUBLIC4, f"zesty-{self.device}")
        if self.device == story.HOME_NETWORK:
            pass_on(GRE_PORT, story.COTTAGE_PUBLIC4, str(self._host4.ip), "zesty-gre")
        server = _socket(socket.AF_INET, socket.SOCK_DGRAM, 0, self.device)
        server.setsockopt(socket.SOL_SOCKET, socket.SO_BROADCAST, 1)
        server.bind(("", dhcp.SERVER_PORT))
        self._dhcp = server
        loop = asyncio.get_running_loop()
        loop.add_reader(server, self._asked_for_settings)
        self._advertising = _socket(socket.AF_INET6, socket.SOCK_RAW, socket.IPPROTO_ICMPV6, self.device)
        for option in (socket.IPV6_MULTICAST_HOPS, socket.IPV6_UNICAST_HOPS):
            self._advertising.setsockopt(socket.IPPROTO_IPV6, option, 255)
        self._frames = socket.socket(socket.AF_PACKET, socket.SOCK_RAW | socket.SOCK_NONBLOCK, 0)
        self._frames.bind((self.device, 0))
        self._hardware = self._frames.getsockname()[4]
        await RogueResolver(*self.own_addresses, self._is_rogue).start()

    def _is_rogue(self) -> bool:
        return "rogue-resolver" in self._faults

    def set_faults(self, faults: frozenset[str]) -> None:
        """Turn hostile, or be well-behaved again: what was advertised and claimed is taken back."""
        for task in self._tasks:
            task.cancel()
        ended = self._faults - faults
        self._faults = faults
        if "advertised-routes" in ended:
            self._advertise(0)
        if "address-claims" in ended:
            self._claim(self._hardware)
        jobs = {
            "advertised-routes": self._go_on_advertising,
            "address-claims": self._go_on_claiming,
            "forged-too-big": self._go_on_forging,
        }
        loop = asyncio.get_running_loop()
        self._tasks = [loop.create_task(job()) for fault, job in jobs.items() if fault in faults]

    def set_conditions(self, conditions: Conditions) -> None:
        """Of the wire from now on; those of :class:`Conditions` by default are the kernel's own wire."""
        if self._wire is not None:
            self._wire.stop()
            self._wire = None
        if conditions != Conditions():
            hosts = (str(self._host4.ip), str(self._host6.ip))
            wire = ConditionedWire(self.device, hosts, story.COTTAGE_PUBLIC4, conditions)
            wire.start()
            self._wire = wire

    # DHCP.

    def _asked_for_settings(self) -> None:
        with suppress(BlockingIOError):
            while True:
                request = dhcp.decode_untrusted(self._dhcp.recv(4096))
                answer = self._answer(request) if request else None
                if answer is not None:
                    self._try_to_send(self._dhcp, dhcp.encode(answer), ("255.255.255.255", dhcp.CLIENT_PORT))

    def _answer(self, request: dhcp.DhcpMessage) -> dhcp.DhcpMessage | None:
        kinds = {dhcp.DISCOVER: dhcp.OFFER, dhcp.ASK: dhcp.ACKNOWLEDGE}
        if request.operation != dhcp.REQUEST or request.kind not in kinds:
            return None
        options = {
            dhcp.KIND: bytes((kinds[request.kind],)),
            dhcp.SERVER: self._router4.ip.packed,
            dhcp.LEASE: LEASE_SECONDS.to_bytes(4),
            dhcp.MASK: self._router4.netmask.packed,
            dhcp.ROUTER: self._router4.ip.packed,
            dhcp.RESOLVERS: self._resolver().packed,
        }
        if "dhcp-routes" in self._faults:
            router = IPv4Address(self._router4.ip.packed)
            # RFC 3442: a client that takes these takes no default route from option 3.
            wanted = (*WIDE4, IPv4Network("0.0.0.0/0"))
            options[dhcp.ROUTES] = dhcp.encode_routes((network, router) for network in wanted)
        given = IPv4Address(self._host4.ip.packed)
        return replace(request, operation=dhcp.REPLY, options=options, given=given)

    def _resolver(self) -> IPv4Address:
        if self._is_rogue():
            return IPv4Address(self._router4.ip.packed)
        return IPv4Address(story.ISP_RESOLVER4)

    # What is sent unasked.

    def _advertise(self, lifetime: int) -> None:
        message = packets.router_advertisement(WIDE6, lifetime)
        self._try_to_send(self._advertising, message, (f"ff02::1%{self.device}", 0))

    async def _go_on_advertising(self) -> None:
        while True:
            self._advertise(ADVERTISED_SECONDS)
            await asyncio.sleep(EVERY)

    def _claim(self, hardware: bytes) -> None:
        router4, host4 = (IPv4Address(one.ip.packed) for one in (self._router4, self._host4))
        with suppress(OSError):
            self._frames.send(packets.arp_claim(router4, hardware, host4))
        message = packets.neighbour_claim(IPv6Address(self._router6.ip.packed), hardware)
        self._try_to_send(self._advertising, message, (f"ff02::1%{self.device}", 0))

    async def _go_on_claiming(self) -> None:
        while True:
            self._claim(SOMEBODY)
            await asyncio.sleep(EVERY)

    async def _go_on_forging(self) -> None:
        """Each large packet of a tunnel's is answered, as a router on the way could."""
        loop = asyncio.get_running_loop()
        flags = socket.SOCK_RAW | socket.SOCK_NONBLOCK
        with (
            socket.socket(socket.AF_PACKET, flags, 0) as reading,
            socket.socket(socket.AF_INET, flags, socket.IPPROTO_RAW) as writing,
        ):
            reading.bind((self.device, RAW_ALL))
            while True:
                frame = await loop.sock_recv(reading, 65536)
                packet = frame[packets.ETHERNET :]
                is_ours = frame[12:14] == b"\x08\x00" and packet[12:16] == self._host4.ip.packed
                to_port = int.from_bytes(packet[22:24])
                if is_ours and len(packet) > LARGE and packet[9] == packets.UDP and to_port in (500, 4500):
                    claimed = IPv4Address(packet[16:20])
                    message = packets.too_big(packet, TOO_BIG, claimed)
                    self._try_to_send(writing, message, (str(self._host4.ip), 0))
                    await asyncio.sleep(EVERY / 10)

    def _try_to_send(self, channel: socket.socket, data: bytes, target: tuple[str, int]) -> None:
        """A network that is down at this moment loses it."""
        with suppress(OSError):
            channel.sendto(data, target)


def _socket(family: int, kind: int, protocol: int, device: str) -> socket.socket:
    """One that sends and receives by a device alone."""
    channel = socket.socket(family, kind | socket.SOCK_NONBLOCK, protocol)
    channel.setsockopt(socket.SOL_SOCKET, socket.SO_BINDTODEVICE, device.encode())
    return channel


class Router:
    """All local networks of the internet provider's router, and what they have in common."""

    def __init__(self, networks: Iterable[LocalNetwork]) -> None:
        self._networks = tuple(networks)
        self._devices = tuple(network.device for network in self._networks)
        self._faults: frozenset[str] = frozenset()
        self._conditions = Conditions()
        self._accepted = False
        self._proxies = Proxies(lambda: self._faults)

    async def start(self) -> None:
        """Serve them; nobody is led to the guests' page until that is wanted."""
        for network in self._networks:
            await network.start()
            await guest_page.GuestPage(self._accept).start(*network.own_addresses)
        await self._proxies.start((story.ISP_RESOLVER4, story.ISP_RESOLVER6))

    def set_faults(self, faults: frozenset[str]) -> None:
        """Of every local network."""
        self._faults, self._accepted = faults, False
        for network in self._networks:
            network.set_faults(faults)
        if "proxy-dies" in faults:
            self._proxies.drop_all()
        self._filter()

    def set_conditions(self, conditions: Conditions) -> None:
        """Of every wire to the workstation."""
        self._conditions = conditions
        for network in self._networks:
            network.set_conditions(conditions)

    def status(self) -> dict[str, Any]:
        """For ``lab status``."""
        one = self._conditions
        words = [
            f"{one.loss:.0%} loss" if one.loss else "",
            f"{one.delay * 1000:g} ms each way" if one.delay else "",
            f"{one.rate / 1e6:g} Mbit/s" if one.rate else "",
        ]
        note = ", ".join(word for word in words if word)
        counts = {"proxied": self._proxies.opened, "relayed": self._proxies.relayed}
        return {"faults": sorted(self._faults), **counts, **({"note": note} if note else {})}

    def _filter(self) -> None:
        guests = "captive-portal" in self._faults and not self._accepted
        filter_network(self._devices, guest_page.PORT, self._faults, guests=guests)

    def _accept(self) -> None:
        self._accepted = True
        self._filter()
