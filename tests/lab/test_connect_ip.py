"""CONNECT-IP (RFC 9484) in the lab: tried, rehearsed, connected, verified; by HTTP/2 and HTTP/1.1; after resets."""

from __future__ import annotations

import pytest

from lab.situations import STUN_FROM_OTHERS
from support import until
from zesty_burrow.lab import story
from zesty_burrow.lab.client import LabClient

pytestmark = pytest.mark.lab
NAME = "quillwort-lisbon"
SERVERS = f"{story.RESOLVER4},{story.RESOLVER6}"


@pytest.fixture(params=["tcp", "udp"])
def transport(request):
    """HTTP/2 on TCP, HTTP/3 on UDP."""
    return request.param


@pytest.fixture
def over_http(lab, transport):
    """The profile goes by CONNECT-IP for one test."""
    words = ["--protocol", "connect-ip", "--transport", transport, "--name-servers", SERVERS]
    lab.heron("choose", NAME, *words, check=0)
    yield lab
    lab.heron("disconnect")
    lab.heron("choose", NAME, "--protocol", "ikev2", "--name-servers", "gateway", check=0)


def test_chosen(over_http, transport):
    """The protocol has settings of its own; gateway, trust and credentials are those of before."""
    shown = over_http.heron("show", NAME).json["profile"]
    assert shown["tunnel"]["protocol"] == "connect-ip" and "ikev2" not in shown
    assert (shown["connect-ip"]["transport"], shown["connect-ip"]["port"]) == (transport, 443)
    assert shown["sign_in"]["method"] == "basic"


def test_without_a_tunnel(over_http, transport):
    """Credentials tried and a rehearsal with its exit; over TCP where no UDP leaves."""
    if transport == "tcp":
        over_http.fault("cobblewire", "udp-blocked")
    tried = over_http.heron("credentials", "try", NAME)
    assert tried.code == 0, tried.text
    (row,) = over_http.heron("rehearse", NAME).json["rehearsals"]
    assert row["verdict"] == "fit", row
    assert row["strength"] == (192 if transport == "tcp" else 128)


@pytest.mark.parametrize(
    ("transport", "fault"), [("tcp", ""), ("tcp", "no-http2"), ("udp", ""), ("udp", "no-datagrams")]
)
def test_up(over_http, transport, fault):
    """Up and verified from outside; packets of any size both ways; the gateway hears of the end."""
    if fault:
        over_http.fault("lisbon", fault)
    if transport == "tcp":
        over_http.fault("cobblewire", "udp-blocked")
    up = over_http.heron("connect", NAME, "--detach")
    assert up.code == 0, up.text
    carried = "CONNECT-IP, HTTP/3" if transport == "udp" else "CONNECT-IP, HTTP in TCP"
    assert up.json["tunnel"]["protocol"] == carried
    assert up.json["tunnel"]["algorithms"]["TLS"].startswith("TLS_AES_256_GCM_SHA384, ")
    seen = over_http.heron("verify")
    assert (seen.code, seen.json["verdict"]) == (0, "sealed"), seen.text
    for size in ("56", "1300", "4000"):
        over_http.shell("heron", "ping", "-c", "2", "-i", "0.2", "-W", "3", "-s", size, story.OBSERVATORY4)
    over_http.shell("heron", "ping", "-6", "-c", "2", "-i", "0.2", "-W", "3", story.OBSERVATORY6)
    status = over_http.heron("status").json["tunnel"]
    assert (
        status["is_up"]
        and status["packets_in"] > 4
        and (status["dropped"], status["rejected"]) == (STUN_FROM_OTHERS, 0)
    )
    assert over_http.gateway("lisbon")["tunnels"] == 1
    assert over_http.heron("disconnect").code == 0
    until(lambda: over_http.gateway("lisbon")["tunnels"] == 0, 10)


def test_a_connection_that_is_lost(over_http, transport):
    """It is made again, proven and signed in again, with the same address; the guard stays closed."""
    assert over_http.heron("connect", NAME, "--detach").code == 0
    before = over_http.heron("status").json["tunnel"]
    for _ in range(3 if transport == "tcp" else 1):
        LabClient(over_http.folder).call_host("lisbon", "reset")
        until(
            lambda: (
                over_http.run("lab", "run", "heron", "--", "ping", "-c", "1", "-W", "1", story.OBSERVATORY4).code == 0
            ),
            20,
        )
    after = over_http.heron("status").json["tunnel"]
    assert after["is_up"] and after["addresses"] == before["addresses"]
    assert over_http.heron("verify").json["verdict"] == "sealed"


@pytest.mark.parametrize(
    ("fault", "code"),
    [
        ("expired-certificate", "certificate-expired"),
        ("wrong-name", "certificate-wrong-name"),
        ("untrusted-authority", "certificate-untrusted"),
        ("refused-password", "sign-in-refused"),
        ("no-extended-connect", "gateway-protocol"),
        ("redirects", "gateway"),
        ("silent", "gateway-unreachable"),
    ],
)
def test_what_a_gateway_can_do_wrong(over_http, fault, code):
    """The same errors as with IKE; nothing is sent to whom has not proven himself."""
    over_http.fault("lisbon", fault)
    before = over_http.gateway("lisbon")
    ended = over_http.heron("connect", NAME, "--detach", "--timeout", "2")
    assert ended.json["code"] == code, ended.text
    after = over_http.gateway("lisbon")
    assert after["signed_in"] == before["signed_in"]
    assert (after["refused"] > before["refused"]) == (fault == "refused-password")


