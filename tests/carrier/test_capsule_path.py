"""The loops for capsules are checked against the plain path: the same packets, in the same order, counted the same."""

from __future__ import annotations

import random
import socket

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scapy.layers.inet import IP, TCP, UDP
from scapy.packet import Raw

from carrier.ends import ALL, HERE, NOBODY, NOTHING, ONLY_HERE, THERE
from carrier.test_same_result import outbound, steps
from core.test_segmentation import what_the_machine_gets
from zesty_burrow.carrier.data_path.data_path import FOR_CAPSULES, DataPath
from zesty_burrow.carrier.data_path.options import PathOptions
from zesty_burrow.carrier.data_path.tunnel import QueuedTunnel
from zesty_burrow.errors import Malformed
from zesty_burrow.host.tun import TunDevice
from zesty_burrow.protocols.connect_ip.machine.channel import CapsuleHttpChannel
from zesty_burrow.protocols.connect_ip.machine.tunnel import TunnelEnd
from zesty_burrow.protocols.connect_ip.wire.capsules import CapsuleReader, read_payload, write_capsule, write_packet

WAYS = ("plain", "loops")


class Sender:
    """A session that takes everything."""

    is_blocked = False

    def flush(self):
        """Nothing waits."""


class Ends:
    """A data path whose one tunnel's packets go in capsules; a pair of sockets stands for the device."""

    def __init__(self, way, options=None, local=ALL, remote=ALL):
        self.machine, self.inside = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        for one in (self.machine, self.inside):
            one.setsockopt(socket.SOL_SOCKET, socket.SO_SNDBUF, 4 << 20)
            one.setblocking(False)
        self.channel = CapsuleHttpChannel(local, remote, 65535)
        self.end = TunnelEnd()
        self.channel.begin_stream(self.end.reader)
        self.tunnel = QueuedTunnel(self.channel, Sender(), ("127.0.0.1", 443))
        self.path = DataPath(TunDevice("zesty0", self.inside.fileno(), True, frozenset((6, 17))), 1400, options)
        self.path.add(self.tunnel)
        if way == "loops":
            from zesty_burrow.carrier.fast_path.fast_path import attach

            assert self.path.kind_of_loops == FOR_CAPSULES
            self.path.loops = attach(self.path, None)

    def send(self, pieces):
        """What the stream gets for what the machine sends, in packets."""
        for piece in pieces:
            self.machine.send(piece)
        while self.path.outbound_ready():
            continue
        going, self.channel.going = b"".join(self.channel.going), []
        return [read_payload(value) for _, value in CapsuleReader().feed(going)]

    def receive(self, data):
        """What the machine gets for octets of the stream, in packets; and whether control capsules were among them."""
        if self.channel.diverted is not None:
            data = self.channel.diverted(data)
        changed = self.end.feed(data)
        for packet in self.end.take_packets():
            self.channel.received(packet, 1.0)
        self.path.go_on()
        return what_the_machine_gets(self.machine), changed

    def counted(self):
        return self.channel.counters, self.path.dropped

    def close(self):
        self.path.close()
        self.machine.close()
        self.inside.close()


@settings(max_examples=40, deadline=None)
@given(steps, st.booleans(), st.booleans())
def test_the_same_goes_out(script, everybody, clamp):
    """Whatever the machine sends: cut in the same way, in the same order, and dropped alike."""
    found = []
    for way in WAYS:
        one = Ends(way, PathOptions(None, clamp), local=ALL if everybody else ONLY_HERE)
        pieces = []
        for kind, size, seed, mark in script:
            made = outbound(kind, size, seed, mark)
            pieces.append(made[1].octets() + made[0] if isinstance(made, tuple) else NOTHING + made)
        found.append((one.send(pieces), one.counted()))
        one.close()
    assert found[0] == found[1]


