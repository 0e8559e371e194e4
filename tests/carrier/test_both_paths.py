"""What both paths do, plain and fast: selectors, marks, lengths, strangers, other ciphers, the end of the numbers."""

from __future__ import annotations

import errno
import os
import socket

import pytest
from scapy.layers.inet import ICMP, IP, TCP, UDP
from scapy.layers.inet6 import IPv6
from scapy.packet import Raw

from carrier.ends import ALL, HERE, NOBODY, ONLY_HERE, PATHS, THERE, Ends
from core.test_segmentation import FIELDS, as_the_kernel_splits, octets_for, pseudo_sum, segments_of, whole_of
from zesty_burrow.carrier.data_path.data_path import largest_piece
from zesty_burrow.carrier.data_path.options import OFFLOADS, PathOptions
from zesty_burrow.carrier.data_path.tunnel import Tunnel
from zesty_burrow.core.esp.channel import EspChannel
from zesty_burrow.core.packets import offload_header
from zesty_burrow.core.packets.offload_header import Offload
from zesty_burrow.errors import StateError


@pytest.fixture(params=PATHS)
def ends(request):
    made = []

    def make(*args, **settings):
        made.append(Ends(request.param, *args, **settings))
        return made[-1]

    yield make
    for one in made:
        one.close()


def datagram(size=60, source=HERE, target=THERE, **fields):
    return bytes(IP(src=source, dst=target, **fields) / UDP(sport=5, dport=6) / Raw(b"x" * size))


def left_to_us(packet, protocol):
    """A packet whose checksum the kernel has left to the device."""
    whole = IP(bytes(packet))
    whole[TCP if protocol == 6 else UDP].chksum = pseudo_sum(bytes(whole), 4, protocol, 20)
    return bytes(whole), Offload(offload_header.NEEDS_CHECKSUM, 0, 0, 0, 20, 16 if protocol == 6 else 6)


def test_a_device_that_takes_no_pieces():
    """Where the kernel refuses many datagrams by one call (EIO), they go one by one, and so from then on."""
    ends, payload, calls = Ends("plain", local=ALL), octets_for(3, 5000), []
    fields = {**FIELDS, "flags": "PA", "version": 4, "tcp": True}

    class Refusing:
        def __init__(self, channel):
            self._channel = channel

        def __getattr__(self, name):
            return getattr(self._channel, name)

        def sendmsg(self, *words):
            calls.append(words)
            raise OSError(errno.EIO, "no pieces here")

    ends.port.channel = Refusing(ends.port.channel)
    for _ in range(2):
        assert ends.out(whole_of(fields, payload, 1000)) == segments_of(fields, payload, 1000)
    assert len(calls) == 1 and not ends.port.splits
    ends.close()


@pytest.mark.parametrize("count", [1, 5])
def test_a_lowered_segment_size_and_a_checksum_that_was_left_to_us(ends, count):
    """Both together, alone and in a batch: the SYN that leaves has the right sum for the size that fits."""
    made = ends(PathOptions(clamp=True), mtu=1300)
    packet = IP(src=HERE, dst=THERE) / TCP(sport=5, dport=6, flags="S", options=[("MSS", 1460)])
    came = made.out(*[left_to_us(packet, 6)] * count)
    assert len(came) == count
    for one in map(IP, came):
        assert dict(one[TCP].options)["MSS"] == 1260
        said = one[TCP].chksum
        del one[TCP].chksum
        assert IP(bytes(one))[TCP].chksum == said


