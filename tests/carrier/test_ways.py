"""The ways to a gateway: their order, what is remembered of them, and what becomes of a damaged memory."""

from __future__ import annotations

import stat
from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zesty_burrow.carrier.network.addresses import network_key
from zesty_burrow.carrier.ways import MAX_REMEMBERED, MAX_WAYS, WhatWorked, ways_to
from zesty_burrow.core.profile import Gateway, Profile, Proxy
from zesty_burrow.protocols.ikev2.settings import IkeSettings

ANY = Profile("lisbon", Gateway(("lisbon.quillwort.example",)), settings=IkeSettings(transport="any"))
UDP = Profile("lisbon", Gateway(("lisbon.quillwort.example",)), settings=IkeSettings())
FOUR, SIX = ["192.0.2.1", "192.0.2.2"], ["2001:db8::1", "2001:db8::2"]


@pytest.mark.parametrize(
    ("addresses", "first", "found"),
    [
        (FOUR[:1], "", ["192.0.2.1 over UDP", "192.0.2.1 over TCP"]),
        (FOUR[:1], "TCP", ["192.0.2.1 over TCP", "192.0.2.1 over UDP"]),
        ([*SIX, *FOUR], "", ["2001:db8::1 over UDP", "2001:db8::1 over TCP", "192.0.2.1 over UDP", "192.0.2.1 over TCP"]),
        ([*FOUR, *SIX], "TCP", ["192.0.2.1 over TCP", "192.0.2.1 over UDP", "2001:db8::1 over TCP", "2001:db8::1 over UDP"]),
    ],
)  # fmt: skip
def test_their_order(addresses, first, found):
    """RFC 8305 §4: families in turn, beginning with that of the first address; what has worked before comes first."""
    assert [str(way) for way in ways_to(ANY, addresses, first)][: len(found)] == found


@given(st.lists(st.sampled_from(FOUR + SIX), unique=True, max_size=4), st.sampled_from(["", "UDP", "TCP"]))
def test_all_of_them(addresses, first):
    """Each address by each transport, once, up to a bound; a profile of one transport has one way to each."""
    ways = ways_to(ANY, addresses, first)
    assert len({str(way) for way in ways}) == len(ways) == min(2 * len(addresses), MAX_WAYS)
    assert [way.profile.settings.transport for way in ways_to(UDP, addresses, first)] == ["udp"] * len(addresses)


def test_what_worked(tmp_path):
    """By network, gateway and protocol; where there was no choice nothing is remembered; bounded, and nobody else's."""
    path = tmp_path / "ways.json"
    memory = WhatWorked(path)
    memory.put("here", UDP, "UDP")
    assert not path.exists()
    memory.put("here", ANY, "TCP")
    assert (memory.get("here", ANY), memory.get("there", ANY)) == ("TCP", "")
    by_name, by_address = (replace(ANY, proxy=Proxy("socks5", one, 1080)) for one in ("proxy.example", "192.0.2.53"))
    assert memory.get("here", by_name) == "", "what a proxy lets through says nothing of the network"
    memory.put("here", by_name, "UDP")
    assert (memory.get("here", by_address), memory.get("here", ANY)) == ("UDP", "TCP")
    assert stat.S_IMODE(path.stat().st_mode) == 0o600
    for number in range(MAX_REMEMBERED + 5):
        memory.put(f"network {number}", ANY, "UDP")
    assert memory.get("here", ANY) == ""
    assert memory.get(f"network {MAX_REMEMBERED + 4}", ANY) == "UDP"


@pytest.mark.parametrize("text", ["", "[]", "{", '{"here lisbon.quillwort.example ikev2": 7}', "\x00"])
def test_a_damaged_memory(tmp_path, text):
    """Nothing is known then, and it is found out again."""
    path = tmp_path / "ways.json"
    path.write_text(text)
    memory = WhatWorked(path)
    assert memory.get("here", ANY) == ""
    memory.put("here", ANY, "TCP")
    assert memory.get("here", ANY) == "TCP"
    assert WhatWorked(tmp_path / "no" / "folder").put("here", ANY, "TCP") is None
    assert WhatWorked(None).get("here", ANY) == ""


def test_a_network_by_its_name():
    """The same networks have the same name, in whatever order; the name tells nobody where they are."""
    assert network_key(["a", "b"]) == network_key(["b", "a"]) != network_key(["a"])
    assert "192" not in network_key(["192.0.2.0/24"])[:3] or len(network_key(["192.0.2.0/24"])) == 24
