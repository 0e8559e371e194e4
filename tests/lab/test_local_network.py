"""The lab's local networks: what their router sends, with scapy as judge of the octets, and what it does to a machine."""

from __future__ import annotations

import random
import sys
from ipaddress import IPv4Address, IPv4Network, IPv6Address, IPv6Network

import pytest
from hypothesis import given
from hypothesis import strategies as st
from scapy.layers.dhcp import BOOTP, DHCP
from scapy.layers.inet import ICMP, IP, UDP
from scapy.layers.inet6 import ICMPv6ND_NA, ICMPv6ND_RA
from scapy.layers.l2 import ARP, Ether
from scapy.packet import Raw

from support import until
from zesty_burrow.lab import story
from zesty_burrow.lab.local_network import dhcp, packets
from zesty_burrow.lab.local_network.conditions import Conditions, Direction

MAC = bytes.fromhex("020000000001")
ROUTER4, ROUTER6 = IPv4Address("192.168.77.1"), IPv6Address("2001:db8:c0b:77::1")


# Octets.


def test_a_message_of_ours_as_scapy_reads_it():
    routes = ((IPv4Network("0.0.0.0/1"), ROUTER4), (IPv4Network("10.20.0.0/16"), ROUTER4))
    options = {dhcp.KIND: bytes([dhcp.ACKNOWLEDGE]), dhcp.ROUTES: dhcp.encode_routes(routes), 6: ROUTER4.packed}
    ours = dhcp.encode(dhcp.DhcpMessage(dhcp.REPLY, 7, MAC, options, IPv4Address("192.168.77.20")))
    read = BOOTP(ours)
    assert (read.op, read.xid, read.yiaddr, read.chaddr[:6], read.flags) == (2, 7, "192.168.77.20", MAC, "B")
    found = {row[0]: row[1:] for row in read[DHCP].options if isinstance(row, tuple)}
    assert found["message-type"] == (5,) and found["name_server"] == ("192.168.77.1",)
    # RFC 3442: the width, the octets that count, the router.
    assert dhcp.encode_routes(routes).hex() == "0100c0a84d01" + "100a14c0a84d01"


def test_a_message_of_scapy_as_we_read_it():
    theirs = BOOTP(op=1, xid=9, chaddr=MAC) / DHCP(
        options=[("message-type", "discover"), ("param_req_list", [1, 121]), "end"]
    )
    read = dhcp.decode_untrusted(bytes(theirs))
    assert (read.operation, read.transaction, read.hardware, read.kind) == (dhcp.REQUEST, 9, MAC, dhcp.DISCOVER)
    assert read.options[dhcp.PARAMETERS] == bytes([1, 121])


@given(st.dictionaries(st.integers(1, 254), st.binary(max_size=600), max_size=4), st.integers(0, 2**32 - 1))
def test_what_is_written_is_read(options, transaction):
    """Also options that have to be split (RFC 3396)."""
    message = dhcp.DhcpMessage(dhcp.REQUEST, transaction, MAC, options)
    assert dhcp.decode_untrusted(dhcp.encode(message)) == message


@given(st.binary(max_size=400), st.binary(max_size=60))
def test_any_octets(data, value):
    head = dhcp.encode(dhcp.DhcpMessage(dhcp.REPLY, 1, MAC, {}))[:-1]
    for octets in (data, head + data):
        assert dhcp.decode_untrusted(octets) is None or dhcp.decode_untrusted(octets).transaction >= 0
    for network, router in dhcp.decode_routes_untrusted(value):
        assert network.prefixlen <= 32 and router.packed in value


