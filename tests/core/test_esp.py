"""ESP: the replay window, padding, and what is dropped (RFC 4303)."""

from __future__ import annotations

import ipaddress

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zesty_burrow.core.crypto.protection import make_protection
from zesty_burrow.core.esp.replay import ReplayWindow
from zesty_burrow.core.esp.sa import LAST_SEQUENCE, InboundSa, OutboundSa
from zesty_burrow.core.net import AddressRange, covers, intersect
from zesty_burrow.errors import Malformed, StateError

IPV4 = bytes([0x45, 0, 0, 24, 0, 0, 0, 0, 64, 17, 0, 0, 10, 66, 1, 10, 203, 0, 113, 10]) + b"data"
IPV6 = bytes([0x60, 0, 0, 0, 0, 4, 59, 64]) + bytes(15) + b"\x01" + bytes(15) + b"\x02" + b"data"


def both(kind="gcm"):
    if kind == "gcm":
        return OutboundSa(300, make_protection(20, b"k" * 36, b"", bytes)), InboundSa(
            300, make_protection(20, b"k" * 36, b"", bytes)
        )
    make = lambda: make_protection(12, b"k" * 16, b"i" * 32, lambda size: b"v" * size, 12)  # noqa: E731
    return OutboundSa(300, make()), InboundSa(300, make())


class SlowWindow:
    """The rule of RFC 4303 §3.4.3 in its plainest form, to compare with."""

    def __init__(self, size):
        self.size, self.highest, self.seen = size, 0, set()

    def check(self, number):
        return number > 0 and number not in self.seen and number > self.highest - self.size

    def accept(self, number):
        self.seen.add(number)
        self.highest = max(self.highest, number)


@given(st.lists(st.integers(0, 90), max_size=120), st.integers(1, 40))
def test_the_window_equals_the_plain_rule(numbers, size):
    """Any order of numbers: taken exactly once, and never when older than the window."""
    fast, slow = ReplayWindow(size), SlowWindow(size)
    for number in numbers:
        assert fast.check(number) == slow.check(number)
        if slow.check(number):
            fast.accept(number)
            slow.accept(number)


def test_a_leap_to_the_last_number_costs_nothing():
    """A number four thousand million ahead empties the window at once."""
    window = ReplayWindow()
    window.accept(5)
    window.accept(LAST_SEQUENCE)
    assert not window.check(5)
    assert window.check(LAST_SEQUENCE - 1)
    assert not window.check(LAST_SEQUENCE)


@pytest.mark.parametrize("kind", ["gcm", "cbc"])
@given(tail=st.binary(max_size=100), family=st.sampled_from([IPV4, IPV6]))
def test_what_goes_in_comes_out(kind, tail, family):
    """Every length, both families: the packet comes out, the sealed part ends on its boundary (RFC 4303 §2.4)."""
    outbound, inbound = both(kind)
    sealed = outbound.seal(family + tail)
    assert inbound.open(sealed) == family + tail
    overhead = 8 + 16 + (8 if kind == "gcm" else 16)
    assert (len(sealed) - overhead) % (4 if kind == "gcm" else 16) == 0
    with pytest.raises(Malformed, match="came before"):
        inbound.open(sealed)


@pytest.mark.parametrize("kind", ["gcm", "cbc"])
@given(position=st.integers(0, 500), flip=st.integers(1, 255))
def test_one_changed_octet_costs_only_itself(kind, position, flip):
    """A forged packet is dropped and leaves the window as it was; the real one still comes through."""
    outbound, inbound = both(kind)
    sealed = outbound.seal(IPV4)
    forged = bytearray(sealed)
    forged[position % len(sealed)] ^= flip
    with pytest.raises(Malformed):
        inbound.open(bytes(forged))
    assert inbound.state.rejected == 1
    assert inbound.open(sealed) == IPV4


@given(st.binary(max_size=120))
def test_strangers_octets(data):
    """Arbitrary octets raise only ``Malformed``."""
    for kind in ("gcm", "cbc"):
        _, inbound = both(kind)
        for octets in (data, (300).to_bytes(4) + (1).to_bytes(4) + data):
            with pytest.raises(Malformed):
                inbound.open(octets)


def test_numbers_are_never_used_twice():
    """RFC 4303 §3.3.3: at the last number the SA refuses to seal instead of starting again."""
    outbound, _ = both()
    outbound.state.sequence = LAST_SEQUENCE - 1
    outbound.seal(IPV4)
    with pytest.raises(StateError, match="used up"):
        outbound.seal(IPV4)


