"""Batches of ESP packets: the same octets as one by one, and every packet stands for itself (RFC 4303)."""

from __future__ import annotations

import random

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scapy.layers.inet import IP, UDP
from scapy.layers.inet6 import IPv6
from scapy.layers.ipsec import ESP, SecurityAssociation
from scapy.packet import Raw

from zesty_burrow.core.compiled.works import COMPILED
from zesty_burrow.core.esp.association import LAST_EXTENDED, LAST_SEQUENCE, InboundSa, OutboundSa, largest_inner
from zesty_burrow.core.esp.batch import Run
from zesty_burrow.core.esp.replay import ReplayWindow
from zesty_burrow.core.esp.slots import Slots
from zesty_burrow.core.protection import make_protection
from zesty_burrow.core.works import COLUMNS
from zesty_burrow.errors import StateError

KEYS = {"gcm": (20, 36, 0), "chacha": (28, 36, 0), "gcm-12": (19, 36, 0), "ccm": (16, 19, 0), "cbc": (12, 32, 12)}
SPI = 0x8123_4567

works = COLUMNS


@pytest.fixture(autouse=True, scope="module", params=[COLUMNS, COMPILED], ids=["columns", "compiled"])
def each_way(request):
    """All of this by columns and by compiled loops."""
    global works
    works = request.param


def protection(kind, made=iter(range(1 << 20))):
    number, size, integrity = KEYS[kind]
    return make_protection(number, b"k" * size, b"i" * 32, lambda count: next(made).to_bytes(count), integrity)


def both(kind="gcm", *, extended=False, numbers=0):
    """A pair of SAs whose numbers have come so far."""
    outbound = OutboundSa(SPI, protection(kind), extended=extended)
    inbound = InboundSa(SPI, protection(kind), extended=extended)
    outbound.sequence = numbers
    if numbers:
        inbound.window.accept(numbers)
    return outbound, inbound


def packets(lengths, version=4, seed=0):
    octets = random.Random(seed)
    first = bytes([version << 4 | 5])
    return [first + octets.randbytes(length - 1) for length in lengths]


def runs_of(inner):
    runs = []
    for packet in inner:
        version = packet[0] >> 4
        if runs and runs[-1][1:] == (len(packet), version):
            runs[-1] = Run(runs[-1].number + 1, len(packet), version)
        else:
            runs.append(Run(1, len(packet), version))
    return runs


def seal(outbound, inner, first=0, slots=None):
    slots = slots or Slots(256, 1500)
    for index, packet in enumerate(inner):
        at = slots.packet(first + index)
        slots.view[at : at + len(packet)] = packet
    return [bytes(one) for one in works.sealer(slots).seal(outbound, first, runs_of(inner))]


def open_all(inbound, sealed, start=0):
    """Datagrams of one length but for the last, as they lie in a receive buffer."""
    octets = np.zeros(start + sum(map(len, sealed)) + 70000, np.uint8)
    data = b"".join(sealed)
    octets[start : start + len(data)] = np.frombuffer(data, np.uint8)
    opened = works.opener(octets).open(inbound, start, len(data), len(sealed[0]))
    return [octets[at : at + length].tobytes() for at, length in zip(opened.places, opened.lengths, strict=True)]


lengths = st.lists(st.integers(20, 1500), min_size=1, max_size=12)


@pytest.mark.parametrize("kind", KEYS)
@settings(max_examples=25, deadline=None)
@given(lengths, st.sampled_from([4, 6]), st.booleans(), st.integers(0, 5))
def test_the_same_octets_as_one_by_one(kind, sizes, version, extended, first):
    """And the plain way opens them; counters and sequence numbers agree too."""
    inner = packets([*sizes, *sizes[:1] * 5], version)
    here, there = both(kind, extended=extended, numbers=7)
    plain, _ = both(kind, extended=extended, numbers=7)
    sealed = seal(here, inner, first)
    expected = [plain.seal(packet) for packet in inner]
    if kind != "cbc":
        assert sealed == expected
    assert [there.open(one) for one in sealed] == inner
    assert (here.sequence, here.octets, here.counters) == (plain.sequence, plain.octets, plain.counters)