def test_what_a_router_sends_unasked():
    """An advertisement with routes (RFC 4191), claims to addresses, "too big"."""
    told = ICMPv6ND_RA(packets.router_advertisement([IPv6Network("2000::/3")], 60))
    assert told.routerlifetime == 0, "it is to be no default router"
    route = told.payload
    assert (route.plen, route.prf, route.rtlifetime, route.prefix) == (3, 1, 60, "2000::")
    claim = Ether(packets.arp_claim(ROUTER4, MAC, IPv4Address("192.168.77.20")))
    assert (claim[ARP].op, claim[ARP].psrc, claim[ARP].hwsrc) == (2, "192.168.77.1", "02:00:00:00:00:01")
    assert claim.dst == "ff:ff:ff:ff:ff:ff"
    claim = ICMPv6ND_NA(packets.neighbour_claim(ROUTER6, MAC))
    assert (claim.tgt, claim.O, claim.S, claim.payload.lladdr) == (str(ROUTER6), 1, 0, "02:00:00:00:00:01")
    packet = bytes(IP(src="192.168.77.20", dst="198.51.100.18") / UDP(sport=40000, dport=4500) / Raw(bytes(600)))
    made = packets.too_big(packet, 552, IPv4Address("198.51.100.18"))
    read = IP(made)
    assert (read.src, read.dst, read[ICMP].type, read[ICMP].code, read[ICMP].nexthopmtu) == (
        "198.51.100.18", "192.168.77.20", 3, 4, 552,
    )  # fmt: skip
    # The sums are right: scapy makes the same.
    del read.chksum, read[ICMP].chksum
    assert bytes(read) == made


# The wire.


def arrivals(conditions, sizes, every=0.0):
    way = Direction(conditions, lambda _: None, random.Random(1))
    return [way.when(size, number * every) for number, size in enumerate(sizes)]


def test_conditions_of_a_wire():
    """Delay, rate with its queue, loss."""
    assert arrivals(Conditions(delay=0.04), [100, 100], 1) == [0.04, 1.04]
    # 1000 octets at 1 Mbit/s take 8 ms each; those that would wait for more than 0.2 s are lost.
    times = arrivals(Conditions(rate=1e6), [1000] * 40)
    carried = [one for one in times if one is not None]
    assert carried == pytest.approx([0.008 * number for number in range(1, len(carried) + 1)])
    assert 25 <= len(carried) <= 27 and times[len(carried) :] == [None] * (40 - len(carried))
    lost = arrivals(Conditions(loss=0.1), [100] * 5000).count(None)
    assert 400 < lost < 600


@pytest.mark.lab
def test_a_wire_under_conditions(lab):
    """Both families, both ways; then the wire is as it was."""
    lab.run("lab", "wire", "--delay", "40", "--loss", "20", check=0)
    try:
        for target in (story.OBSERVATORY4, story.OBSERVATORY6):
            told = lab.shell("heron", "ping", "-c", "30", "-i", "0.02", "-W", "1", target, check=None).out
            received = int(told.split(" received")[0].rpartition(" ")[2])
            least = float(told.rpartition("= ")[2].split("/")[0])
            assert 5 < received < 29 and least >= 80, told
        note = lab.run("lab", "status", "--json", check=0).json["status"]["hosts"][story.ROUTER]["note"]
        assert "20% loss" in note and "40 ms each way" in note
    finally:
        lab.run("lab", "wire", check=0)
    told = lab.shell("heron", "ping", "-c", "5", "-i", "0.02", story.OBSERVATORY4).out
    assert "5 received" in told


# The network's faults, on a machine without a tunnel.


def name_servers(lab):
    return lab.shell("heron", "cat", "/etc/resolv.conf").out


@pytest.mark.lab
def test_settings_by_dhcp(lab):
    """What the router hands out is taken over, and given back when it hands out something else."""
    before = lab.network()
    lab.fault(story.ROUTER, "dhcp-routes", "rogue-resolver")
    lab.run("lab", "renew", check=0)
    routes = lab.shell("heron", "ip", "route").out
    assert "0.0.0.0/1 via 192.168.77.1" in routes and "128.0.0.0/1 via 192.168.77.1" in routes
    assert name_servers(lab) == "nameserver 192.168.77.1\n"
    found = lab.shell("heron", "getent", "ahostsv4", story.PLACE_BY_NAME["lisbon"].host_name).out
    assert found.startswith("192.168.77.1 ")
    assert lab.heron("connect", "lisbon", "--detach", "--timeout", "2", check=6).json["code"] == "gateway-unreachable"
    lab.heron("disconnect", check=0)
    lab.fault(story.ROUTER)
    lab.run("lab", "renew", check=0)
    assert lab.network() == before