def test_content_must_fit_its_next_header():
    """RFC 4303 §2.6: dummy packets give nothing; an IPv6 packet announced as IPv4 is refused."""
    protection = make_protection(20, b"k" * 36, b"", bytes)
    _, inbound = both()
    for number, (content, expected) in enumerate(
        [(b"\x01\x02\x02\x3b", b""), (IPV6 + b"\x00\x04", None), (b"\xff\x04", None), (b"\x00\x04", None)], start=1
    ):
        header = (300).to_bytes(4) + number.to_bytes(4)
        sealed = header + protection.seal(header, content)
        if expected is None:
            with pytest.raises(Malformed):
                inbound.open(sealed)
        else:
            assert inbound.open(sealed) == expected


ranges = st.tuples(st.binary(min_size=1, max_size=1), st.binary(min_size=1, max_size=1)).map(
    lambda pair: AddressRange(bytes(3) + min(pair), bytes(3) + max(pair))
)


@given(st.lists(ranges, max_size=4), st.lists(ranges, max_size=4), st.integers(0, 255))
def test_narrowing(wanted, allowed, last):
    """RFC 7296 §2.9: an address is in the intersection exactly if it is in both."""
    address = bytes(3) + bytes([last])
    inside = any(address in entry for entry in intersect(wanted, allowed))
    assert inside == (any(address in one for one in wanted) and any(address in one for one in allowed))


@given(st.lists(ranges, max_size=6), st.integers(24, 32), st.integers(0, 255))
def test_what_ranges_cover(given, length, last):
    """A network is covered exactly if each of its addresses is in a range; ranges of the other family do not count."""
    network = ipaddress.ip_network(f"0.0.0.{last}/{length}", strict=False)
    each = all(any(address.packed in one for one in given) for address in network)
    other = AddressRange(bytes(16), b"\xff" * 16)
    assert covers([*given, other], network) == each


def test_ranges_up_to_the_last_address():
    """Both halves together are everything."""
    halves = [AddressRange(b"\x80" + bytes(3), b"\xff" * 4), AddressRange(bytes(4), b"\x7f\xff\xff\xff")]
    assert covers(halves, ipaddress.ip_network("0.0.0.0/0"))
    assert not covers(halves[:1], ipaddress.ip_network("0.0.0.0/0"))


# Extended sequence numbers (RFC 4303 §2.2.1, appendix A).


def extended(kind, sequence=0):
    """Both ends, the sender having sent that many and the receiver having seen the last of them."""
    out, into = both(kind)
    out.extended = into.extended = True
    out.state.sequence = sequence
    into.state.highest = sequence
    return out, into


@pytest.mark.parametrize("kind", ["gcm", "cbc"])
@pytest.mark.parametrize("start", [0, 1, 1020, (1 << 32) - 3, (1 << 32) - 1, (1 << 32), (5 << 32) - 500, (1 << 63) + 7])
def test_numbers_of_64_bits(kind, start):
    """Across any multiple of 2^32, in order and out of order; every packet once."""
    out, into = extended(kind, start)
    sealed = [out.seal(IPV4) for _ in range(6)]
    assert [int.from_bytes(one[4:8]) for one in sealed] == [(start + number) & LAST_SEQUENCE for number in range(1, 7)]
    for number in (2, 0, 1, 5, 3, 4):
        assert into.open(sealed[number]) == IPV4
    for one in sealed:
        with pytest.raises(Malformed, match="came before"):
            into.open(one)
    assert into.window.highest == start + 6


@given(
    st.integers(0, 1 << 62), st.lists(st.integers(1, 1 << 30), max_size=30), st.lists(st.integers(0, 900), max_size=30)
)
def test_the_high_half_is_found(start, leaps, behind):
    """RFC 4303 §A2: whatever is lost (less than 2^31 in a row) or late within the window, the whole number is right."""
    window = ReplayWindow()
    window.state.highest = start
    for leap in leaps:
        number = window.highest + leap
        assert window.whole_number(number & LAST_SEQUENCE) == number
        window.accept(number)
    for late in behind:
        number = window.highest - late
        if number > 0:
            assert window.whole_number(number & LAST_SEQUENCE) == number


@pytest.mark.parametrize("kind", ["gcm", "cbc"])
def test_the_high_half_is_authenticated(kind):
    """A packet of another epoch with the same lower half does not open; nor one without extended numbers."""
    out, into = extended(kind, 7)
    other = extended(kind, (1 << 32) + 7)[0]
    with pytest.raises(Malformed):
        into.open(other.seal(IPV4))
    plain = both(kind)[0]
    plain.state.sequence = 7
    opened = into.open(out.seal(IPV4))
    assert opened == IPV4
    later = extended(kind, 3 << 32)[1]
    with pytest.raises(Malformed):
        later.open(plain.seal(IPV4))


def test_the_last_number_of_all():
    out, _ = extended("gcm", (1 << 64) - 2)
    out.seal(IPV4)
    with pytest.raises(StateError, match="used up"):
        out.seal(IPV4)
    short, _ = both()
    short.state.sequence = LAST_SEQUENCE
    with pytest.raises(StateError, match="used up"):
        short.seal(IPV4)
