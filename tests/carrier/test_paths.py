"""The data path by itself: a pair of sockets stands for the tunnel device, loopback for the network."""

from __future__ import annotations

import errno
import os
import select
import selectors
import socket
from unittest import mock

import pytest
from scapy.layers.inet import ICMP, IP, TCP, UDP
from scapy.layers.inet6 import IPv6
from scapy.packet import Raw

from core.test_offload import octets_for, segments_of, whole_of
from zesty_burrow.carrier import datapath
from zesty_burrow.carrier.beside import WAY
from zesty_burrow.carrier.channel import udp_socket
from zesty_burrow.carrier.datapath import OFFLOADS, DataPath, largest_piece
from zesty_burrow.carrier.habits import Habits
from zesty_burrow.carrier.port import UdpPort
from zesty_burrow.carrier.tunnel import Flow, Tunnel
from zesty_burrow.carrier.waiter import Waiter
from zesty_burrow.carrier.way import BY_COLUMNS
from zesty_burrow.core.esp.association import InboundSa, OutboundSa
from zesty_burrow.core.ip import AddressRange
from zesty_burrow.core.offload import vnet
from zesty_burrow.core.offload.vnet import Offload
from zesty_burrow.core.protection import make_protection
from zesty_burrow.host.tun import TunDevice
from zesty_burrow.host.udp import UDP_SEGMENT

HERE, THERE, NOBODY = "10.66.1.10", "203.0.113.10", "192.0.2.99"
ONLY_HERE = (AddressRange(socket.inet_aton(HERE), socket.inet_aton(HERE)),)
ALL = (AddressRange(bytes(4), b"\xff" * 4), AddressRange(bytes(16), b"\xff" * 16))
HOLD_NOTHING = bytes(vnet.SIZE)
WAYS = {"columns": (BY_COLUMNS, False), "compiled": (WAY, False), "beside Python": (WAY, True)}
"""What works on octets, and whether usual packets are carried without Python in place of the event loop's waiting."""
way = "columns"


@pytest.fixture(autouse=True, scope="module", params=WAYS)
def each_way(request):
    """All of this by columns, by compiled loops, and by those that carry beside Python."""
    global way
    way = request.param


class Ends:
    """A data path between ``machine`` (the device's other end) and ``peer`` (the gateway's socket)."""

    def __init__(self, habits=None, mtu=1400, without=frozenset(), encryption=(20, 36, 0), by=None):
        self.machine, inside = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        for one in (self.machine, inside):
            one.setsockopt(socket.SOL_SOCKET, socket.SO_SNDBUF, 1 << 20)
            one.setblocking(False)
        self._inside = inside
        self.peer = UdpPort(udp_socket(socket.AF_INET, ("127.0.0.1", 0)), without)
        self.port = UdpPort(udp_socket(socket.AF_INET, ("127.0.0.1", 0)), without)
        number, size, integrity = encryption
        make = lambda: make_protection(number, b"k" * size, b"i" * 32, os.urandom, integrity)  # noqa: E731
        self.outbound, self.inbound = OutboundSa(0x81000001, make()), InboundSa(0x81000002, make())
        self.opens, self.seals = InboundSa(0x81000001, make()), OutboundSa(0x81000002, make())
        flow = Flow(self.outbound, self.inbound, ONLY_HERE, ALL)
        self.tunnel = Tunnel(flow, self.port, self.peer.channel.getsockname())
        joins = frozenset({"device-tcp": 6, "device-udp": 17}[one] for one in ("device-tcp", "device-udp"))
        device = TunDevice("zesty0", inside.fileno(), True, joins)
        self.told = []
        self.path = DataPath(device, mtu, lambda *_: self.tunnel, habits, told=lambda *what: self.told.append(what))
        works, beside = WAYS[by or way]
        self.waiter = Waiter() if beside else None
        if self.waiter is not None:
            self.waiter.register(inside.fileno(), selectors.EVENT_READ, "device")
            self.waiter.register(self.port.channel.fileno(), selectors.EVENT_READ, "port")
        with mock.patch.object(datapath, "running_waiter", lambda: self.waiter):
            self.path.use(works)
        self.path.carry(self.tunnel)

    def close(self):
        self.path.close()
        if self.waiter is not None:
            self.waiter.close()
        for one in (self.machine, self._inside, self.peer.channel, self.port.channel):
            one.close()

    def out(self, *packets):
        """What the machine sends, each with what the kernel says of it; the inner packets that the peer gets."""
        for packet, offload in packets:
            self.machine.send((offload.octets() if offload else HOLD_NOTHING) + bytes(packet))
        while select.select([self._inside], [], [], 0)[0]:
            if self.waiter is None or "device" in self.woken():
                self.path.outbound_ready()
        came = []
        while bursts := self.peer.receive():
            came += [self.opens.open(data) for burst in bursts for data in burst.datagrams()]
        return came

    def woken(self):
        """What Python is woken for."""
        return [key.data for key, _ in self.waiter.select(0)]

    def come(self, datagrams, traffic_class=0):
        """Datagrams from the peer; what the device gets for them."""
        for data in datagrams:
            self.peer.send(data, self.port.channel.getsockname(), traffic_class)
        told = []
        channels = [self.port.channel.fileno()]
        while self.waiter is None or select.select(channels, [], [], 0)[0]:
            if self.waiter is not None and "port" not in self.woken():
                continue
            bursts = self.port.receive()
            told += [self.path.inbound(burst, self.port) for burst in bursts]
            if not bursts:
                break
        return told, self.read()

    def read(self):
        found = []
        while True:
            try:
                data = self.machine.recv(70000)
            except BlockingIOError:
                return found
            found.append((data[: vnet.SIZE], data[vnet.SIZE :]))