@pytest.mark.lab
def test_advertised_routes(lab):
    before = lab.network()
    lab.fault(story.ROUTER, "advertised-routes")
    until(lambda: "2000::/3" in lab.shell("heron", "ip", "-6", "route").out)
    lab.fault(story.ROUTER)
    until(lambda: lab.network() == before)


@pytest.mark.lab
def test_claimed_addresses(lab):
    """Somebody has the router's addresses: nothing passes until the router says that they are its own."""
    ping = ("ping", "-c", "1", "-W", "1")
    lab.fault(story.ROUTER, "address-claims")
    for target in (story.OBSERVATORY4, story.OBSERVATORY6):
        until(lambda target=target: lab.shell("heron", *ping, target, check=None).code != 0)
    lab.fault(story.ROUTER)
    for target in (story.OBSERVATORY4, story.OBSERVATORY6):
        until(lambda target=target: lab.shell("heron", *ping, target, check=None).code == 0)


BROWSE = """
import sys, urllib.error, urllib.request
def get(url, form=None):
    try:
        return urllib.request.urlopen(url, form, timeout=5).read().decode()
    except urllib.error.HTTPError as problem:
        return f"{problem.code} {problem.read().decode()}"
first = get(sys.argv[1])
assert first.startswith("511 ") and "Accept the rules" in first, first
assert "Welcome" in get(sys.argv[1] + "/accept", b"yes=yes")
"""


@pytest.mark.lab
def test_a_network_with_a_page_first(lab):
    """The whole way of a traveller: no way out, the check says why, one browser session, then the tunnel."""
    lab.fault(story.ROUTER, "captive-portal")
    assert lab.heron("connect", "lisbon", "--detach", "--timeout", "2", check=6).json["code"] == "gateway-unreachable"
    check = next(one for one in lab.heron("ready").json["checks"] if one["name"] == "way out")
    assert check["state"] == "attention", "the guard lets nobody see the page yet"
    lab.heron("guard", "portal", "--minutes", "1", check=0)
    check = next(one for one in lab.heron("ready").json["checks"] if one["name"] == "way out")
    assert "a page that asks for something first" in check["found"]
    lab.shell("heron", sys.executable, "-c", BROWSE, f"http://{story.OBSERVATORY_NAME}")
    lab.heron("connect", "lisbon", "--detach", check=0)
    assert lab.heron("verify", check=0).json["verdict"] == "sealed"


@pytest.mark.lab
def test_no_udp(lab):
    """The gateway is not reached, and the check of the gateway says what may be the cause."""
    lab.fault(story.ROUTER, "udp-blocked")
    lab.shell("heron", "ping", "-c", "1", "-W", "1", story.OBSERVATORY4)
    assert lab.heron("connect", "lisbon", "--detach", "--timeout", "2", check=6).json["code"] == "gateway-unreachable"
    lab.heron("disconnect", check=0)
    check = lab.heron("ready", "lisbon").json["checks"][-1]
    assert check["state"] == "attention" and "no UDP" in check["why"]


@pytest.mark.lab
def test_another_network(lab):
    """To the harbour and back: everything is as it was."""
    before = lab.network()
    lab.run("lab", "move", "harbour", check=0)
    assert "192.168.88.20/24" in lab.shell("heron", "ip", "address").out
    for target in (story.OBSERVATORY4, story.OBSERVATORY6):
        lab.shell("heron", "ping", "-c", "1", "-W", "2", target)
    lab.run("lab", "move", "cottage", check=0)
    assert lab.network() == before


@pytest.mark.lab
@pytest.mark.parametrize(
    ("words", "told"),
    [
        (["wire", "--loss", "100"], "--loss"),
        (["wire", "--delay", "-1"], "not below 0"),
        (["fault", "cobblewire", "silent"], "no fault of cobblewire"),
        (["fault", "heron", "silent"], "no faults to inject"),
        (["move", "mountain"], "mountain"),
    ],
)  # fmt: skip
def test_words_that_do_not_fit(lab, words, told):
    ended = lab.run("lab", *words, check=2)
    assert told in ended.text
