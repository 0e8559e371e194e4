"""A tunnel that is lost and comes back by itself; meanwhile nothing leaves around it."""

from __future__ import annotations

import subprocess
import sys
import time

import pytest

import support
from zesty_burrow.lab import story
from zesty_burrow.lab.client import LabClient

pytestmark = pytest.mark.lab


def tunnel(lab):
    return lab.heron("status").json["tunnel"]


def wait_for(lab, returns, seconds=30):
    """Until the tunnel stands again for the ``returns``-th time."""
    until = time.monotonic() + seconds
    while time.monotonic() < until:
        status = tunnel(lab)
        if status and status["is_up"] and status["reconnects"] >= returns:
            return status
        time.sleep(0.3)
    raise AssertionError(f"it did not come back: {tunnel(lab)}")


def outside_is_reached(lab):
    """Whether a plain TCP connection to the observatory gets out at all."""
    ended = lab.shell("heron", "timeout", "2", "bash", "-c", f"exec 3<>/dev/tcp/{story.OBSERVATORY4}/80", check=None)
    return ended.code == 0


def test_it_comes_back(lab):
    """Ended by the gateway, which then is silent for a while: down and said so, closed, and up again, twice."""
    before = lab.network()
    lab.heron("connect", "tallinn", "--detach", "--keep-trying", check=0)
    assert outside_is_reached(lab)
    process = tunnel(lab)["process"]
    for number in (1, 2):
        lab.fault("tallinn", "silent")
        LabClient(lab.folder).call_host("tallinn", "end")
        until = time.monotonic() + 10
        while tunnel(lab)["is_up"] and time.monotonic() < until:
            time.sleep(0.2)
        assert not outside_is_reached(lab)
        shown = lab.shell("heron", sys.executable, "-m", "zesty_burrow", "status", check=21).out
        assert "until then its traffic is blocked" in " ".join(shown.split())
        lab.fault("tallinn")
        status = wait_for(lab, number)
        assert status["process"] == process
        assert status["packets_in"] > 0
        assert lab.heron("verify", check=0).json["verdict"] == "sealed"
    lab.heron("disconnect", check=0)
    assert lab.network() == before


@pytest.mark.parametrize("why", ["the gateway is silent", "there is no network yet"])
def test_from_the_start(lab, why):
    """--keep-trying by name, as at the machine's start: closed, said so, and up as soon as it can be; or ended."""
    before = lab.network()
    call = [sys.executable, "-u", "-m", "zesty_burrow", "connect", "nairobi", "--keep-trying", "--timeout", "1"]
    for end in (False, True):
        if why == "the gateway is silent":
            lab.fault("nairobi", "silent")
        else:
            lab.shell("heron", "ip", "route", "del", "default")
        with lab.start("heron", *call, stderr=subprocess.STDOUT) as process:
            for line in process.stdout:
                if "not reached: " in line:
                    break
            assert "not reached: " in line
            assert not outside_is_reached(lab)
            shown = lab.shell("heron", sys.executable, "-m", "zesty_burrow", "status", check=21).out
            assert "No tunnel is up yet: the gateway was not reached" in shown
            if end:
                lab.heron("disconnect", check=0)
            lab.fault("nairobi")
            if why != "the gateway is silent":
                lab.shell("heron", "ip", "route", "add", "default", "via", "192.168.77.1", "dev", "lan")
            if not end:
                support.until(lambda: lab.heron("verify").json.get("verdict") == "sealed")
                lab.heron("disconnect", check=0)
            rest = process.stdout.read()
        assert "Traceback" not in rest
        assert lab.network() == before


def test_the_end_while_it_is_down(lab):
    """`disconnect` while it waits to try again: it ends at once, and the machine is as it was."""
    before = lab.network()
    lab.heron("connect", "nairobi", "--detach", "--keep-trying", check=0)
    LabClient(lab.folder).call_host("nairobi", "end")
    lab.fault("nairobi", "silent")
    until = time.monotonic() + 10
    while tunnel(lab)["is_up"] and time.monotonic() < until:
        time.sleep(0.2)
    assert not outside_is_reached(lab)
    assert lab.network() != before
    lab.heron("disconnect", check=0)
    assert lab.network() == before
    assert outside_is_reached(lab)