@pytest.fixture
def ends():
    made = []

    def make(*args, **settings):
        made.append(Ends(*args, **settings))
        return made[-1]

    yield make
    for one in made:
        one.close()


def left_to_us(packet, kind):
    """A packet whose checksum the kernel has left to the device: the pseudo-header's sum stands in its place."""
    whole = IP(bytes(packet))
    sums = sum(int.from_bytes(bytes(whole)[at : at + 2]) for at in range(12, 20, 2)) + kind + len(whole) - 20
    while sums >> 16:
        sums = (sums & 0xFFFF) + (sums >> 16)
    whole[TCP if kind == 6 else UDP].chksum = sums
    return bytes(whole), Offload(vnet.NEEDS_CHECKSUM, 0, 0, 0, 20, 16 if kind == 6 else 6)


@pytest.mark.parametrize("count", [1, 5])
def test_a_lowered_segment_size_and_a_checksum_that_was_left_to_us(ends, count):
    """Both together, alone and in a batch: the SYN that leaves has the right sum for the size that fits."""
    made = ends(Habits(clamp=True), mtu=1300)
    packet = IP(src=HERE, dst=THERE) / TCP(sport=5, dport=6, flags="S", options=[("MSS", 1460)])
    came = made.out(*[left_to_us(packet, 6)] * count)
    assert len(came) == count
    for one in map(IP, came):
        assert dict(one[TCP].options)["MSS"] == 1260
        told = one[TCP].chksum
        del one[TCP].chksum
        assert IP(bytes(one))[TCP].chksum == told


@pytest.mark.parametrize("count", [1, 9])
def test_what_the_selectors_do_not_cover_goes_nowhere(ends, count):
    """Another's address, and what is no IP packet: dropped and counted, and the others still go (RFC 4301 §5.1)."""
    made = ends()
    right = bytes(IP(src=HERE, dst=THERE) / UDP(sport=5, dport=6) / Raw(b"x" * 40))
    wrong = bytes(IP(src=NOBODY, dst=THERE) / UDP(sport=5, dport=6) / Raw(b"x" * 40))
    nonsense = b"\xf5" + bytes(30)
    came = made.out(*[(wrong, None), (right, None), (nonsense, None)] * count)
    assert came == [right] * count and made.path.turned_away == 2 * count


def test_what_comes_in_for_somebody_else_is_dropped(ends):
    made = ends()
    right = bytes(IP(src=THERE, dst=HERE) / UDP(sport=5, dport=6) / Raw(b"x" * 40))
    wrong = bytes(IP(src=THERE, dst=NOBODY) / UDP(sport=5, dport=6) / Raw(b"x" * 40))
    _, came = made.come([made.seals.seal(one) for one in (right, wrong, right, wrong, right)])
    assert [packet for _, packet in came] == [right] * 3 and made.path.turned_away == 2


