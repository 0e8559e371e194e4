"""Splitting and joining: every packet that comes out is the packet that went in; an independent library is the judge."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import assume, example, given, settings
from hypothesis import strategies as st
from scapy.layers.inet import IP, TCP, UDP
from scapy.layers.inet6 import IPv6
from scapy.packet import Raw

from zesty_burrow.core.compiled.works import COMPILED
from zesty_burrow.core.offload import vnet
from zesty_burrow.core.offload.join import Packets
from zesty_burrow.core.offload.split import Portion, finish_checksum, finish_checksums, read_super
from zesty_burrow.core.offload.vnet import Offload, read_offload
from zesty_burrow.core.works import COLUMNS
from zesty_burrow.errors import Malformed

LONGEST = 1500
STRIDE = LONGEST + 100
PROTOCOLS = frozenset((6, 17))

works = COLUMNS


@pytest.fixture(autouse=True, scope="module", params=[COLUMNS, COMPILED], ids=["columns", "compiled"])
def each_way(request):
    """All of this by columns and by compiled loops."""
    global works
    works = request.param


headers = st.fixed_dictionaries(
    {
        "version": st.sampled_from([4, 6]),
        "tcp": st.booleans(),
        "tos": st.sampled_from([0, 1, 2, 3, 0xB8]),
        "ident": st.sampled_from([0, 1, 0x7FFF, 0xFFFC, 0xFFFF]),
        "dont_fragment": st.booleans(),
        "sequence": st.sampled_from([0, 1, 0x7FFFFFFF, 0xFFFFFFF0, 0xFFFFF000, 0xFFFFFFFF]),
        "acknowledged": st.integers(0, 0xFFFFFFFF),
        "flags": st.sampled_from(["A", "PA", "FA", "FPA", "EA", "CA", "CPA"]),
        "window": st.integers(0, 0xFFFF),
        "options": st.integers(0, 10),
        "ports": st.tuples(st.integers(1, 0xFFFF), st.integers(1, 0xFFFF)),
    }
)


def network(fields, index=0):
    """The IP header of a segment."""
    if fields["version"] == 6:
        return IPv6(src="fd66:2::a", dst="2001:db8:b5::10", tc=fields["tos"], fl=0x12345, hlim=63)
    return IP(
        src="10.66.2.10",
        dst="203.0.113.10",
        tos=fields["tos"],
        ttl=63,
        id=(fields["ident"] + index) & 0xFFFF,
        flags="DF" if fields["dont_fragment"] else 0,
    )


def segments_of(fields, payload, size):
    """What the sender's own stack would have sent, made by the judge."""
    found = []
    source, destination = fields["ports"]
    parts = [payload[at : at + size] for at in range(0, len(payload), size)]
    for index, part in enumerate(parts):
        if not fields["tcp"]:
            transport = UDP(sport=source, dport=destination)
        else:
            flags = fields["flags"]
            if index < len(parts) - 1:
                flags = flags.replace("F", "").replace("P", "")
            if index:
                flags = flags.replace("C", "")
            transport = TCP(
                sport=source,
                dport=destination,
                seq=(fields["sequence"] + index * size) & 0xFFFFFFFF,
                ack=fields["acknowledged"],
                flags=flags,
                window=fields["window"],
                options=[("NOP", None)] * (4 * fields["options"]),
            )
        found.append(bytes(network(fields, index) / transport / Raw(part)))
    return found


def whole_of(fields, payload, size):
    """The packet of many segments as the kernel hands it over, and what it says of it (VIRTIO 1.2 §5.1.6)."""
    packet = bytearray(segments_of(fields, payload, max(len(payload), 1))[0])
    transport = 20 if fields["version"] == 4 else 40
    field = transport + (16 if fields["tcp"] else 6)
    # The checksum's place holds the pseudo-header's sum, as the kernel leaves it.
    pseudo = packet[12:20] if fields["version"] == 4 else packet[8:40]
    total = sum(int.from_bytes(pseudo[at : at + 2]) for at in range(0, len(pseudo), 2))
    total += (6 if fields["tcp"] else 17) + len(packet) - transport
    while total >> 16:
        total = (total & 0xFFFF) + (total >> 16)
    packet[field : field + 2] = total.to_bytes(2)
    kind = vnet.UDP if not fields["tcp"] else vnet.TCP4 if fields["version"] == 4 else vnet.TCP6
    head = len(packet) - len(payload)
    return bytes(packet), Offload(vnet.NEEDS_CHECKSUM, kind, head, size, transport, field - transport)


