"""What a path takes: claims, searches and their results along a time line; searches on paths of any size; the probe."""

from __future__ import annotations

import asyncio
from ipaddress import ip_address

import dns.message
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scapy.layers.inet import IP, UDP
from scapy.layers.inet6 import IPv6

from zesty_burrow.carrier.data_path.path_size import AGAIN, LEAST_PATH, RAISE, STEP, PathSize, search
from zesty_burrow.carrier.network.path_probe import question

WIDEST = 1500
LOOK, FOUND, DOUBTED = "look", "found", "doubted"


@pytest.mark.parametrize(
    "line",
    [
        # Each row: the time, what happens, the size to keep to, whether a search is wanted.
        [(0, LOOK, 1500, 1500, False), (5, LOOK, 1500, 1500, False)],
        # A claim in the middle that is false: nothing is lowered, and it is looked at again only after a while.
        [
            (0, LOOK, 1500, 1500, False),
            (1, LOOK, 1300, 1500, True),
            (2, FOUND, 1500),
            (3, LOOK, 1300, 1500, False),
            (2 + AGAIN, LOOK, 1300, 1500, True),
        ],
        # Another claim is looked at at once.
        [(0, LOOK, 1500, 1500, False), (1, LOOK, 1300, 1500, True), (2, FOUND, 1500), (3, LOOK, 1290, 1500, True)],
        # A claim from before this tunnel counts until the search is done.
        [(0, LOOK, 1300, 1300, True), (1, FOUND, 1500), (1, LOOK, 1300, 1500, False)],
        # A true one: kept to; ten minutes later, when the kernel has forgotten it, a larger path is tried.
        [
            (0, LOOK, 1500, 1500, False),
            (1, LOOK, 1400, 1500, True),
            (9, FOUND, 1400),
            (9, LOOK, 1400, 1400, False),
            (8 + RAISE, LOOK, 1500, 1400, False),
            (9 + RAISE, LOOK, 1500, 1400, True),
            (10 + RAISE, FOUND, 1500),
            (10 + RAISE, LOOK, 1500, 1500, False),
        ],
        # A search that takes long: the claim counts until it is done.
        [
            (0, LOOK, 1500, 1500, False),
            (1, LOOK, 1400, 1500, True),
            (2, DOUBTED, 0),
            (2, LOOK, 1400, 1400, True),
            (9, FOUND, 1500),
            (9, LOOK, 1400, 1500, False),
        ],
        # Nobody answers: what is claimed counts, and it is not asked again for a while.
        [
            (0, LOOK, 1500, 1500, False),
            (1, LOOK, 1300, 1500, True),
            (9, FOUND, 0),
            (9, LOOK, 1300, 1300, False),
            (8 + RAISE, LOOK, 1300, 1300, False),
            (9 + RAISE, LOOK, 1300, 1300, True),
        ],
    ],
)
def test_along_a_time_line(line):
    size = PathSize()
    for now, what, value, *expected in line:
        if what == FOUND:
            size.found(value, now)
            assert not size.wants_search
        elif what == DOUBTED:
            size.doubt()
        else:
            assert [size.look(value, WIDEST, now), size.wants_search] == expected, (now, what, value)


def test_a_narrower_link_of_this_machine():
    """That is no claim: it counts at once."""
    size = PathSize()
    assert size.look(1500, 1500, 0) == 1500
    assert size.look(1380, 1380, 1) == 1380 and not size.wants_search


@given(st.lists(st.tuples(st.sampled_from([LOOK, FOUND]), st.integers(552, 1500), st.floats(0, 900)), max_size=40))
def test_never_more_than_this_machine_s_link_or_what_was_confirmed(steps):
    size, now = PathSize(), 0.0
    for what, value, wait in steps:
        now += wait
        if what == FOUND:
            size.found(value if value > LEAST_PATH else 0, now)
        else:
            kept = size.look(value, WIDEST, now)
            assert 0 < kept <= WIDEST
            assert not size.confirmed or kept <= size.confirmed


@given(st.integers(1200, 1500), st.integers(552, 1499))
def test_a_search(takes, claim):
    """Whatever is claimed: at most what the path takes, and hardly less; never many probes."""
    asked = []

    async def arrives(size):
        asked.append(size)
        return size <= takes

    found = asyncio.run(search(arrives, claim, WIDEST))
    if takes < LEAST_PATH:
        assert found == 0
    else:
        assert found <= takes and takes - found <= STEP
    assert len(asked) <= 8 and all(size <= WIDEST for size in asked)


@given(st.sampled_from([("10.66.1.10", "198.51.100.242"), ("fd66:1::a", "2001:db8:10ff::2")]), st.integers(120, 1500))
def test_the_probe_s_packet(pair, size):
    """As scapy and dnspython read it: of the size, its sums right, a padded question for a name that is nobody's."""
    own, server = map(ip_address, pair)
    octets = question(own, server, 40000, 7, size)
    assert len(octets) == size
    read = IP(octets) if own.version == 4 else IPv6(octets)
    assert (read.src, read.dst, read[UDP].sport, read[UDP].dport) == (str(own), str(server), 40000, 53)
    asked = dns.message.from_wire(bytes(read[UDP].payload))
    assert (asked.id, asked.question[0].name.to_text(), asked.edns) == (7, "path.invalid.", 0)
    sums = read[UDP].chksum
    del read[UDP].chksum
    if own.version == 4:
        head = read.chksum
        del read.chksum
        assert type(read)(bytes(read)).chksum == head
    assert type(read)(bytes(read))[UDP].chksum == sums