@pytest.mark.parametrize("flags", ["SA", "S"])
@pytest.mark.parametrize("before", [[], [("NOP", None)], [("WScale", 7)]])
def test_a_segment_size_is_lowered_inwards(ends, flags, before):
    """At an even and an odd place; other packets of the connection stay as they are."""
    made = ends(PathOptions(clamp=True), mtu=1300)
    opening = IP(src=THERE, dst=HERE) / TCP(sport=6, dport=5, flags=flags, options=[*before, ("MSS", 1460)])
    plain = bytes(IP(src=THERE, dst=HERE) / TCP(sport=6, dport=5, flags="A") / Raw(b"x" * 40))
    _, came = made.come([made.seals.seal(one) for one in (bytes(opening), plain, bytes(opening))])
    sizes = [dict(IP(one)[TCP].options).get("MSS") for _, one in came]
    assert sizes == [1260, None, 1260] and came[1][1] == plain
    for _, one in came:
        packet = IP(one)
        said = packet[TCP].chksum
        del packet[TCP].chksum
        assert IP(bytes(packet))[TCP].chksum == said


@pytest.mark.parametrize("count", [1, 9])
def test_what_the_selectors_do_not_cover_goes_nowhere(ends, count):
    """Another's address, and what is no IP packet: dropped and counted, and the others still go (RFC 4301 §5.1)."""
    made = ends()
    wrong, nonsense = datagram(40, NOBODY), b"\xf5" + bytes(30)
    came = made.out(*[wrong, datagram(40), nonsense] * count)
    assert came == [datagram(40)] * count and made.path.dropped == 2 * count


def test_what_comes_in_for_somebody_else_is_dropped(ends):
    made = ends()
    right, wrong = datagram(40, THERE, HERE), datagram(40, THERE, NOBODY)
    _, came = made.come([made.seals.seal(one) for one in (right, wrong, right, wrong, right)])
    assert [one for header, data in came for one in as_the_kernel_splits(header, data)] == [right] * 3
    assert made.path.dropped == 2


def test_other_datagrams_and_strangers_among_ours(ends):
    """IKE is left for the session, a keep-alive too, a label that is nobody's is counted, and ours go through."""
    made = ends()
    inner = datagram(60, THERE, HERE)
    ours = [made.seals.seal(inner) for _ in range(6)]
    size = len(ours[0])
    strange = [b"\x99\x99\x99\x99" + os.urandom(size - 4) for _ in range(3)]
    ike = bytes(4) + os.urandom(size - 4)
    others, came = made.come([ours[0], ike, strange[0], *ours[1:4], strange[1], ours[4], ours[5], strange[2], b"\xff"])
    assert sum(len(as_the_kernel_splits(header, data)) for header, data in came) == 6
    assert [data for data in others if data not in strange] == [ike, b"\xff"]
    assert made.path.unknown == 3 and made.channel.counters.rejected == 0


def test_marks_of_congestion_come_in_and_go_out(ends):
    made = ends(PathOptions(dscp=None))
    inner = datagram(60, THERE, HERE, tos=0xB8 | 2)
    for count in (1, 8):
        _, came = made.come([made.seals.seal(inner) for _ in range(count)], 3)
        packets = [IP(one) for header, data in came for one in as_the_kernel_splits(header, data)]
        assert len(packets) == count and {one.tos for one in packets} == {0xB8 | 3}
        assert all(IP(bytes(one)).chksum == one.chksum for one in packets)
    assert made.come([made.seals.seal(datagram(60, THERE, HERE)) for _ in range(5)], 3)[1] == []
    assert made.path.dropped == 5
    made.send(datagram(60, tos=0xB8 | 1))
    assert [burst.traffic_class for burst in made.peer.receive()] == [0xB8 | 1]


@pytest.mark.parametrize("count", [1, 8])
@pytest.mark.parametrize("inner", [b"\x45", b"\x45\0", b"\x60" + bytes(20), b"\x4f" + bytes(18)])
@pytest.mark.parametrize("mark", [0, 1, 3])
def test_what_is_authentic_and_too_short_to_have_a_mark(ends, inner, mark, count):
    """A peer that seals scraps: they are dropped, with a mark of congestion on them or without, and nothing else is."""
    made = ends()
    _, came = made.come([made.seals.seal(one) for one in (*[inner] * count, datagram(60, THERE, HERE, tos=2))], mark)
    assert len(came) == 1 and IP(came[0][1])[UDP].load == b"x" * 60
    assert made.path.dropped == count and made.channel.counters.rejected == 0