def octets_for(seed, length):
    return np.random.default_rng(seed).integers(0, 256, length, np.uint8).tobytes()


def split_all(packet, offload, slots=64):
    """Through the splitter, ``slots`` at a time."""
    source = np.zeros(len(packet) + 70, np.uint8)
    source[6 : 6 + len(packet)] = np.frombuffer(packet, np.uint8)
    into = np.zeros(slots * STRIDE, np.uint8)
    splitter = works.splitter(into, 32, slots, STRIDE)
    whole = read_super(source, 6, len(packet), offload)
    found = []
    for first in range(0, whole.segments, slots):
        count = min(slots, whole.segments - first)
        last = splitter.place([Portion(source, whole, first, count)])
        for index in range(count):
            at = 32 + index * STRIDE
            length = last if index == count - 1 else whole.headers + whole.size
            found.append(into[at : at + length].tobytes())
    return found


@settings(max_examples=150, deadline=None)
@given(headers, st.integers(1, 1400), st.integers(1, 9), st.integers(0, 1399), st.integers(0, 99), st.integers(1, 5))
@example({"version": 4, "tcp": True, "tos": 0, "ident": 0xFFFE, "dont_fragment": False, "sequence": 0xFFFFFFFF,
          "acknowledged": 0, "flags": "CPA", "window": 1, "options": 3, "ports": (1, 1)}, 1, 9, 0, 0, 2)  # fmt: skip
def test_segments_are_what_the_sender_would_have_sent(fields, size, full, rest, seed, slots):
    payload = octets_for(seed, full * size + min(rest, size - 1))
    packet, offload = whole_of(fields, payload, size)
    assert split_all(packet, offload, slots) == segments_of(fields, payload, size)


@pytest.mark.parametrize("version", [4, 6])
@pytest.mark.parametrize("fill", [b"\0", b"\xff", b"\xff\0"])
@pytest.mark.parametrize("tcp", [True, False])
def test_sums_at_their_limits(version, fill, tcp):
    """All zeros and all ones, in a piece as long as they come; a UDP sum of 0 goes as 65535 (RFC 768)."""
    fields = {"version": version, "tcp": tcp, "tos": 0, "ident": 0, "dont_fragment": True, "sequence": 0,
              "acknowledged": 0, "flags": "A", "window": 0, "options": 0, "ports": (1, 1)}  # fmt: skip
    payload = (fill * 62000)[:62000]
    packet, offload = whole_of(fields, payload, 1348)
    assert split_all(packet, offload) == segments_of(fields, payload, 1348)


@settings(max_examples=40, deadline=None)
@given(st.binary(max_size=120), st.builds(Offload, *[st.integers(0, 255)] * 2, *[st.integers(0, 0xFFFF)] * 4))
def test_a_word_of_the_kernel_that_does_not_fit(packet, offload):
    """Nothing but the documented error, and nothing written outside the packet."""
    source = np.zeros(400, np.uint8)
    source[10 : 10 + len(packet)] = np.frombuffer(packet, np.uint8)
    try:
        whole = read_super(source, 10, len(packet), offload)
    except Malformed:
        pass
    else:
        assert 20 < whole.headers < whole.length and whole.size
    before, after = source[:10].tobytes(), source[10 + len(packet) :].tobytes()
    try:
        finish_checksum(source.data, 10, len(packet), offload)
    except Malformed as problem:
        assert "behind" in str(problem)
    assert (source[:10].tobytes(), source[10 + len(packet) :].tobytes()) == (before, after)


@settings(max_examples=60, deadline=None)
@given(headers, st.binary(min_size=1, max_size=300))
def test_a_checksum_that_was_left_to_us(fields, payload):
    packet, offload = whole_of(fields, payload, 0)
    data = bytearray(packet)
    finish_checksum(memoryview(data), 0, len(data), offload)
    assert bytes(data) == segments_of(fields, payload, len(payload))[0]
    # And many of one length at a time, as the column says.
    many = np.zeros(5 * STRIDE, np.uint8)
    for index in range(5):
        many[index * STRIDE + 3 : index * STRIDE + 3 + len(packet)] = np.frombuffer(packet, np.uint8)
    finish_checksums(many, 3, 5, STRIDE, len(packet), offload)
    for index in range(5):
        at = index * STRIDE + 3
        assert many[at : at + len(packet)].tobytes() == bytes(data)


