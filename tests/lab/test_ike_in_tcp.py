"""IKE and ESP in TCP (RFC 9329), in the lab: tried, rehearsed, asked, connected; where no UDP leaves; after resets."""

from __future__ import annotations

import pytest

from support import until
from zesty_burrow.lab import story
from zesty_burrow.lab.client import LabClient

pytestmark = pytest.mark.lab
NAME = "quillwort-lisbon"


@pytest.fixture
def over_tcp(lab):
    """The profile goes by TCP for one test."""
    lab.heron("choose", NAME, "--transport", "tcp", check=0)
    yield lab
    lab.heron("disconnect")
    lab.heron("choose", NAME, "--transport", "udp", check=0)


@pytest.fixture
def no_udp(over_tcp):
    """The internet provider lets no UDP out, but for questions for names."""
    over_tcp.fault("cobblewire", "udp-blocked")
    return over_tcp


def test_chosen(over_tcp):
    """The transport has a port of its own; both are shown."""
    shown = over_tcp.heron("show", NAME).json["profile"]["ikev2"]
    assert (shown["transport"], shown["port"]) == ("tcp", 4500)


def test_without_a_tunnel(over_tcp):
    """Credentials tried, a rehearsal with its exit, and what the gateway can do, all over TCP alone."""
    over_tcp.fault("cobblewire", "udp-blocked")
    assert over_tcp.heron("credentials", "try", NAME).code == 0
    (row,) = over_tcp.heron("rehearse", NAME).json["rehearsals"]
    assert row["verdict"] == "fit", row
    assert over_tcp.heron("advise", NAME).code == 0
    other = over_tcp.heron("credentials", "try", "quillwort-tallinn", "--timeout", "2")
    assert other.json["code"] == "gateway-unreachable", "UDP is blocked for real"


def test_where_no_udp_leaves(no_udp):
    """Up, verified from outside, packets of any size both ways; and nothing leaves beside it."""
    up = no_udp.heron("connect", NAME, "--detach")
    assert up.code == 0, up.text
    seen = no_udp.heron("verify")
    assert (seen.code, seen.json["verdict"]) == (0, "sealed"), seen.text
    for size in ("56", "1300", "4000"):
        no_udp.shell("heron", "ping", "-c", "2", "-W", "3", "-s", size, story.OBSERVATORY4)
    status = no_udp.heron("status").json["tunnel"]
    assert status["is_up"] and status["packets_in"] > 4


def test_a_connection_that_is_reset(over_tcp):
    """RFC 9329 §6.1: it is made again, and the tunnel goes on with the same address; the guard stays closed."""
    assert over_tcp.heron("connect", NAME, "--detach").code == 0
    before = over_tcp.heron("status").json["tunnel"]
    assert (before["protocol"], before["over"]) == ("IKEv2, ESP in TCP", "over TCP")
    for _ in range(3):
        LabClient(over_tcp.folder).call_host("lisbon", "reset")
        until(
            lambda: (
                over_tcp.run("lab", "run", "heron", "--", "ping", "-c", "1", "-W", "1", story.OBSERVATORY4).code == 0
            ),
            20,
        )
    after = over_tcp.heron("status").json["tunnel"]
    assert after["is_up"] and after["addresses"] == before["addresses"]
    assert over_tcp.heron("verify").json["verdict"] == "sealed"


def test_keys_are_renewed_and_the_tunnel_ended(over_tcp):
    """Rekeying from the gateway's side, for both SAs, and an end that the gateway hears of."""
    assert over_tcp.heron("connect", NAME, "--detach").code == 0
    for action in ("rekey", "rekey-ike", "probe"):
        LabClient(over_tcp.folder).call_host("lisbon", action)
    over_tcp.shell("heron", "ping", "-c", "3", "-W", "3", story.OBSERVATORY4)
    assert over_tcp.gateway("lisbon")["tunnels"] == 1
    assert over_tcp.heron("disconnect").code == 0
    until(lambda: over_tcp.gateway("lisbon")["tunnels"] == 0, 10)


def test_from_one_transport_to_the_other(over_tcp):
    """Another gateway by UDP in its place, and back, without a gap: each with its own address, nothing beside them."""
    for name, country in ((NAME, "PT"), ("quillwort-tallinn", "EE"), (NAME, "PT")):
        up = over_tcp.heron("connect", name, "--detach")
        assert up.code == 0, up.text
        seen = over_tcp.heron("verify").json
        assert (seen["verdict"], seen["after"]["ipv4"]["country"]) == ("sealed", country)


@pytest.mark.parametrize("place", [one.name for one in story.PLACES if one.outer_version == 6][:1])
def test_over_ipv6(lab, place):
    """A gateway that has an IPv6 address alone."""
    lab.heron("choose", f"quillwort-{place}", "--transport", "tcp", check=0)
    lab.fault("cobblewire", "udp-blocked")
    try:
        assert lab.heron("credentials", "try", f"quillwort-{place}").code == 0
    finally:
        lab.heron("choose", f"quillwort-{place}", "--transport", "udp", check=0)


def test_a_gateway_that_does_not_know_it(over_tcp):
    """Nobody listens there: told in time, as a gateway that does not answer."""
    over_tcp.heron("choose", NAME, "--port", "4501", check=0)
    refused = over_tcp.heron("credentials", "try", NAME, "--timeout", "2")
    assert (refused.code, refused.json["code"]) == (6, "gateway-unreachable")
    over_tcp.heron("choose", NAME, "--port", "4500", check=0)


def test_strangers_at_the_gateways_port(over_tcp):
    """What is no IKE in TCP is closed, and callers go on."""
    ask = "import socket,sys; s=socket.create_connection((sys.argv[1],4500),3); s.settimeout(3); s.sendall(b'GET / HTTP/1.1'); sys.exit(len(s.recv(9)))"
    address = next(one.outer for one in story.PLACES if one.name == "lisbon")
    over_tcp.shell("heron", "python3", "-c", ask, address)
    assert over_tcp.heron("credentials", "try", NAME).code == 0