@pytest.mark.parametrize("kind", KEYS)
@settings(max_examples=25, deadline=None)
@given(st.integers(20, 1500), st.integers(1, 150), st.integers(20, 1500), st.booleans(), st.integers(0, 40))
def test_opened_as_they_came(kind, size, count, last, extended, start):
    inner = packets([size] * count + [min(last, size)])
    here, there = both(kind, extended=extended)
    sealed = [here.seal(packet) for packet in inner]
    assert open_all(there, sealed, start) == inner
    assert (there.counters.packets, there.counters.rejected) == (count + 1, 0)
    assert there.counters.octets == sum(map(len, inner))
    assert open_all(there, sealed) == [] and there.counters.rejected == count + 1


@settings(max_examples=150, deadline=None)
@given(st.data(), st.sampled_from(["gcm", "chacha", "cbc"]), st.booleans())
def test_each_packet_costs_only_itself(data, kind, extended):
    """Forged, cut to another's length, repeated, delayed, swapped, and too old, in any mixture."""
    inner = packets([200] * 40)
    here, there = both(kind, extended=extended)
    sealed = [here.seal(packet) for packet in inner]
    order = data.draw(st.lists(st.integers(0, 39), min_size=4, max_size=90))
    forged = data.draw(st.sets(st.integers(0, len(order) - 1), max_size=6))
    came = []
    for place, index in enumerate(order):
        octets = bytearray(sealed[index])
        if place in forged:
            octets[data.draw(st.integers(4, len(octets) - 1))] ^= 1 << data.draw(st.integers(0, 7))
        came.append(bytes(octets))
    seen: list[int] = []
    for place, index in enumerate(order):
        if place not in forged and index not in seen:
            seen.append(index)
    assert open_all(there, came) == [inner[index] for index in seen]
    assert there.counters.packets == len(seen)
    assert there.counters.rejected == len(order) - len(seen)


def test_a_window_of_a_thousand():
    """RFC 4303 §3.4.3: what is late by less than the window is taken, what is later is not."""
    here, there = both()
    sealed = [here.seal(packet) for packet in packets([100] * 1100)]
    early, late, rest = sealed[:70], sealed[80:90], sealed[90:]
    for begin in range(0, len(rest), 100):
        open_all(there, rest[begin : begin + 100])
    assert there.window.size == 1024
    assert len(open_all(there, late)) == 10
    # Number 76 is the last of the 1024; 1 to 70 are too old.
    assert open_all(there, early) == [] and len(open_all(there, sealed[70:80])) == 4


@given(st.lists(st.tuples(st.integers(1, 60), st.integers(1, 70)), max_size=30), st.integers(1, 50))
def test_a_run_is_the_same_as_its_numbers(leaps, size):
    fast, slow = ReplayWindow(size), ReplayWindow(size)
    for leap, count in leaps:
        first = fast.highest + leap
        fast.accept_run(first, count)
        for number in range(first, first + count):
            assert slow.take(number)
        low = max(fast.highest - size - 3, 0)
        assert [fast.check(one) for one in range(low, fast.highest + 3)] == [
            slow.check(one) for one in range(low, slow.highest + 3)
        ]


@pytest.mark.parametrize("short_of", [1, 3, 20, 64])
def test_sequence_numbers_over_2_to_the_32(short_of):
    """RFC 4303 §2.2.1: with extended numbers the count goes on over the boundary, in the middle of a batch."""
    inner = packets([300] * 40)
    here, there = both(extended=True, numbers=LAST_SEQUENCE - short_of)
    sealed = seal(here, inner)
    assert open_all(there, sealed) == inner
    assert there.window.highest == here.sequence == LAST_SEQUENCE - short_of + 40
    assert int.from_bytes(sealed[-1][4:8]) == here.sequence & LAST_SEQUENCE