@pytest.mark.parametrize("version", [4, 6])
def test_a_packet_that_is_too_long_for_the_path(ends, version):
    """Reported to its sender where it may not be cut, cut where it may; what fits goes."""
    made = ends(local=ALL)
    made.tunnel.limit = 1280
    made.path.refresh()
    heads = {4: IP(src=HERE, dst=THERE, flags="DF"), 6: IPv6(src="fd66:1::a", dst="2001:db8::1")}
    long, short = (bytes(heads[version] / UDP(sport=5, dport=6) / Raw(b"x" * size)) for size in (1340, 1000))
    assert made.out(long, short, long, short) == [short, short]
    answers = [packet for _, packet in made.read()]
    assert len(answers) == 2 and made.path.dropped == 2
    if version == 4:
        assert {(IP(one)[ICMP].type, IP(one)[ICMP].code, IP(one)[ICMP].nexthopmtu) for one in answers} == {(3, 4, 1280)}
        assert [len(part) for part in made.out(datagram(1340))] == [1276, 112]


def test_the_largest_piece_goes_out_by_one_call():
    for mtu in (1280, 1400, 1500, 9000):
        segments = (largest_piece(mtu) - 384) // (mtu - 52)
        assert 1 <= segments <= 64 and segments * (mtu + 37) <= 65000
    assert set(OFFLOADS) == {"device-tcp", "device-udp", "socket-send", "socket-receive"}


@pytest.mark.parametrize("disabled", [frozenset(), frozenset({"socket-send"})], ids=["pieces", "single"])
@pytest.mark.parametrize("encryption", [(20, 36, 0), (12, 32, 12)], ids=["gcm", "cbc"])
@pytest.mark.parametrize("sizes", [(1348, 1348), (1348, 1001), (100, 100), (1, 3)])
def test_large_pieces_with_others_among_them(ends, disabled, encryption, sizes):
    """Of one shape and of others, with short ends and single packets between: every segment, in its order."""
    made = ends(mtu=1500, disabled=disabled, encryption=encryption, local=ALL)
    given, expected = [], []
    for index, count in enumerate((40, 40, 2, 1.5, 44, 7)):
        one = {**FIELDS, "flags": "PA", "sequence": index << 20, "version": 6 if index == 4 else 4, "tcp": index != 5}
        size = sizes[index % 2]
        payload = octets_for(index, max(int(count * size), size + 1))
        given.append(whole_of(one, payload, size))
        expected += segments_of(one, payload, size)
        if index in (1, 3):
            given.append(datagram(index))
            expected.append(datagram(index))
    came = []
    for packet in given:
        came += made.out(packet)
    assert came == expected
    assert made.out(*given) == expected
    assert made.opens.state.rejected == 0


def test_many_tunnels_behind_one_device(ends):
    """Eleven tunnels, packets of each in turn, both ways: every one under its own key, and none through Python twice."""
    made = ends(local=ALL)
    made.path.remove(made.tunnel)
    theirs = {}
    for number in range(11):
        target = (made.pair(1)[1].remote[0].__class__(*[socket.inet_aton(f"198.51.100.{number}")] * 2),)
        theirs[number], pair = made.pair(10 + number, ONLY_HERE, target, bytes([65 + number]))
        made.path.add(Tunnel(EspChannel(pair), made.port, made.peer.channel.getsockname()))
    numbers = [*range(11)] * 5 + [3] * 9
    made.send(*[datagram(number, target=f"198.51.100.{number}") for number in numbers])
    found = [theirs[int.from_bytes(data[:4]) - 0x8100000A][0].open(data) for data in made.sealed()]
    assert found == [datagram(number, target=f"198.51.100.{number}") for number in numbers]
    back = [datagram(number, source=f"198.51.100.{number}", target=HERE) for number in numbers]
    _, came = made.come([theirs[number][1].seal(packet) for number, packet in zip(numbers, back, strict=True)])
    assert [one for header, data in came for one in as_the_kernel_splits(header, data)] == back
    assert made.path.dropped == 0
    wrong = [theirs[1][1].seal(datagram(5, source="198.51.100.2", target=HERE))]
    assert made.come(wrong)[1] == [] and made.path.dropped == 1