def test_other_datagrams_and_strangers_among_ours(ends):
    """IKE comes back, a keep-alive too, an SPI that is nobody's is counted, and ours go through."""
    made = ends()
    inner = bytes(IP(src=THERE, dst=HERE) / UDP(sport=5, dport=6) / Raw(b"x" * 60))
    ours = [made.seals.seal(inner) for _ in range(6)]
    size = len(ours[0])
    strange = [b"\x99\x99\x99\x99" + os.urandom(size - 4) for _ in range(3)]
    ike = bytes(4) + os.urandom(size - 4)
    told, came = made.come([ours[0], ike, strange[0], *ours[1:4], strange[1], ours[4], ours[5], strange[2], b"\xff"])
    assert [packet for _, packet in came] == [inner] * 6
    assert [data for _, others in told for data in others] == [ike, b"\xff"]
    assert made.path.unknown == 3 and made.inbound.counters.rejected == 0


def test_marks_of_congestion_come_in_and_go_out(ends):
    made = ends(Habits(dscp=None))
    inner = IP(src=THERE, dst=HERE, tos=0xB8 | 2) / UDP(sport=5, dport=6) / Raw(b"x" * 60)
    for count in (1, 8):
        _, came = made.come([made.seals.seal(bytes(inner)) for _ in range(count)], 3)
        packets = [IP(packet) for _, packet in came]
        assert packets and {one.tos for one in packets} == {0xB8 | 3}
    plain = bytes(IP(src=THERE, dst=HERE) / UDP(sport=5, dport=6) / Raw(b"x" * 60))
    assert made.come([made.seals.seal(plain) for _ in range(5)], 3)[1] == [] and made.path.turned_away == 5
    out = bytes(IP(src=HERE, dst=THERE, tos=0xB8 | 1) / UDP(sport=5, dport=6) / Raw(b"x" * 60))
    made.machine.send(HOLD_NOTHING + out)
    made.path.outbound_ready()
    assert [burst.traffic_class for burst in made.peer.receive()] == [0xB8 | 1]


@pytest.mark.parametrize("count", [1, 8])
@pytest.mark.parametrize("inner", [b"\x45", b"\x45\0", b"\x60" + bytes(20), b"\x4f" + bytes(18)])
@pytest.mark.parametrize("mark", [0, 1, 3])
def test_what_is_authentic_and_too_short_to_have_a_mark(ends, inner, mark, count):
    """A peer that seals scraps: they are turned away, with a mark of congestion on them or without, and nothing else is."""
    made = ends()
    right = bytes(IP(src=THERE, dst=HERE, tos=2) / UDP(sport=5, dport=6) / Raw(b"x" * 60))
    _, came = made.come([made.seals.seal(one) for one in (*[inner] * count, right)], mark)
    assert len(came) == 1 and IP(came[0][1])[UDP].load == b"x" * 60
    assert made.path.turned_away == count and made.inbound.counters.rejected == 0


@pytest.mark.parametrize("version", [4, 6])
def test_a_packet_that_is_too_long_for_the_way(ends, version):
    """Told to its sender where it may not be cut, cut where it may; what fits goes."""
    made = ends()
    made.tunnel.limit = 1280
    if version == 6:
        made.tunnel.flow.local = ALL
    made.path.forget(0)
    heads = {4: IP(src=HERE, dst=THERE, flags="DF"), 6: IPv6(src="fd66:1::a", dst="2001:db8::1")}
    long, short = (bytes(heads[version] / UDP(sport=5, dport=6) / Raw(b"x" * size)) for size in (1340, 1000))
    assert made.out((long, None), (short, None), (long, None), (short, None)) == [short, short]
    answers = [packet for _, packet in made.read()]
    assert len(answers) == 2 and made.path.turned_away == 2
    if version == 4:
        assert {(IP(one)[ICMP].type, IP(one)[ICMP].code, IP(one)[ICMP].nexthopmtu) for one in answers} == {(3, 4, 1280)}
        parts = made.out((bytes(IP(src=HERE, dst=THERE) / UDP(sport=5, dport=6) / Raw(b"x" * 1340)), None))
        assert [len(part) for part in parts] == [1276, 112]


