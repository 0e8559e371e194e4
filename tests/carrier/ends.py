"""A data path by itself: a pair of sockets stands for the tunnel device, loopback for the network."""

from __future__ import annotations

import os
import select
import selectors
import socket

from zesty_burrow.carrier.data_path.data_path import DataPath
from zesty_burrow.carrier.data_path.tunnel import Tunnel
from zesty_burrow.carrier.fast_path.selector import PacketSelector
from zesty_burrow.carrier.ports.udp_port import UdpPort
from zesty_burrow.carrier.ports.udp_socket import udp_socket
from zesty_burrow.core.crypto.protection import make_protection
from zesty_burrow.core.esp.channel import EspChannel, SaPair
from zesty_burrow.core.esp.sa import InboundSa, OutboundSa
from zesty_burrow.core.net import AddressRange
from zesty_burrow.core.packets import offload_header
from zesty_burrow.host.tun import TunDevice

HERE, THERE, NOBODY = "10.66.1.10", "203.0.113.10", "192.0.2.99"
ONLY_HERE = (AddressRange(socket.inet_aton(HERE), socket.inet_aton(HERE)),)
ALL = (AddressRange(bytes(4), b"\xff" * 4), AddressRange(bytes(16), b"\xff" * 16))
NOTHING = offload_header.NOTHING
PATHS = ("plain", "fast")


def alike(datagrams):
    """Runs of datagrams of one length, but for a shorter last one, no longer than one call takes."""
    runs = []
    for data in datagrams:
        run = runs[-1] if runs else []
        room = sum(map(len, run)) + len(data) <= 60_000 and len(run) < 60
        if run and room and len(data) <= len(run[0]) == len(run[-1]):
            run.append(data)
        else:
            runs.append([data])
    return runs


class Ends:
    """A data path between ``machine`` (the device's other end) and ``peer`` (the gateway's socket).

    ``opens``, ``seals``: the gateway's SAs. ``local``: what this side may use as its addresses.
    """

    def __init__(self, by, options=None, mtu=1400, disabled=frozenset(), encryption=(20, 36, 0), local=ONLY_HERE,
                 family=socket.AF_INET, extended=False):  # fmt: skip
        self.machine, self.inside = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        for one in (self.machine, self.inside):
            one.setsockopt(socket.SOL_SOCKET, socket.SO_SNDBUF, 1 << 20)
            one.setblocking(False)
        host = "127.0.0.1" if family == socket.AF_INET else "::1"
        self.peer = UdpPort(udp_socket(family, (host, 0)), disabled)
        self.port = UdpPort(udp_socket(family, (host, 0)), disabled)
        number, size, integrity = encryption
        self.make = lambda key=b"k": make_protection(number, key * size, b"i" * 32, os.urandom, integrity)
        self.extended = extended
        (self.opens, self.seals), pair = self.pair(1, local)
        self.channel = EspChannel(pair)
        self.tunnel = Tunnel(self.channel, self.port, self.peer.channel.getsockname()[:2])
        self.device = TunDevice("zesty0", self.inside.fileno(), True, frozenset((6, 17)))
        self.path = DataPath(self.device, mtu, options)
        self.path.add(self.tunnel)
        self.selector = PacketSelector() if by == "fast" else None
        if self.selector is not None:
            from zesty_burrow.carrier.fast_path.fast_path import attach

            self.selector.register(self.inside.fileno(), selectors.EVENT_READ, "device")
            self.selector.register(self.port.descriptor, selectors.EVENT_READ, "port")
            self.path.loops = attach(self.path, self.selector)

    def pair(self, number, local=ONLY_HERE, remote=ALL, key=b"k"):
        """The gateway's SAs, and ours, with SPIs of their own."""
        spis = 0x81000000 + number, 0x82000000 + number
        here = (
            OutboundSa(spis[0], self.make(key), extended=self.extended),
            InboundSa(spis[1], self.make(key), extended=self.extended),
        )
        there = (
            InboundSa(spis[0], self.make(key), extended=self.extended),
            OutboundSa(spis[1], self.make(key), extended=self.extended),
        )
        return there, SaPair(*here, local, remote)

    def close(self):
        self.path.close()
        if self.selector is not None:
            self.selector.close()
        for one in (self.machine, self.inside, self.peer.channel, self.port.channel):
            one.close()

    def woken(self):
        """What is left to Python: the data of the descriptors whose readers would be called."""
        return [key.data for key, _ in self.selector.select(0)]

    def send(self, *packets):
        """What the machine sends, each a packet or a packet and what the kernel says of it; the reads left to Python."""
        left = 0
        for one in packets:
            packet, offload = one if isinstance(one, tuple) else (one, None)
            self.machine.send((offload.octets() if offload else NOTHING) + bytes(packet))
        while select.select([self.inside], [], [], 0)[0]:
            if self.selector is None or "device" in self.woken():
                left += 1
                self.path.outbound_ready()
        return left

    def sealed(self):
        """The datagrams that the gateway has received."""
        found = []
        while bursts := self.peer.receive():
            found += [data for burst in bursts for data in burst.datagrams()]
        return found

    def out(self, *packets):
        """What the machine sends; the inner packets that the gateway gets."""
        self.send(*packets)
        return [self.opens.open(data) for data in self.sealed()]

    def receive(self, datagrams, traffic_class=0, source=None):
        """Datagrams to us; the bursts that were left to Python, and the datagrams that are no channel's."""
        for run in alike(datagrams):
            self.burst(run, traffic_class, source or self.peer)
        left, others = [], []
        while select.select([self.port.descriptor], [], [], 0)[0]:
            if self.selector is not None and "port" not in self.woken():
                continue
            bursts = self.port.receive()
            left += bursts
            for burst in bursts:
                others += self.path.inbound(burst)[1]
        return left, others

    def burst(self, datagrams, traffic_class, source):
        """Datagrams of one length, but for a shorter last one, by one call, as a network card hands them over."""
        if len(datagrams) == 1 or not source.splits:
            for data in datagrams:
                source.send(data, self.port.channel.getsockname()[:2], traffic_class)
            return
        level, kind = (socket.IPPROTO_IP, socket.IP_TOS)
        if source.channel.family == socket.AF_INET6:
            level, kind = socket.IPPROTO_IPV6, socket.IPV6_TCLASS
        marks = [(socket.SOL_UDP, 103, len(datagrams[0]).to_bytes(2, "little"))]
        marks += [(level, kind, traffic_class.to_bytes(4, "little"))] if traffic_class else []
        source.channel.sendmsg(datagrams, marks, 0, self.port.channel.getsockname()[:2])

    def come(self, datagrams, traffic_class=0):
        """Datagrams from the gateway; what is left for the session, and what the device gets with its header."""
        _, others = self.receive(datagrams, traffic_class)
        return others, self.read()

    def read(self):
        found = []
        while True:
            try:
                data = self.machine.recv(70000)
            except BlockingIOError:
                return found
            found.append((data[: offload_header.SIZE], data[offload_header.SIZE :]))