def test_a_packet_as_it_is_has_no_word():
    assert read_offload(bytes(10)) is None
    assert read_offload(Offload(1, 4, 72, 1328, 40, 16).octets()) == Offload(1, 4, 72, 1328, 40, 16)


def join_all(packets, stride=STRIDE, offset=16):
    """Packets of one length but for the last through the joiner: offload, octets, and how many they were."""
    octets = np.zeros(offset + len(packets) * stride + 10, np.uint8)
    for index, packet in enumerate(packets):
        at = offset + index * stride
        octets[at : at + len(packet)] = np.frombuffer(packet, np.uint8)
    joiner = works.joiner(octets, PROTOCOLS)
    run = Packets(offset, len(packets), stride, len(packets[0]), len(packets[-1]))
    found = []
    for joined in joiner.join(run):
        whole = [(run.begin(index), run.size(index)) for index in range(joined.first, joined.end)]
        each = [octets[at : at + length].tobytes() for at, length in whole]
        if joined.offload is None:
            found += [(None, data, 1) for data in each]
        else:
            data = b"".join((each[0], *map(bytes, joiner.pieces(run, joined))))
            found.append((joined.offload, data, len(each)))
    return found


def as_the_kernel_splits(offload, data):
    """The judge's own splitting of what was joined."""
    if offload is None:
        return [data]
    version = data[0] >> 4
    packet = (IP if version == 4 else IPv6)(data)
    is_tcp = TCP in packet
    transport = packet[TCP if is_tcp else UDP]
    if is_tcp:
        # The kernel verifies this sum, which follows from those of the segments.
        told = transport.chksum
        del transport.chksum
        assert told == (IP if version == 4 else IPv6)(bytes(packet))[TCP].chksum
    payload = bytes(transport.payload)
    fields = {
        "version": version,
        "tcp": is_tcp,
        "flags": str(transport.flags) if is_tcp else "",
        "ports": (transport.sport, transport.dport),
        "sequence": transport.seq if is_tcp else 0,
        "acknowledged": transport.ack if is_tcp else 0,
        "window": transport.window if is_tcp else 0,
        "options": len(transport.options) // 4 if is_tcp else 0,
        "tos": packet.tos if version == 4 else packet.tc,
        "ident": packet.id if version == 4 else 0,
        "dont_fragment": version == 4 and "DF" in str(packet.flags),
    }
    return segments_of(fields, payload, offload.size)


@settings(max_examples=150, deadline=None)
@given(headers, st.integers(1, 1400), st.integers(2, 9), st.integers(0, 1399), st.integers(0, 99))
def test_what_was_split_is_joined(fields, size, full, rest, seed):
    """In one piece but where a flag forbids it, and split again the very packets."""
    payload = octets_for(seed, full * size + min(rest, size - 1))
    segments = segments_of(fields, payload, size)
    joined = join_all(segments)
    again = [one for offload, data, _ in joined for one in as_the_kernel_splits(offload, data)]
    assert again == segments
    assert sum(count for *_, count in joined) == len(segments)
    whole = len(joined) == 1
    if fields["tcp"] and set(fields["flags"]) & set("FC"):
        assert len(joined) <= 3
    else:
        # IPv4's sums wrap once in 65536: then a piece ends there.
        assert whole or fields["version"] == 4


def test_what_is_joined_when_nothing_is_in_the_way():
    fields = {"version": 4, "tcp": True, "tos": 0, "ident": 9, "dont_fragment": True, "sequence": 77,
              "acknowledged": 5, "flags": "PA", "window": 9, "options": 3, "ports": (5001, 5201)}  # fmt: skip
    segments = segments_of(fields, octets_for(1, 45 * 1348 + 500), 1348)
    ((offload, _, count),) = join_all(segments)
    assert count == 46 and offload == Offload(0, vnet.TCP4, 52, 1348, 0, 0)
    plain = segments_of({**fields, "tcp": False}, octets_for(1, 20 * 1372), 1372)
    ((offload, data, count),) = join_all(plain)
    assert count == 20 and offload == Offload(vnet.NEEDS_CHECKSUM, vnet.UDP, 28, 1372, 20, 6)
    assert as_the_kernel_splits(offload, data) == plain