def test_without_being_asked_it_ends(lab):
    """With --no-keep-trying a lost tunnel is the end; the machine is put back, and closed until somebody opens it."""
    before = lab.network()
    lab.heron("connect", "nairobi", "--detach", "--no-keep-trying", check=0)
    LabClient(lab.folder).call_host("nairobi", "end")
    lab.network_is_soon(sorted([*before, "packet filter: the guard"]))
    assert tunnel(lab) is None
    assert not outside_is_reached(lab)
    left = lab.heron("status", check=21).json
    (held,) = left["guard"]["held_by"]
    assert left["condition"] == "blocked" and held["what"] == "quillwort-nairobi" and "tunnel is down" in held["why"]
    assert lab.heron("disconnect", check=0).json["was_up"] is False
    assert lab.network() == before
    assert outside_is_reached(lab)


@pytest.mark.soak
@pytest.mark.parametrize(
    ("fault", "why"),
    [("refused-password", "refused the sign-in"), ("wrong-name", "did not prove its identity")],
)
def test_no_gateway_opens_the_machine(lab, fault, why):
    """One that refuses the password, or is an impostor: the machine stays closed and says why, until `disconnect`."""
    before = lab.network()
    lab.heron("connect", "montevideo", "--detach", "--keep-trying", check=0)
    lab.fault("montevideo", fault)
    LabClient(lab.folder).call_host("montevideo", "end")
    until = time.monotonic() + 15
    while why not in str(found := tunnel(lab)["findings"]) and time.monotonic() < until:
        time.sleep(0.2)
    ((slug, profile, detail),) = found
    assert (slug, profile) == ("traffic-blocked", "quillwort-montevideo") and why in detail
    for _ in range(3):
        assert not outside_is_reached(lab)
        assert not tunnel(lab)["is_up"]
    shown = " ".join(lab.shell("heron", sys.executable, "-m", "zesty_burrow", "status", check=21).out.split())
    assert "traffic-blocked" in shown and why in shown
    if fault == "wrong-name":
        lab.fault("montevideo")
        assert wait_for(lab, 1)["findings"] == []
        assert outside_is_reached(lab)
    lab.heron("disconnect", check=0)
    assert lab.network() == before


def test_sent_elsewhere_in_the_middle(lab):
    """RFC 5685 §5: the tunnel is set up anew where the gateway says, without being asked to keep trying."""
    before = lab.network()
    lab.heron("connect", "tallinn", "--detach", check=0)
    LabClient(lab.folder).call_host("tallinn", "redirect")
    status = wait_for(lab, 1)
    assert status["is_up"]
    assert lab.heron("verify", check=0).json["verdict"] == "sealed"
    lab.heron("disconnect", check=0)
    assert lab.network() == before


def test_sent_elsewhere_at_the_beginning(lab):
    """Followed to the same gateway by its other name; not to one that is another."""
    lab.fault("tallinn", "redirects")
    assert lab.heron("rehearse", "tallinn", check=0).json["rehearsals"][0]["verdict"] == "fit"
    lab.heron("connect", "tallinn", "--detach", check=0)
    lab.heron("disconnect", check=0)
    lab.fault("tallinn", "redirects-away")
    refused = lab.heron("connect", "tallinn", "--detach", check=7).json
    assert refused["code"] == "certificate-wrong-name"
    assert "no credentials were sent" in refused["what"]


ASK_STEADILY = """
import os, socket, sys, time
asker = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
asker.settimeout(0.05)
asked, answered = set(), set()
begin = time.monotonic()
while len(asked) < 280:
    name = os.urandom(12)
    asked.add(name)
    asker.sendto(bytes.fromhex("000100002112a442") + name, (sys.argv[1], 3478))
    until = begin + 0.05 * len(asked)
    while True:
        asker.settimeout(max(until - time.monotonic(), 0.001) if len(asked) < 280 else 2)
        try:
            answered.add(asker.recv(2048)[8:20])
        except TimeoutError:
            break
print(len(asked), len(asked & answered))
"""
"""STUN binding requests (RFC 8489), twenty a second: how many were asked and answered."""


