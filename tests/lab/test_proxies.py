"""Proxies on the way, in the lab: where nothing else gets out; their sign-in, refusals and end; the guard beside them."""

from __future__ import annotations

from contextlib import contextmanager

import pytest

from support import until
from zesty_burrow.lab import story
from zesty_burrow.lab.local_network.proxies import ACCOUNT, HTTP_PORT, PASSWORD, SOCKS_PORT

pytestmark = pytest.mark.lab
NAME = "quillwort-lisbon"
SERVERS = f"{story.RESOLVER4},{story.RESOLVER6}"
PROXIES = {
    "http": f"http://{story.ISP_RESOLVER4}:{HTTP_PORT}",
    "socks5": f"socks5://{story.ISP_RESOLVER4}:{SOCKS_PORT}",
}


BACK = ["--protocol", "ikev2", "--transport", "udp", "--name-servers", "gateway", "--proxy", "none"]


@contextmanager
def chosen(lab, protocol, over, kind):
    """The profile goes by a proxy, and nothing else gets out, for one test."""
    servers = SERVERS if protocol == "connect-ip" else "gateway"
    words = ["--protocol", protocol, "--transport", over, "--name-servers", servers, "--proxy", PROXIES[kind]]
    lab.heron("choose", NAME, *words, check=0)
    lab.fault("cobblewire", "only-proxy")
    yield lab
    lab.heron("disconnect")
    lab.heron("choose", NAME, *BACK, check=0)


@pytest.fixture(params=[("connect-ip", "http"), ("connect-ip", "socks5"), ("ikev2", "http"), ("ikev2", "socks5")],
                ids="-".join)  # fmt: skip
def by_proxy(request, lab):
    """Over TCP."""
    protocol, kind = request.param
    with chosen(lab, protocol, "tcp", kind) as one:
        yield one


def opened(lab):
    return lab.gateway(story.ROUTER)["proxied"]


def test_where_nothing_else_gets_out(by_proxy):
    """Up, verified, packets both ways; the guard lets this machine reach the proxy alone; then an end."""
    other = by_proxy.heron("credentials", "try", "quillwort-tallinn", "--timeout", "2")
    assert other.json["code"] == "gateway-unreachable", "nothing gets out directly"
    before = opened(by_proxy)
    up = by_proxy.heron("connect", NAME, "--detach")
    assert up.code == 0, up.text
    assert opened(by_proxy) == before + 1
    seen = by_proxy.heron("verify")
    assert (seen.code, seen.json["verdict"]) == (0, "sealed"), seen.text
    by_proxy.shell("heron", "ping", "-c", "2", "-i", "0.2", "-W", "3", "-s", "3000", story.OBSERVATORY4)
    # Nobody but the tunnel's own socket reaches the proxy's port.
    ask = "import socket,sys; s=socket.socket(); s.settimeout(2); sys.exit(s.connect_ex((sys.argv[1], int(sys.argv[2]))) == 0)"
    by_proxy.shell("heron", "python3", "-c", ask, story.ISP_RESOLVER4, str(HTTP_PORT))
    assert by_proxy.heron("disconnect").code == 0
    until(lambda: by_proxy.gateway("lisbon")["tunnels"] == 0, 10)


def test_without_a_tunnel(by_proxy):
    """Credentials tried, and a rehearsal that names the proxy."""
    assert by_proxy.heron("credentials", "try", NAME).code == 0
    (row,) = by_proxy.heron("rehearse", NAME, "--no-exit").json["rehearsals"]
    assert row["verdict"] == "fit" and row["over"].endswith(" proxy")


def test_a_proxy_that_wants_a_sign_in(by_proxy):
    """Told without one; with its own credentials, kept beside the gateway's, it lets us through."""
    by_proxy.fault("cobblewire", "only-proxy", "proxy-sign-in")
    refused = by_proxy.heron("credentials", "try", NAME)
    assert refused.json["code"] == "proxy-sign-in" and "wants a name and a password" in refused.json["why"]
    told = by_proxy.heron("choose", NAME, "--proxy-sign-in", check=0).json["message"]
    assert "name and password unencrypted" in told
    assert "proxy-password-clear" in {one["code"] for one in by_proxy.heron("show", NAME).json["findings"]}
    missing = by_proxy.heron("credentials", "try", NAME)
    assert "proxy-name-password" in missing.text
    label = by_proxy.heron("show", NAME).json["profile"]["sign_in"]["credentials"]
    words = ["credentials", "change", label, "--kind", "proxy-name-password"]
    by_proxy.heron(*words, stdin=f"{ACCOUNT}\nnot-it\n", check=0)
    assert by_proxy.heron("credentials", "try", NAME).json["code"] == "proxy-sign-in"
    by_proxy.heron(*words, stdin=f"{ACCOUNT}\n{PASSWORD}\n", check=0)
    assert by_proxy.heron("credentials", "try", NAME).code == 0
    by_proxy.heron("credentials", "forget", label, "--kind", "proxy-name-password")


@pytest.fixture(params=["connect-ip", "ikev2"])
def by_relay(request, lab):
    """Over UDP, which SOCKS 5 alone carries."""
    with chosen(lab, request.param, "udp", "socks5") as one:
        yield one


