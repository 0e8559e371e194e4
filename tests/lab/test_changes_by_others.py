"""Other programs change this machine under a tunnel: it is noticed, said in the status, and what is ours is set again."""

from __future__ import annotations

import time

import pytest

from zesty_burrow.lab import story

pytestmark = pytest.mark.lab


def details(lab, code):
    """What the status says about a finding, now."""
    return [one["detail"] for one in lab.heron("status").json["findings"] if one["code"] == code]


def soon(what, seconds=10):
    end = time.monotonic() + seconds
    while not (found := what()) and time.monotonic() < end:
        time.sleep(0.1)
    return found


WRITTEN = []
"""What another program has written into the resolver's settings in this run."""


@pytest.fixture(scope="module")
def tunnel(whole_lab):
    lab = whole_lab
    before = lab.network()
    lab.heron("connect", "tallinn", "--detach", check=0)
    yield lab
    lab.heron("disconnect", check=0)
    # The other program's last words are what is put back, for they are newer than those of before the tunnel.
    other = {"resolver nameserver 192.0.2.53", "resolver nameserver 192.0.2.3"} if WRITTEN else set()
    assert set(before) ^ set(lab.network()) == other
    lab.shell("heron", "sh", "-c", "echo nameserver 192.0.2.53 > /etc/resolv.conf")
    assert lab.network() == before


@pytest.mark.parametrize(
    ("commands", "named"),
    [
        (["ip rule del pref 23103", "ip -6 rule del pref 23100"], "rule 23103 (IPv4)"),
        (["ip -6 route flush table 23106"], "route to ::/0"),
        (["ip address del 10.66.2.10/32 dev zesty0"], "address 10.66.2.10"),
        (["ip link set zesty0 down"], "device zesty0"),
    ],
    ids=["rules", "routes", "address", "device"],
)
def test_what_is_ours_is_set_again(tunnel, commands, named):
    lab = tunnel
    whole = lab.network()
    for command in commands:
        lab.shell("heron", "sh", "-c", command, check=None)
    assert soon(lambda: any(named in one for one in details(lab, "settings-repaired")))
    assert soon(lambda: lab.network() == whole), set(whole) ^ set(lab.network())
    assert lab.heron("verify", check=None).json["after"]["ipv4"]["address"] == story.PLACE_BY_NAME["tallinn"].address4(
        3
    )


def test_a_rule_in_front_of_ours(tunnel):
    """Named as long as it is there; its packets are rejected."""
    lab = tunnel
    lab.shell("heron", "ip", "rule", "add", "pref", "9", "table", "main")
    try:
        assert soon(lambda: details(lab, "foreign-rule")) == ["rule 9 (IPv4)"]
        ended = lab.shell("heron", "bash", "-c", f"exec 3<>/dev/tcp/{story.OBSERVATORY4}/80", check=None)
        assert "refused" in ended.err
    finally:
        lab.shell("heron", "ip", "rule", "del", "pref", "9")
    assert soon(lambda: not details(lab, "foreign-rule"))


def test_routes_that_take_half_of_everything(tunnel):
    lab = tunnel
    routes = [("0.0.0.0/1", "192.168.77.1"), ("2000::/3", "2001:db8:c0b:77::1")]
    for target, router in routes:
        lab.shell("heron", "ip", "route", "add", target, "via", router, "dev", "lan")
    try:
        assert soon(lambda: details(lab, "wide-routes")) == ["0.0.0.0/1, 2000::/3"]
    finally:
        for target, _ in routes:
            lab.shell("heron", "ip", "route", "del", target, "dev", "lan")
    assert soon(lambda: not details(lab, "wide-routes"))


def test_the_resolver_settings(tunnel):
    """Set again a few times; then it is said that another program has the last word, and nothing is asked elsewhere."""
    lab = tunnel
    ours = lab.shell("heron", "cat", "/etc/resolv.conf").out
    for number in range(1, 5):
        WRITTEN.append(number)
        lab.shell("heron", "sh", "-c", f"echo nameserver 192.0.2.{number} > /etc/resolv.conf")
        if number <= 3:
            assert soon(lambda: lab.shell("heron", "cat", "/etc/resolv.conf").out == ours), number
    assert soon(lambda: any("again and again" in one for one in details(lab, "resolver-changed")))
    assert lab.shell("heron", "cat", "/etc/resolv.conf").out == "nameserver 192.0.2.4\n"
    assert lab.shell("heron", "getent", "hosts", "observatory.example", check=None).code != 0
    lab.shell("heron", "sh", "-c", f"printf '{ours}' > /etc/resolv.conf".replace("\n", "\\n"))