def test_a_sign_in_that_has_to_be_repeated(lab):
    """RFC 4478, RFC 7296 §2.8.3: every six seconds a new IKE SA beside the old one; the tunnel never goes away.

    Twenty questions a second through all of it lose nothing, and the inner addresses stay.
    """
    lab.fault("tallinn", "short-sign-in")
    lab.heron("connect", "tallinn", "--detach", check=0)
    before = tunnel(lab)
    asking = lab.start("heron", sys.executable, "-c", ASK_STEADILY, story.OBSERVATORY4)
    until = time.monotonic() + 30
    while tunnel(lab)["sign_ins_repeated"] < 2 and time.monotonic() < until:
        time.sleep(0.2)
    said, _ = asking.communicate(timeout=40)
    status = tunnel(lab)
    assert status["sign_ins_repeated"] >= 2 and status["reconnects"] == 0 and status["is_up"]
    assert (status["process"], status["addresses"]) == (before["process"], before["addresses"])
    sent, answered = map(int, said.split())
    assert sent == answered == 280
    assert lab.heron("verify", check=0).json["verdict"] == "sealed"
    lab.fault("tallinn")
    lab.heron("disconnect", check=0)
    assert lab.gateway("tallinn")["tunnels"] == 0


def test_another_address(lab):
    """The workstation's address changes under a live tunnel: it goes on, both ends know it, nothing was lost for good."""
    lab.heron("connect", "lisbon", "--detach", check=0)
    ip = ("heron", "ip")
    lab.shell(*ip, "address", "add", "192.168.77.21/24", "dev", "lan")
    lab.shell(*ip, "route", "replace", "default", "via", "192.168.77.1", "dev", "lan", "src", "192.168.77.21")
    try:
        until = time.monotonic() + 10
        while not tunnel(lab)["address_changes"] and time.monotonic() < until:
            time.sleep(0.2)
        assert tunnel(lab)["address_changes"] == 1
        assert lab.heron("verify", check=0).json["verdict"] == "sealed"
        assert tunnel(lab)["reconnects"] == 0
    finally:
        lab.shell(*ip, "route", "replace", "default", "via", "192.168.77.1", "dev", "lan")
        lab.shell(*ip, "address", "del", "192.168.77.21/24", "dev", "lan")
    until = time.monotonic() + 10
    while tunnel(lab)["address_changes"] < 2 and time.monotonic() < until:
        time.sleep(0.2)
    assert tunnel(lab)["address_changes"] == 2
    assert lab.heron("verify", check=0).json["verdict"] == "sealed"
    lab.heron("disconnect", check=0)


OUTAGE = "add table inet outage; add chain inet outage way { type filter hook forward priority 0; policy drop; }"


@pytest.mark.parametrize("seconds", [3, pytest.param(30, marks=pytest.mark.soak)])
def test_an_outage_costs_nothing_when_it_ends(lab, seconds):
    """RFC 7296 §2.4: no message passes for a while, new keys are due meanwhile; then packets flow at once."""
    lab.heron("connect", "tallinn", "--detach", check=0)
    assert outside_is_reached(lab)
    lab.shell("cobblewire", "nft", OUTAGE)
    try:
        LabClient(lab.folder).call_host("tallinn", "rekey")
        LabClient(lab.folder).call_host("tallinn", "probe")
        until = time.monotonic() + seconds
        while time.monotonic() < until:
            assert not outside_is_reached(lab)
    finally:
        lab.shell("cobblewire", "nft", "delete table inet outage")
    # One of three echo requests, the first of them sent at once: not a retransmission that is due in 16 seconds.
    assert lab.shell("heron", "ping", "-c", "3", "-i", "0.3", "-W", "1", story.OBSERVATORY4).code == 0
    status = lab.heron("status", check=0).json["tunnel"]
    assert status["reconnects"] == 0 and status["losses"] == []
    end = time.monotonic() + 20
    while lab.gateway("tallinn")["unanswered"] and time.monotonic() < end:
        time.sleep(0.2)
    assert lab.gateway("tallinn")["unanswered"] == 0
