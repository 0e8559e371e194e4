"""The fast path is checked against the plain one: whatever comes, both give the same packets and count the same."""

from __future__ import annotations

import random
import subprocess
import sys
import textwrap

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scapy.layers.inet import IP, TCP, UDP
from scapy.layers.inet6 import IPv6
from scapy.packet import Raw

from carrier.ends import ALL, HERE, NOBODY, ONLY_HERE, PATHS, THERE, Ends
from carrier.test_both_paths import datagram, left_to_us
from core.test_segmentation import FIELDS, as_the_kernel_splits, headers, octets_for, segments_of, whole_of
from rotation import on_day
from zesty_burrow.carrier.data_path.options import PathOptions
from zesty_burrow.core.packets.offload_header import NOTHING

kinds = st.sampled_from(["plain", "tcp", "elsewhere", "six", "short", "partial", "piece", "long"])
steps = st.lists(st.tuples(kinds, st.integers(1, 70), st.integers(0, 600), st.integers(0, 3)), min_size=1, max_size=7)


def outbound(kind, size, seed, mark):
    """A packet that the machine sends, and what the kernel says of it."""
    data = Raw(octets_for(seed, size))
    match kind:
        case "plain":
            return bytes(IP(src=HERE, dst=THERE, tos=mark, id=seed & 0xFFFF) / UDP(sport=5, dport=6) / data)
        case "tcp":
            return bytes(IP(src=HERE, dst=THERE) / TCP(sport=5, dport=6, flags="S", options=[("MSS", 1460)]) / data)
        case "elsewhere":
            return bytes(IP(src=NOBODY, dst=THERE) / UDP(sport=5, dport=6) / data)
        case "six":
            return bytes(IPv6(src="fd66:1::a", dst="2001:db8::1", tc=mark) / UDP(sport=5, dport=6) / data)
        case "short":
            return octets_for(seed, size % 40 + 1)
        case "partial":
            return left_to_us(IP(src=HERE, dst=THERE, tos=mark) / UDP(sport=5, dport=6) / data, 17)
        case "piece":
            return whole_of({**FIELDS, "flags": "PA", "tcp": bool(seed & 1)}, octets_for(seed, 4000), 900)
    return bytes(IP(src=HERE, dst=THERE, flags="DF" if mark else 0) / UDP(sport=5, dport=6) / Raw(bytes(1390)))


def counted(one):
    """Everything that is counted."""
    return one.channel.counters, one.path.dropped, one.path.unknown


@settings(max_examples=20)
@given(steps, st.booleans(), st.booleans())
def test_the_same_goes_out(script, everybody, clamp):
    """In the same order under the same numbers; what is dropped and what is reported to senders is the same too."""
    found = []
    for way in PATHS:
        one = Ends(way, PathOptions(None, clamp), local=ALL if everybody else ONLY_HERE)
        one.tunnel.limit = 1380
        one.path.refresh()
        told = []
        for kind, count, seed, mark in script:
            packets = [outbound(kind, 30 + seed, seed + 7 * index * (mark > 2), mark % 3) for index in range(count)]
            told.append(one.out(*packets[: 60 if kind != "piece" else 9]))
        found.append((told, [packet for _, packet in one.read()], counted(one), one.opens.state.rejected))
        one.close()
    assert found[0] == found[1] and found[0][3] == 0


mischief = st.lists(
    st.tuples(st.sampled_from(["forge", "repeat", "drop", "swap", "cut", "foreign", "leap"]), st.integers(0, 99)),
    max_size=5,
)


def arrivals(one, flows):
    """What the peer sends: sealed segments, packets for us and for others, of both families."""
    sealed = []
    for kind, count, seed, mark in flows:
        if kind == "piece":
            fields = {**FIELDS, "tcp": bool(seed & 1), "sequence": seed}
            packets = segments_of(fields, octets_for(seed, count * 90), 90)
        elif kind == "short":
            # Authentic, but no IP packet.
            packets = [octets_for(seed, 30 + seed)] * count
        else:
            to = NOBODY if kind == "elsewhere" else HERE
            head = IPv6(src="2001:db8::1", dst="fd66:1::a") if kind == "six" else IP(src=THERE, dst=to, tos=mark)
            packets = [bytes(head / UDP(sport=5, dport=6) / Raw(octets_for(seed, 30 + seed)))] * count
        sealed += [one.seals.seal(packet) for packet in packets]
    return sealed