def test_datagrams_where_nothing_else_gets_out(by_relay):
    """Up and sealed, with long packets; the proxy dies: on again, with the same inner address, still sealed."""
    before = by_relay.gateway(story.ROUTER)["relayed"]
    up = by_relay.heron("connect", NAME, "--detach")
    assert up.code == 0, up.text
    assert by_relay.gateway(story.ROUTER)["relayed"] == before + 1
    assert by_relay.heron("verify").json["verdict"] == "sealed"
    by_relay.shell("heron", "ping", "-c", "2", "-i", "0.2", "-W", "3", "-s", "3000", story.OBSERVATORY4)
    let_through = by_relay.heron("guard", "show").json
    assert f"{story.ISP_RESOLVER4} UDP to any port, from its own sockets" in str(let_through)
    addresses = by_relay.heron("status").json["tunnel"]["addresses"]
    by_relay.fault("cobblewire", "only-proxy", "proxy-dies")
    ping = ["lab", "run", "heron", "--", "ping", "-c", "1", "-W", "1", story.OBSERVATORY4]
    until(lambda: by_relay.gateway(story.ROUTER)["relayed"] == before + 2, 10)
    until(lambda: by_relay.run(*ping).code == 0, 25)
    assert by_relay.heron("status").json["tunnel"]["addresses"] == addresses
    assert by_relay.heron("verify").json["verdict"] == "sealed"


def test_datagrams_by_a_proxy_with_a_sign_in(by_relay):
    """Told without one, and where it refuses; by IKE and by HTTP/3 alike, without a tunnel."""
    by_relay.fault("cobblewire", "only-proxy", "proxy-sign-in")
    assert by_relay.heron("credentials", "try", NAME).json["code"] == "proxy-sign-in"
    by_relay.fault("cobblewire", "only-proxy", "proxy-refuses")
    refused = by_relay.heron("credentials", "try", NAME)
    assert refused.json["code"] == "proxy" and "passes no datagrams on" in refused.text
    by_relay.fault("cobblewire", "only-proxy")
    (row,) = by_relay.heron("rehearse", NAME, "--no-exit").json["rehearsals"]
    assert row["verdict"] == "fit" and row["over"].endswith("UDP by socks5 proxy")


def test_a_proxy_that_is_not_there(lab):
    """By every way to use one: it is named, and not the gateway; nobody listens, or nobody answers."""
    address, no_one = story.ISP_RESOLVER4, 1081
    try:
        for protocol, over, proxy, why in (
            ("ikev2", "udp", f"socks5://{address}:{no_one}", "refuses the connection"),
            ("ikev2", "tcp", f"socks5://{address}:{no_one}", "refuses the connection"),
            ("connect-ip", "tcp", f"http://{address}:{no_one}", "refuses the connection"),
            ("ikev2", "udp", f"socks5://{address}:{HTTP_PORT}", "came about in time"),
            ("ikev2", "tcp", f"socks5://{address}:{HTTP_PORT}", "came about in time"),
        ):
            lab.heron("choose", NAME, "--protocol", protocol, "--transport", over, "--proxy", proxy, check=0)
            ended = lab.heron("credentials", "try", NAME, "--timeout", "1").json
            assert ended["code"] == "proxy" and proxy in ended["what"] and why in ended["why"], ended
    finally:
        lab.heron("choose", NAME, *BACK, check=0)


def test_a_proxy_that_passes_no_datagrams_on(by_relay):
    """Told where the profile wants UDP alone; with any transport TCP goes by it."""
    by_relay.fault("cobblewire", "only-proxy", "proxy-no-datagrams")
    refused = by_relay.heron("credentials", "try", NAME)
    assert refused.json["code"] == "proxy" and "does not know this command" in refused.json["why"]
    by_relay.heron("choose", NAME, "--transport", "any", check=0)
    over = by_relay.heron("connect", NAME, "--detach", check=0).json["tunnel"]["over"]
    assert over.startswith("over TCP") and "does not know this command" in over, over
    assert by_relay.heron("verify").json["verdict"] == "sealed"


def test_a_proxy_that_refuses(by_proxy):
    by_proxy.fault("cobblewire", "only-proxy", "proxy-refuses")
    refused = by_proxy.heron("connect", NAME, "--detach")
    assert refused.json["code"] == "proxy", refused.text


def test_a_proxy_that_dies(by_proxy):
    """The connection is made again through it; the inner address stays, and nothing leaves beside."""
    by_proxy.heron("connect", NAME, "--detach", check=0)
    before = by_proxy.heron("status").json["tunnel"]["addresses"]
    by_proxy.fault("cobblewire", "only-proxy", "proxy-dies")
    ping = ["lab", "run", "heron", "--", "ping", "-c", "1", "-W", "1", story.OBSERVATORY4]
    until(lambda: by_proxy.run(*ping).code == 0, 25)
    assert by_proxy.heron("status").json["tunnel"]["addresses"] == before
    assert by_proxy.heron("verify").json["verdict"] == "sealed"