def test_extended_numbers_over_a_multiple_of_2_to_the_32(ends):
    made = ends(extended=True)
    start = (1 << 32) - 40
    for sa in (made.channel.current.outbound, made.seals):
        sa.state.sequence = start
    for sa in (made.channel.current.inbound, made.opens):
        sa.state.highest = start
    for _ in range(9):
        assert made.out(*[datagram()] * 10) == [datagram()] * 10
    inner = datagram(60, THERE, HERE)
    for _ in range(9):
        made.come([made.seals.seal(inner) for _ in range(10)])
    assert (made.channel.counters.packets_in, made.channel.counters.rejected) == (90, 0)
    assert made.channel.current.inbound.window.highest == made.channel.current.outbound.state.sequence == start + 90


def test_it_ends_before_a_number_repeats(ends):
    made = ends()
    assert len(made.out(*[datagram()] * 3)) == 3
    made.channel.current.outbound.state.sequence = (1 << 32) - 4
    with pytest.raises(StateError):
        made.out(*[datagram()] * 9)
    assert made.channel.current.outbound.state.sequence <= (1 << 32) - 1


def test_the_path_changes_under_a_stream(ends):
    """A narrower path, and another pair of SAs with other selectors, are in force at once."""
    made = ends()
    packet = datagram(900, flags="DF")
    assert made.out(*[packet] * 5) == [packet] * 5
    made.tunnel.limit = 700
    made.path.refresh()
    assert made.out(*[packet] * 5) == [] and made.path.dropped == 5
    made.tunnel.limit = 1400
    made.path.refresh()
    assert made.out(*[packet] * 5) == [packet] * 5
    (opens, _), pair = made.pair(2, ())
    made.channel.add(pair, by_peer=False)
    made.path.refresh()
    assert made.out(*[packet] * 5) == [] and made.path.dropped == 10 and opens.state.packets == 0


def test_new_keys_that_the_peer_has_asked_for(ends):
    """What goes out goes by the old pair until something authentic has come by the new one (RFC 7296 §2.8)."""
    made = ends()
    inner = datagram(60, THERE, HERE)
    (opens, seals), pair = made.pair(2)
    made.channel.add(pair, by_peer=True)
    made.path.refresh()
    assert made.out(*[datagram()] * 3) == [datagram()] * 3
    made.come([made.seals.seal(inner) for _ in range(3)])
    assert made.out(datagram()) == [datagram()]
    assert len(made.come([seals.seal(inner)])[1]) == 1
    made.send(*[datagram()] * 3)
    assert [opens.open(data) for data in made.sealed()] == [datagram()] * 3
    made.come([made.seals.seal(inner), seals.seal(inner)])
    made.channel.remove(made.opens.spi + (1 << 24))
    made.path.refresh()
    made.receive([made.seals.seal(inner)])
    counters = made.channel.counters
    assert (counters.packets_in, counters.packets_out, made.path.unknown) == (6, 7, 1)


@pytest.mark.parametrize("version", [4, 6])
def test_marks_on_datagrams_of_both_families(ends, version):
    """Outside as inside, by the class that a control message asks for."""
    made = ends(PathOptions(dscp=None), family=socket.AF_INET if version == 4 else socket.AF_INET6, local=ALL)
    made.send(datagram(tos=0xB8), *[datagram(tos=0xB8)] * 5, *[datagram(tos=0x28 | 1)] * 5)
    marks = []
    while found := made.peer.receive():
        marks += [burst.traffic_class for burst in found for _ in burst.datagrams()]
    assert marks == [0xB8] * 6 + [0x29] * 5
    inner = bytes(IPv6(src="2001:db8::1", dst="fd66:1::a") / UDP(sport=5, dport=6) / Raw(b"x" * 60))
    made.receive([made.seals.seal(inner) for _ in range(11)])
    assert made.channel.counters.packets_in == 11