def test_a_gateway_with_old_tls(over_http, transport):
    """By TCP its answer says so; QUIC has no such version."""
    over_http.fault("lisbon", "old-tls")
    before = over_http.gateway("lisbon")
    ended = over_http.heron("credentials", "try", NAME, "--timeout", "2")
    assert ended.json["code"] == {"tcp": "no-agreement", "udp": "gateway-unreachable"}[transport], ended.text
    after = over_http.gateway("lisbon")
    assert [after[key] for key in ("refused", "signed_in")] == [before[key] for key in ("refused", "signed_in")]


def test_without_name_servers(over_http):
    """CONNECT-IP hands out none: said when it is chosen, shown, and noticed once it is up; nothing is asked outside."""
    told = over_http.heron("choose", NAME, "--name-servers", "gateway", check=0).json["message"]
    assert "no name servers" in told
    assert "name-servers-missing" in {one["code"] for one in over_http.heron("show", NAME).json["findings"]}
    assert over_http.heron("connect", NAME, "--detach").code == 0
    assert "name-servers-missing" in {one[0] for one in over_http.heron("status").json["tunnel"]["findings"]}


def test_the_gateway_ends_it(over_http):
    """An end that was said is one; without --keep-trying the tunnel is down."""
    assert over_http.heron("connect", NAME, "--detach").code == 0
    LabClient(over_http.folder).call_host("lisbon", "end")
    until(lambda: not over_http.heron("status").json.get("tunnel", {}).get("is_up"), 10)


def test_between_protocols(over_http):
    """From CONNECT-IP to IKEv2 and back without a gap."""
    for name, country in ((NAME, "PT"), ("quillwort-tallinn", "EE"), (NAME, "PT")):
        up = over_http.heron("connect", name, "--detach")
        assert up.code == 0, up.text
        seen = over_http.heron("verify").json
        assert (seen["verdict"], seen["after"]["ipv4"]["country"]) == ("sealed", country)


WIRED = """
ip link add lan0 type veth peer name eth0 netns "$1" && ip address add 10.99.1.1/24 dev lan0 &&
ip address add fd99:1::1/64 dev lan0 nodad && ip link set lan0 up &&
nsenter -n -t "$1" sh -c 'ip link set lo up; ip link set eth0 up; ip address add 10.99.1.2/24 dev eth0;
ip address add fd99:1::2/64 dev eth0 nodad; ip route add default via 10.99.1.1; ip route add default via fd99:1::1'
"""


@pytest.fixture
def behind(lab):
    """Another machine in networks behind the workstation: how to run something there."""
    held = lab.start("heron", "unshare", "-n", "sh", "-c", "echo $$; exec sleep 120")
    number = held.stdout.readline().strip()
    lab.shell("heron", "sh", "-c", WIRED, "sh", number)
    with held:
        yield lambda *words: lab.shell("heron", "nsenter", "-n", "-t", number, *words, check=None).code
        # Its device goes with it.
        lab.shell("heron", "kill", number)
        forward(lab, 0)


def forward(lab, value):
    written = f"echo {value} > /proc/sys/net/ipv4/ip_forward; echo {value} > /proc/sys/net/ipv6/conf/all/forwarding"
    lab.shell("heron", "sh", "-c", written)


def test_networks_behind_the_workstation(over_http, behind):
    """The gateway is told, and reaches what is there; its packets go through the tunnel, or nowhere."""
    lab = over_http
    there, networks = (story.OBSERVATORY4, story.OBSERVATORY6), "10.99.1.0/24,fd99:1::/64"
    told = lab.heron("choose", NAME, "--behind", networks, check=0).json["message"]
    assert "behind this machine: 10.99.1.0/24, fd99:1::/64" in told
    try:
        assert lab.heron("connect", NAME, "--detach").code == 0
        rows = [row for row in lab.heron("status").json["tunnel"]["findings"] if row[0] == "forwarding-off"]
        assert rows == [["forwarding-off", NAME, "net.ipv4.ip_forward, net.ipv6.conf.all.forwarding"]]
        assert behind("ping", "-c", "1", "-W", "1", there[0]) != 0
        assert "10.99.1.0" in lab.shell("lisbon", "ip", "route").text
        lab.heron("disconnect", check=0)
        until(lambda: "10.99.1.0" not in lab.shell("lisbon", "ip", "route").text, 5)
        forward(lab, 1)
        assert lab.heron("connect", NAME, "--detach").code == 0
        assert not [row for row in lab.heron("status").json["tunnel"]["findings"] if row[0] == "forwarding-off"]
        for address in ("10.99.1.2", "fd99:1::2"):
            lab.shell("lisbon", "ping", "-c", "1", "-W", "3", address)
        for address in there:
            assert behind("ping", "-c", "1", "-W", "3", address) == 0
        # The tunnel's process dies: what comes from behind is turned away, and does not leave beside it.
        tunnel = lab.heron("status").json["tunnel"]
        lab.shell("heron", "kill", "-9", str(tunnel["process"]))
        before = lab.heron("guard", "show").json["guard"]["counted"]
        assert behind("ping", "-c", "1", "-W", "1", there[0]) != 0
        after = lab.heron("guard", "show").json["guard"]["counted"]
        assert [after[name] for name in ("tunnel", "left_out")] == [before[name] for name in ("tunnel", "left_out")]
        lab.heron("disconnect")
        lab.heron("guard", "lift")
        lab.heron("choose", NAME, "--protocol", "ikev2", check=0)
        assert "networks-not-told" in {one["code"] for one in lab.heron("show", NAME).json["findings"]}
    finally:
        lab.heron("disconnect")
        lab.heron("choose", NAME, "--behind", "none", check=0)