def test_the_largest_piece_goes_out_by_one_call():
    for mtu in (1280, 1400, 1500, 9000):
        segments = (largest_piece(mtu) - 384) // (mtu - 52)
        assert 1 <= segments <= 64 and segments * (mtu + 37) <= 65000
    assert set(OFFLOADS) == {"device-tcp", "device-udp", "socket-send", "socket-receive"}


@pytest.mark.parametrize("without", [frozenset(), frozenset({"socket-send"})], ids=["pieces", "single"])
@pytest.mark.parametrize("encryption", [(20, 36, 0), (12, 32, 12)], ids=["gcm", "cbc"])
@pytest.mark.parametrize("sizes", [(1348, 1348), (1348, 1001), (100, 100), (1, 3)])
def test_large_pieces_with_others_among_them(ends, without, encryption, sizes):
    """Of one shape and of others, with short ends and single packets between: every segment, in its order."""
    made = ends(mtu=1500, without=without, encryption=encryption)
    made.tunnel.flow.local = ALL
    made.path.forget(0)
    fields = {"version": 4, "tcp": True, "tos": 0, "ident": 7, "dont_fragment": True, "sequence": 5,
              "acknowledged": 1, "flags": "PA", "window": 9, "options": 3, "ports": (5, 6)}  # fmt: skip
    given, expected = [], []
    for index, count in enumerate((40, 40, 2, 1.5, 44, 7)):
        one = {**fields, "sequence": index << 20, "version": 6 if index == 4 else 4, "tcp": index != 5}
        size = sizes[index % 2]
        payload = octets_for(index, max(int(count * size), size + 1))
        given.append(whole_of(one, payload, size))
        expected += segments_of(one, payload, size)
        if index in (1, 3):
            alone = bytes(IP(src=HERE, dst=THERE) / UDP(sport=5, dport=6) / Raw(bytes(index)))
            given.append((alone, None))
            expected.append(alone)
    came = []
    for packet in given:
        came += made.out(packet)
    assert came == expected
    assert made.out(*given) == expected
    assert made.opens.counters.rejected == 0


class NoSegments:
    """A socket whose device takes no segments, as the kernel says only when they are sent."""

    def __init__(self, channel):
        self._channel, self.refused = channel, 0

    def __getattr__(self, name):
        return getattr(self._channel, name)

    def sendmsg(self, pieces, marks, *rest):
        if any(kind == UDP_SEGMENT for _, kind, _ in marks):
            self.refused += 1
            raise OSError(errno.EIO, "no segments here")
        return self._channel.sendmsg(pieces, marks, *rest)


def test_a_device_that_takes_no_segments(ends):
    """The first piece is refused: its segments go one by one, and what follows is not tried in one again."""
    made = ends(mtu=1500)
    made.port.channel = NoSegments(made.port.channel)
    fields = {"version": 4, "tcp": True, "tos": 0, "ident": 7, "dont_fragment": True, "sequence": 5,
              "acknowledged": 1, "flags": "A", "window": 9, "options": 3, "ports": (5, 6)}  # fmt: skip
    payload = octets_for(1, 20 * 1000 + 77)
    piece, expected = whole_of(fields, payload, 1000), segments_of(fields, payload, 1000)
    made.tunnel.flow.local = ALL
    made.path.forget(0)
    assert made.out(piece, piece) == expected * 2
    assert made.port.channel.refused == 1 and not made.port.splits


def test_a_report_of_the_network_takes_nothing_with_it(ends):
    """What came before the report is handed out, and what comes after it too."""
    made = ends()
    inner = bytes(IP(src=THERE, dst=HERE) / UDP(sport=5, dport=6) / Raw(b"x" * 1000))
    channel, calls = made.port.channel, []

    class Reporting:
        def __getattr__(self, name):
            return getattr(channel, name)

        def recvmsg_into(self, *words):
            calls.append(words)
            if len(calls) == 2:
                raise OSError(errno.ECONNREFUSED, "somebody else was not there")
            return channel.recvmsg_into(*words)

    made.port.channel = Reporting()
    _, came = made.come([made.seals.seal(inner) for _ in range(150)])
    came += made.come([])[1]
    assert sum(len(packet) for _, packet in came) >= 150 * 1000 and made.inbound.counters.packets == 150