def do_mischief(one, sealed, wrongs):
    for what, where in wrongs:
        at = where % len(sealed) if sealed else 0
        if what == "leap":
            one.seals.state.sequence += where * 40
            sealed.append(one.seals.seal(datagram(60, THERE, HERE)))
        elif not sealed:
            break
        elif what == "forge":
            sealed[at] = sealed[at][:-1] + bytes([sealed[at][-1] ^ 1])
        elif what == "repeat":
            sealed.insert(at, sealed[at // 2])
        elif what == "drop":
            del sealed[at]
        elif what == "swap":
            sealed[at], sealed[0] = sealed[0], sealed[at]
        elif what == "cut":
            sealed[at] = sealed[at][: where % 60]
        else:
            sealed.insert(at, b"\0\0\0\0" + sealed[at][4:])
    return sealed


@settings(max_examples=70)
@given(steps, mischief, st.booleans(), st.sampled_from([0, 0, 0, 1, 3]), st.booleans())
def test_the_same_comes_in(flows, wrongs, everybody, mark, extended):
    """With whatever went wrong on the way: the same packets for the machine, the same counters, the same window."""
    found = []
    for way in PATHS:
        one = Ends(way, local=ALL if everybody else ONLY_HERE, extended=extended)
        sealed = do_mischief(one, arrivals(one, flows), wrongs)
        others, packets = [], []
        for begin in range(0, len(sealed), 40):
            left, read = one.come(sealed[begin : begin + 40], mark)
            others += left
            packets += [packet for header, data in read for packet in as_the_kernel_splits(header, data)]
        window = one.channel.current.inbound.window
        seen = [window.check(number) for number in range(one.seals.state.sequence + 20)]
        found.append((packets, others, counted(one), seen))
        one.close()
    assert found[0] == found[1]


@settings(max_examples=60)
@given(headers, st.integers(1, 1340), st.integers(2, 40), st.integers(0, 1339), st.integers(0, 99))
def test_what_was_split_is_joined_again(fields, size, full, rest, seed):
    """Segments of one flow: the kernel, which splits what it is handed in one piece, gets the very same packets."""
    one = Ends("fast", mtu=1500, local=ALL)
    size = min(size, 1340 - 40)
    segments = segments_of(fields, octets_for(seed, min(full * size + min(rest, size - 1), 30_000)), size)
    segments = [packet for packet in segments if len(packet) <= 1400]
    _, read = one.come([one.seals.seal(packet) for packet in segments])
    assert [packet for header, data in read for packet in as_the_kernel_splits(header, data)] == segments
    one.close()


def test_a_stream_is_handed_over_in_few_pieces():
    """Twenty segments of one connection come as one piece, where the socket has them in one burst."""
    one = Ends("fast", mtu=1500, local=ALL)
    segments = segments_of(FIELDS, octets_for(1, 20 * 1000), 1000)
    sealed = b"".join(one.seals.seal(packet) for packet in segments)
    size = len(sealed) // 20
    one.peer.channel.sendmsg([sealed], [(17, 103, size.to_bytes(2, "little"))], 0, one.port.channel.getsockname())
    ((header, data),) = one.come([])[1]
    assert as_the_kernel_splits(header, data) == segments
    one.close()


def scraps(dice, one):
    """What a stranger, a peer that has lost its mind, and the network make of datagrams."""
    found = []
    for _ in range(dice.randint(1, 50)):
        inner = dice.choice([datagram(300, THERE, HERE), dice.randbytes(300), b"\x45" + dice.randbytes(dice.randint(0, 60)),
                             b"\x60" + dice.randbytes(dice.randint(0, 60))])  # fmt: skip
        kind = dice.random()
        if kind < 0.4:
            data = bytearray(one.seals.seal(inner))
        elif kind < 0.7:
            number = one.seals.state.sequence + dice.randint(0, 3)
            label = one.seals.spi.to_bytes(4)
            data = bytearray(label + number.to_bytes(4) + dice.randbytes(dice.choice([0, 26, 40, 400])))
        else:
            data = bytearray(dice.randbytes(dice.choice([1, 8, 34, 100, 1400])))
        if dice.random() < 0.2:
            data[dice.randrange(len(data))] ^= 1 << dice.randrange(8)
        found.append(bytes(data))
    return found


def frames(dice):
    """What a device says that has lost its mind."""
    for _ in range(dice.randint(1, 8)):
        said = [dice.randint(0, 3), dice.choice([0, 1, 4, 5, 0x81]), dice.randint(0, 255), 0, dice.randint(0, 255),
                dice.randint(0, 6), dice.choice([20, 40, 24, 255]), 0, dice.choice([6, 16, 255]), 0]  # fmt: skip
        packet = dice.choice([datagram(), datagram()[:20] + dice.randbytes(dice.randint(0, 3000)), dice.randbytes(900)])
        yield dice.choice([NOTHING, bytes(said), dice.randbytes(10)]) + packet


@pytest.mark.parametrize("by", PATHS)
@pytest.mark.parametrize("seed", range(5))
def test_whatever_comes(by, seed):
    """From strangers, the peer and the device: nothing is raised, and what is right still goes both ways."""
    dice = random.Random(seed)
    options = PathOptions(dice.choice([None, 0]), dice.random() < 0.5)
    one = Ends(by, options, mtu=dice.choice([1280, 1400, 1500]), local=ALL)
    for _ in range(40):
        one.come(scraps(dice, one), dice.choice([0, 0, 0, 1, 2, 3, 0xB8]))
        for frame in frames(dice):
            one.machine.send(frame)
        one.out()
        one.read()
    inner = datagram(90, THERE, HERE)
    assert inner in [packet for _, packet in one.come([one.seals.seal(inner)])[1]]
    assert one.out(datagram(90)) == [datagram(90)]
    one.close()


GUARDED = """
    import ctypes, mmap, random, sys
    import numpy as np
    from numba import njit
    from zesty_burrow.carrier.fast_path.loops import device, esp, inner, join, records
    from zesty_burrow.carrier.fast_path.symbols import Context

    @njit
    def look(octets, begin, total, size, state, tables, receiving):
        count = (total + size - 1) // size
        for index in range(count):
            own = receiving.lengths[index]
            if own > 0:
                at, width = inner.addresses_at(octets, begin + index * size, own)
                if width:
                    inner.allowed(octets, at, at + width, width, tables.inbound[0], tables.ranges)
                    inner.take_congestion(octets, begin + index * size, own, 3)
                inner.clamp(octets, begin + index * size, own, 1300)
        found = join.join_all(octets, begin, size, count, receiving.lengths, True, True, receiving.joined)
        device.write_joined(state, receiving, found, begin, size)
        for index in range(count):
            own = min(size, total - index * size)
            esp.unseal(tables.inbound[0], tables.inbound_states[0], octets, begin + index * size, own, receiving.scratch)
        return found

    page = mmap.PAGESIZE
    room = mmap.mmap(-1, 3 * page)
    address = ctypes.addressof(ctypes.c_char.from_buffer(room))
    assert ctypes.CDLL(None).mprotect(ctypes.c_void_p(address + 2 * page), page, 0) == 0
    octets = np.frombuffer(room, np.uint8)[: 2 * page]
    chance = random.Random(5)
    context = Context("AES-256-GCM", bytes(32), sealing=False)
    tables = records.Tables(*(np.zeros(1, one) for one in (
        records.INBOUND_SA, records.INBOUND_STATE, records.OUTBOUND_SA, records.OUTBOUND_STATE, records.RANGE)))
    tables.inbound["context"], tables.inbound["range_end"], tables.ranges["version"] = context.address, 1, 4
    states = np.zeros(1, records.STATE)
    states["device"], states["header"] = -1, 10
    receiving = records.Receiving(octets, np.zeros(300, np.int64), np.zeros((301, join.ROW), np.int64),
                                  np.zeros((300, 2), np.int64), np.zeros(64, np.uint8))
    lengths = receiving.lengths
    heads = [bytes.fromhex(one) for one in (
        "450000540001400040110000cb00710a0a42010a", "450000540001400040060000cb00710a0a42010a",
        "6000000000000640" + "20010db8" * 8, "6000000000001140" + "20010db8" * 8, "4f", "6f", "")]
    done = 0
    for turn in range(int(sys.argv[1])):
        size = chance.choice([1, 2, 19, 20, 27, 28, 33, 34, 39, 40, 47, 48, 60, 61, 84, 120, 400, 1400])
        total = min(size * chance.randint(1, 40), 2 * page - 64)
        begin = 2 * page - total
        octets[begin:] = np.frombuffer(chance.randbytes(total), np.uint8)
        good = size > 41 and chance.random() < 0.5
        for index, at in enumerate(range(begin, 2 * page, size)):
            if good and at + 40 < 2 * page:
                head = bytes.fromhex("45000000000140004006000001010101020202020001000200000000000000015010ffff00000000")
                octets[at : at + 40] = np.frombuffer(head, np.uint8)
                whole, number = min(size, 2 * page - at), index * (size - 40)
                octets[at + 2 : at + 4] = whole >> 8, whole & 255
                octets[at + 24 : at + 28] = np.frombuffer(number.to_bytes(4), np.uint8)
                words = int(octets[at : at + 20].astype(np.int64) @ np.array([256, 1] * 10))
                words = (words & 65535) + (words >> 16)
                octets[at + 10 : at + 12] = (65535 - words) >> 8, (65535 - words) & 255
                continue
            head = chance.choice(heads[: chance.randint(1, 7)])[: 2 * page - at][:size]
            octets[at : at + len(head)] = np.frombuffer(head, np.uint8)
        if good and chance.random() < 0.5:
            octets[chance.randrange(begin, 2 * page)] ^= 1 << chance.randrange(8)
        count = -(-total // size)
        lengths[:count] = size
        lengths[count - 1] = total - (count - 1) * size
        for index in range(count):
            if chance.random() < 0.1:
                lengths[index] = chance.choice([-2, -1, 0, 1, min(20, lengths[index])])
        found = look(octets, begin, total, size, states[0], tables, receiving)
        done += int((receiving.joined[:found, 3] > 0).sum())
    print("joined", done)
"""


@on_day(1, 3)
@pytest.mark.parametrize("turns", [1000, pytest.param(8000, marks=pytest.mark.soak)])
def test_nothing_is_touched_behind_a_buffer_s_end(turns):
    """Packets whose headers lie, up to the last octet before a page that nobody may touch."""
    words = [sys.executable, "-c", textwrap.dedent(GUARDED), str(turns)]
    ended = subprocess.run(words, capture_output=True, text=True, timeout=300)
    assert ended.returncode == 0, ended.stderr[-2000:]
    assert int(ended.stdout.split()[1]) > turns // 10