@settings(max_examples=40, deadline=None)
@given(
    st.lists(st.tuples(headers, st.integers(1, 24), st.booleans()), min_size=1, max_size=5),
    st.sampled_from([239, 240]),
    st.integers(0, 99),
    st.integers(1, 200),
)
def test_pieces_of_several_flows_one_behind_the_other(flows, length, seed, cut):
    """A burst with whatever flows, some of them going on where they left off: each piece stands for itself."""
    packets, known = [], None
    for index, (fields, number, goes_on) in enumerate(flows):
        if goes_on and known is not None:
            fields = known
        # All packets of a burst are of one length, whatever their headers take of it.
        room = length + 1 - len(segments_of(fields, b"x", 1)[0])
        packets += segments_of(fields, octets_for(seed + index, number * room), room)
        known = {
            **fields,
            "sequence": (fields["sequence"] + number * room) & 0xFFFFFFFF,
            "ident": (fields["ident"] + number) & 0xFFFF,
        }
    assert {len(packet) for packet in packets} == {length}
    for burst in (packets, [*packets, packets[-1][:-cut]]):
        joined = join_all(burst)
        again = [one for offload, data, _ in joined for one in as_the_kernel_splits(offload, data)]
        assert again == burst


def _changed(packet, at, value):
    return packet[:at] + bytes([value]) + packet[at + 1 :]


@settings(max_examples=200, deadline=None)
@given(headers, st.integers(0, 9), st.integers(0, 200), st.integers(0, 255), st.integers(0, 99))
def test_one_packet_that_is_not_like_the_others(fields, which, at, value, seed):
    """Any octet of any packet changed: what comes out are still the packets that came in, in their order.

    A TCP segment whose own sum is wrong spoils the piece that it is in, which its receiver then drops as it would have
    dropped the segment, and asks for again; nothing wrong is ever taken for right.
    """
    segments = segments_of(fields, octets_for(seed, 10 * 100), 100)
    at = min(at, len(segments[which]) - 1)
    assume(segments[which][at] != value)
    broken = [*segments]
    broken[which] = _changed(segments[which], at, value)
    transport = 20 if fields["version"] == 4 else 40
    for offload, data, count in join_all(broken):
        first, broken_here = broken[:count], which in range(count)
        broken, which = broken[count:], which - count
        if count == 1:
            assert [data] == first
        elif broken_here and fields["tcp"]:
            # Only what the sums alone protect may have been joined; and then the whole's sum is wrong.
            packet = (IP if data[0] >> 4 == 4 else IPv6)(data)
            told = packet[TCP].chksum
            del packet[TCP].chksum
            right = (IP if data[0] >> 4 == 4 else IPv6)(bytes(packet))[TCP].chksum
            assert told != right and at >= transport
        else:
            assert as_the_kernel_splits(offload, data) == first


def test_fragments_options_and_extensions_stay_as_they_are():
    """Never joined: fragments, IPv4 options, IPv6 extension headers, UDP without a sum, other protocols."""
    from scapy.layers.inet import ICMP, IPOption_NOP
    from scapy.layers.inet6 import IPv6ExtHdrHopByHop

    payload = Raw(bytes(200))
    kinds = [
        lambda i: IP(id=i, flags="MF") / UDP(sport=1, dport=2) / payload,
        lambda i: IP(id=i, frag=3) / UDP(sport=1, dport=2) / payload,
        lambda i: IP(id=i, options=[IPOption_NOP()] * 4) / TCP(seq=i * 200, flags="A") / payload,
        lambda i: IPv6() / IPv6ExtHdrHopByHop() / TCP(seq=i * 200, flags="A") / payload,
        lambda i: IP(id=i) / UDP(sport=1, dport=2, chksum=0) / payload,
        lambda i: IP(id=i) / ICMP() / payload,
        lambda i: IP(id=i) / TCP(seq=i * 200, flags="S") / payload,
        lambda i: IP(id=i) / TCP(seq=i * 200, flags="R") / payload,
        lambda i: IP(id=i) / TCP(seq=i * 200, flags="UA", urgptr=5) / payload,
    ]
    for kind in kinds:
        packets = [bytes(kind(index)) for index in range(4)]
        assert [(offload, data) for offload, data, _ in join_all(packets)] == [(None, one) for one in packets]


@settings(max_examples=60, deadline=None)
@given(st.lists(st.binary(min_size=60, max_size=60), min_size=1, max_size=12), st.integers(1, 60))
def test_a_strangers_octets_are_never_joined_wrongly(packets, last):
    packets[-1] = packets[-1][:last]
    assert b"".join(data for _, data, _ in join_all(packets)) == b"".join(packets)