def stream_of(number):
    """A stream of seeded packets, capsules without one, unknown capsules and contexts, strangers' packets."""
    dice = random.Random(number)
    sequence, parts = 1000, []
    for _ in range(dice.randint(1, 12)):
        match dice.choice(("flow", "flow", "single", "control", "unknown", "context", "stranger", "tiny")):
            case "flow":
                size = dice.choice((1348, 1348, 400, 1))
                for index in range(dice.randint(1, 40)):
                    data = dice.randbytes(size if index < 39 else size // 2 + 1)
                    tcp = TCP(sport=443, dport=5000, seq=sequence, flags="A", window=500)
                    parts.append(write_packet(bytes(IP(src=THERE, dst=HERE, id=index, flags="DF") / tcp / Raw(data))))
                    sequence += len(data)
            case "single":
                udp = IP(src=THERE, dst=HERE) / UDP(sport=53, dport=53) / Raw(dice.randbytes(dice.randint(0, 9000)))
                parts.append(write_packet(bytes(udp)))
            case "control":
                parts.append(write_capsule(3, bytes.fromhex("04 00000000 ffffffff 00")))
            case "unknown":
                parts.append(write_capsule(0x17 + 0x29 * dice.randint(0, 9), dice.randbytes(dice.randint(0, 3000))))
            case "context":
                parts.append(write_capsule(0, b"\x02" + dice.randbytes(50)))
            case "stranger":
                parts.append(write_packet(bytes(IP(src=THERE, dst=NOBODY) / UDP() / Raw(b"x" * 40))))
            case "tiny":
                parts.append(write_packet(dice.randbytes(dice.randint(0, 25))))
    return b"".join(parts), dice


@settings(max_examples=60, deadline=None)
@given(st.integers(0, 1 << 32))
def test_the_same_comes_in(number):
    """However the stream is cut; what is joined comes apart again into the very packets that were sent."""
    data, dice = stream_of(number)
    cuts = sorted(dice.randint(0, len(data)) for _ in range(dice.randint(0, 6)))
    pieces = [data[one:other] for one, other in zip([0, *cuts], [*cuts, len(data)], strict=True)]
    found = []
    for way in WAYS:
        one = Ends(way, local=ONLY_HERE)
        packets, changed = [], False
        for piece in pieces:
            got, told = one.receive(piece)
            packets += got
            changed |= told
        found.append((packets, changed, one.end.routes))
        one.close()
    assert found[0] == found[1]


def test_an_intake_goes_on_where_the_reader_was():
    """The loops come in the middle of a capsule, and go away in the middle of another: nothing is lost."""
    packets = [bytes(IP(src=THERE, dst=HERE) / UDP() / Raw(bytes([index]) * 300)) for index in range(4)]
    stream = b"".join(map(write_packet, packets)) + write_capsule(0x17, bytes(500)) + write_packet(packets[0])
    one = Ends("plain")
    got, _ = one.receive(stream[:400])
    from zesty_burrow.carrier.fast_path.fast_path import attach

    one.path.loops = attach(one.path, None)
    got += one.receive(stream[400:1400])[0]
    got += one.receive(stream[1400:])[0]
    assert got == [*packets, packets[0]]
    one.close()


@pytest.mark.parametrize("data", [b"\x00\x80\x10\x00\x00", b"\x03\x81\x00\x00\x00" + bytes(70000), b"\x01\x02\x00\x05"])
def test_what_is_too_long_or_malformed(data):
    """As by the reader: one error, whoever reads."""
    for way in WAYS:
        one = Ends(way)
        with pytest.raises(Malformed):
            one.receive(data)
        one.close()


def test_a_packet_that_is_too_short_for_its_addresses():
    """Behind it stand the octets of another one, which are not its own: it is dropped, and the next one is let in."""
    good = bytes(IP(src=THERE, dst=HERE) / UDP() / Raw(b"x" * 40))
    for way in WAYS:
        one = Ends(way)
        assert one.receive(write_packet(good[:12]) + write_packet(good))[0] == [good]
        assert one.path.dropped == 1
        one.close()


@settings(max_examples=60, deadline=None)
@given(st.lists(st.binary(max_size=400), max_size=5))
def test_arbitrary_octets(pieces):
    """A stranger's stream: packets or the one error, and the loops are still there afterwards."""
    one = Ends("loops", local=ONLY_HERE)
    try:
        for piece in pieces:
            one.receive(piece)
    except Malformed:
        pass
    finally:
        one.close()
    assert one.channel.diverted is None