@pytest.mark.parametrize("extended", [False, True])
def test_numbers_are_used_up_and_never_again(extended):
    """Not one packet of a batch goes that has no number left: nothing is sealed, nothing is counted."""
    last = LAST_EXTENDED if extended else LAST_SEQUENCE
    here, _ = both(extended=extended)
    here.sequence = last - 10
    with pytest.raises(StateError, match="used up"):
        seal(here, packets([100] * 11))
    assert here.sequence == last - 10 and here.counters.packets == 0
    assert len(seal(here, packets([100] * 10))) == 10


@settings(max_examples=30, deadline=None)
@given(st.lists(st.integers(1, 30), min_size=1, max_size=20))
def test_no_nonce_twice(counts):
    """Batches and single packets under one key, mixed as they come."""
    here, _ = both()
    ivs = [one[8:16] for count in counts for one in seal(here, packets([60] * count))]
    assert len(set(ivs)) == len(ivs) == sum(counts)


def test_a_dummy_packet_and_a_malformed_one_among_others():
    """RFC 4303 §2.6: next header 59 is taken and dropped; an inner packet of the wrong version is turned away."""
    inner = packets([100] * 8)
    here, there = both()
    sealed = [here.seal(packet) for packet in inner]

    def with_plaintext(number, plaintext):
        made = protection("gcm")
        made._counter = 1000 + number
        head = SPI.to_bytes(4) + number.to_bytes(4)
        return head + made.seal(head, plaintext)

    body = inner[0] + b"\1\2\2"
    sealed[2] = with_plaintext(3, bytes(102) + bytes((0, 59)))
    sealed[4] = with_plaintext(5, body[:100] + b"\1\2" + bytes((2, 41)))
    sealed[6] = with_plaintext(7, body[:100] + b"\1\2" + bytes((255, 4)))
    assert {len(one) for one in sealed} == {len(sealed[0])}
    assert open_all(there, sealed) == [inner[index] for index in (0, 1, 3, 5, 7)]
    assert (there.counters.packets, there.counters.rejected) == (6, 2)


@settings(max_examples=60, deadline=None)
@given(st.binary(max_size=4000), st.integers(1, 300))
def test_a_strangers_octets(data, size):
    """Nothing comes out, nothing is accepted, everything is counted."""
    _, there = both()
    octets = np.zeros(70000, np.uint8)
    octets[: len(data)] = np.frombuffer(data, np.uint8)
    opened = works.opener(octets).open(there, 0, len(data), size)
    assert opened.places == [] and opened.authentic == 0
    assert there.counters.rejected == -(-len(data) // size) and there.window.highest == 0


@pytest.mark.parametrize("version", [4, 6])
@pytest.mark.parametrize(("kind", "name"), [("gcm", "AES-GCM"), ("chacha", "CHACHA20-POLY1305"), ("cbc", "AES-CBC")])
def test_an_independent_library_opens_what_a_batch_seals(kind, name, version):
    keys = {"crypt_key": b"k" * KEYS[kind][1]}
    if kind == "cbc":
        keys.update(auth_algo="SHA2-256-128", auth_key=b"i" * 32)
    outer = IP(src="192.0.2.77", dst="198.51.100.18")
    judge = SecurityAssociation(ESP, spi=SPI, crypt_algo=name, tunnel_header=outer, **keys)
    head = IP(src="10.66.1.10", dst="203.0.113.10") if version == 4 else IPv6(src="fd66:1::a", dst="2001:db8::1")
    inner = [bytes(head / UDP(sport=7, dport=9) / Raw(bytes([index]) * 500)) for index in range(20)]
    here, _ = both(kind)
    for one, packet in zip(seal(here, inner), inner, strict=True):
        assert bytes(judge.decrypt(outer / ESP(one))) == packet


@given(st.integers(100, 9000), st.sampled_from(sorted(KEYS)))
def test_the_longest_inner_packet_fits_exactly(room, kind):
    """One octet more would not."""
    made = protection(kind)
    longest = largest_inner(room, made)
    sealed = [len(OutboundSa(SPI, made).seal(packet)) for packet in packets([longest, longest + 1])]
    assert sealed[0] <= room < sealed[1]
