"""``transport = "any"`` in the lab: what is answered first goes on; UDP that is blocked, from the start or later."""

from __future__ import annotations

import time

import pytest

from support import until
from zesty_burrow.lab import story

pytestmark = pytest.mark.lab
NAME = "quillwort-lisbon"
SERVERS = f"{story.RESOLVER4},{story.RESOLVER6}"


@pytest.fixture(params=["ikev2", "connect-ip"])
def by_any(request, lab):
    """The profile goes by whatever is answered, for one test."""
    servers = SERVERS if request.param == "connect-ip" else "gateway"
    words = ["--protocol", request.param, "--transport", "any", "--name-servers", servers]
    lab.heron("choose", NAME, *words, check=0)
    yield lab
    lab.heron("disconnect")
    back = ["--protocol", "ikev2", "--transport", "udp", "--name-servers", "gateway"]
    lab.heron("choose", NAME, *back, check=0)
    lab.shell("heron", "rm", "-f", "/var/lib/zesty-burrow/ways.json")
    for path in lab.folder.glob("heron/**/ways.json"):
        path.unlink()


def reached(ended):
    """What was found out on the way to the gateway."""
    return ended.json["tunnel"]["over"]


def test_udp_where_it_passes(by_any):
    up = by_any.heron("connect", NAME, "--detach", check=0)
    assert reached(up) == "over UDP"
    assert by_any.heron("verify").json["verdict"] == "sealed"


def test_tcp_where_no_udp_leaves(by_any):
    """In a moment, and told; the next time at once, since it is remembered for this network."""
    by_any.fault("cobblewire", "udp-blocked")
    began = time.monotonic()
    up = by_any.heron("connect", NAME, "--detach", check=0)
    assert "over TCP (" in reached(up) and "over UDP: no answer in 0." in reached(up)
    assert time.monotonic() - began < 8
    assert by_any.heron("verify").json["verdict"] == "sealed"
    by_any.heron("disconnect", check=0)
    again = by_any.heron("connect", NAME, "--detach", check=0)
    assert reached(again) == "over TCP"


def test_without_a_tunnel(by_any):
    """Credentials tried, and a rehearsal that says what was answered."""
    by_any.fault("cobblewire", "udp-blocked")
    assert by_any.heron("credentials", "try", NAME).code == 0
    (row,) = by_any.heron("rehearse", NAME).json["rehearsals"]
    assert row["verdict"] == "fit" and row["over"].endswith(" TCP")


@pytest.mark.parametrize(
    "by_any", ["connect-ip", pytest.param("ikev2", marks=pytest.mark.soak)], indirect=True
)  # fmt: skip
def test_udp_that_is_blocked_later(by_any):
    """Got over by itself: the guard stays closed meanwhile, and the tunnel goes on over TCP with the same address."""
    if by_any.heron("show", NAME).json["profile"]["tunnel"]["protocol"] == "connect-ip":
        sooner = ("--set", "connect-ip.keep_alive_seconds=5", "--set", "connect-ip.peer_seconds=10")
        by_any.heron("change", NAME, *sooner, check=0)
    by_any.heron("connect", NAME, "--detach", check=0)
    before = by_any.heron("status").json["tunnel"]
    by_any.fault("cobblewire", "udp-blocked")

    def carries():
        return by_any.run("lab", "run", "heron", "--", "ping", "-c", "1", "-W", "1", story.OBSERVATORY4).code == 0

    assert not carries()
    until(carries, 75)
    after = by_any.heron("status").json["tunnel"]
    assert after["addresses"] == before["addresses"]
    assert after["reconnects"] >= 1
    assert by_any.heron("verify").json["verdict"] == "sealed"


def test_where_the_web_alone_gets_out(by_any):
    """HTTPS by TCP is found; IKE has no way, and says so of each."""
    by_any.fault("cobblewire", "only-web")
    ended = by_any.heron("credentials", "try", NAME, "--timeout", "3")
    if by_any.heron("show", NAME).json["profile"]["tunnel"]["protocol"] == "connect-ip":
        assert ended.code == 0
        assert reached(by_any.heron("connect", NAME, "--detach", check=0)).startswith("over TCP")
        assert by_any.heron("verify").json["verdict"] == "sealed"
    else:
        assert ended.json["code"] == "gateway-unreachable"
        assert "over UDP: " in ended.json["why"] and "over TCP: " in ended.json["why"]


def test_where_tcp_is_reset(by_any):
    """UDP is taken; TCP alone is told of, and a tunnel over it stays closed until it can be made again."""
    by_any.fault("cobblewire", "resets")
    assert by_any.heron("credentials", "try", NAME).code == 0
    by_any.heron("choose", NAME, "--transport", "tcp", check=0)
    ended = by_any.heron("credentials", "try", NAME, "--timeout", "3")
    assert ended.json["code"] == "gateway-unreachable", ended.text
    by_any.fault("cobblewire")
    by_any.heron("connect", NAME, "--detach", check=0)
    by_any.fault("cobblewire", "resets")
    ping = ["lab", "run", "heron", "--", "ping", "-c", "1", "-W", "1", story.OBSERVATORY4]
    assert by_any.run(*ping).code != 0
    assert by_any.heron("guard", "show").json["guard"]["in_force"] is True
    by_any.fault("cobblewire")
    until(lambda: by_any.run(*ping).code == 0, 30)
    assert by_any.heron("verify").json["verdict"] == "sealed"


def test_nothing_answers(by_any):
    """Each way with its reason, in the time that was given."""
    by_any.fault("lisbon", "silent")
    ended = by_any.heron("credentials", "try", NAME, "--timeout", "2")
    assert ended.json["code"] == "gateway-unreachable"
    assert "over UDP: " in ended.json["why"] and "over TCP: " in ended.json["why"]
