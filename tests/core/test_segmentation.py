"""Splitting: every packet that comes out is the packet that the sender's stack would have sent; scapy is the judge."""

from __future__ import annotations

import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st
from scapy.layers.inet import IP, TCP, UDP
from scapy.layers.inet6 import IPv6
from scapy.packet import Raw

from zesty_burrow.core.packets import offload_header
from zesty_burrow.core.packets.offload_header import Offload, read_offload
from zesty_burrow.core.packets.segmentation import finish_checksum, packets_of, split
from zesty_burrow.errors import Malformed

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
FIELDS = {"version": 4, "tcp": True, "tos": 0, "ident": 7, "dont_fragment": True, "sequence": 5, "acknowledged": 1,
          "flags": "A", "window": 9, "options": 3, "ports": (5, 6)}  # fmt: skip


def network(fields, index=0):
    """The IP header of a segment."""
    if fields["version"] == 6:
        return IPv6(src="fd66:2::a", dst="2001:db8:b5::10", tc=fields["tos"], fl=0x12345, hlim=63)
    return IP(src="10.66.2.10", dst="203.0.113.10", tos=fields["tos"], ttl=63, id=(fields["ident"] + index) & 0xFFFF,
              flags="DF" if fields["dont_fragment"] else 0)  # fmt: skip


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
            sequence = (fields["sequence"] + index * size) & 0xFFFFFFFF
            transport = TCP(sport=source, dport=destination, seq=sequence, ack=fields["acknowledged"], flags=flags,
                            window=fields["window"], options=[("NOP", None)] * (4 * fields["options"]))  # fmt: skip
        found.append(bytes(network(fields, index) / transport / Raw(part)))
    return found


def pseudo_sum(packet, version, protocol, transport):
    """What the kernel leaves in the checksum's place."""
    addresses = packet[12:20] if version == 4 else packet[8:40]
    total = sum(int.from_bytes(addresses[at : at + 2]) for at in range(0, len(addresses), 2))
    total += protocol + len(packet) - transport
    while total >> 16:
        total = (total & 0xFFFF) + (total >> 16)
    return total


def whole_of(fields, payload, size):
    """The packet of many segments as the kernel hands it over, and what it says of it (VIRTIO 1.2 §5.1.6)."""
    packet = bytearray(segments_of(fields, payload, max(len(payload), 1))[0])
    version, transport = fields["version"], 20 if fields["version"] == 4 else 40
    field = transport + (16 if fields["tcp"] else 6)
    packet[field : field + 2] = pseudo_sum(packet, version, 6 if fields["tcp"] else 17, transport).to_bytes(2)
    kinds = {(True, 4): offload_header.TCP4, (True, 6): offload_header.TCP6}
    kind = kinds.get((fields["tcp"], version), offload_header.UDP)
    head = len(packet) - len(payload)
    return bytes(packet), Offload(offload_header.NEEDS_CHECKSUM, kind, head, size, transport, field - transport)


def what_the_machine_gets(device):
    """All packets that wait at the machine's end of a device that does not block, split as its kernel would."""
    found = []
    while True:
        try:
            got = device.recv(1 << 17)
        except BlockingIOError:
            return found
        found += as_the_kernel_splits(got[:10], got[10:])


def as_the_kernel_splits(header, packet):
    """What the kernel makes of a piece that was joined: for TCP its checksum is whole, and has to be right."""
    offload = read_offload(header)
    if offload is None or offload.kind not in (offload_header.TCP4, offload_header.TCP6):
        return packets_of(packet, offload)
    version, transport = packet[0] >> 4, 20 if packet[0] >> 4 == 4 else 40
    judged = (IP if version == 4 else IPv6)(packet)
    said = judged[TCP].chksum
    del judged[TCP].chksum
    assert (IP if version == 4 else IPv6)(bytes(judged))[TCP].chksum == said
    field = transport + 16
    partial = bytearray(packet)
    partial[field : field + 2] = pseudo_sum(packet, version, 6, transport).to_bytes(2)
    return split(bytes(partial), offload._replace(start=transport, place=16))


def octets_for(seed, length):
    import numpy as np

    return np.random.default_rng(seed).integers(0, 256, length, np.uint8).tobytes()


@settings(max_examples=150)
@given(headers, st.integers(1, 1400), st.integers(1, 9), st.integers(0, 1399), st.integers(0, 99))
@example({**FIELDS, "ident": 0xFFFE, "sequence": 0xFFFFFFFF, "flags": "CPA"}, 1, 9, 0, 0)
def test_segments_are_what_the_sender_would_have_sent(fields, size, full, rest, seed):
    payload = octets_for(seed, full * size + min(rest, size - 1))
    packet, offload = whole_of(fields, payload, size)
    assert split(packet, offload) == segments_of(fields, payload, size)


@pytest.mark.parametrize("version", [4, 6])
@pytest.mark.parametrize("fill", [b"\0", b"\xff", b"\xff\0"])
@pytest.mark.parametrize("tcp", [True, False])
def test_sums_at_their_limits(version, fill, tcp):
    """All zeros and all ones, in the longest piece; a UDP sum of 0 goes as 65535 (RFC 768)."""
    fields = {**FIELDS, "version": version, "tcp": tcp, "options": 0, "sequence": 0, "ident": 0}
    payload = (fill * 62000)[:62000]
    packet, offload = whole_of(fields, payload, 1348)
    assert split(packet, offload) == segments_of(fields, payload, 1348)


@settings(max_examples=80)
@given(st.binary(max_size=120), st.builds(Offload, *[st.integers(0, 255)] * 2, *[st.integers(0, 0xFFFF)] * 4))
def test_a_word_of_the_kernel_that_does_not_fit(packet, offload):
    """Only ``Malformed``, and what is split adds up to the payload."""
    try:
        found = packets_of(packet, read_offload(offload.octets()))
    except Malformed:
        return
    if not offload.kind:
        assert len(found) == 1 and len(found[0]) == len(packet)
    else:
        assert all(len(one) <= len(packet) for one in found)


@settings(max_examples=60)
@given(headers, st.binary(min_size=1, max_size=300))
def test_a_checksum_that_was_left_to_us(fields, payload):
    (right,) = segments_of(fields, payload, len(payload))
    transport = 20 if fields["version"] == 4 else 40
    place, protocol = (16, 6) if fields["tcp"] else (6, 17)
    partial = bytearray(right)
    at = transport + place
    partial[at : at + 2] = pseudo_sum(right, fields["version"], protocol, transport).to_bytes(2)
    offload = Offload(offload_header.NEEDS_CHECKSUM, 0, 0, 0, transport, place)
    assert finish_checksum(bytes(partial), offload) == right
    assert packets_of(bytes(partial), offload) == [right]


def test_a_packet_as_it_is_has_no_word():
    assert read_offload(bytes(10)) is None and packets_of(b"x", None) == [b"x"]
