"""A forged "too big" (RFC 1191) does not take the tunnel below what every path has to carry."""

from __future__ import annotations

import sys
import time

import pytest

from support import until
from zesty_burrow.lab import story

pytestmark = pytest.mark.lab

FORGE = """
import socket, sys
from scapy.all import ICMP, IP, Raw, conf, send
conf.verb = 0
wire = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(3))
wire.bind(("cottage", 0))
wire.settimeout(10)
print("ready", flush=True)
while True:
    frame = wire.recv(65536)
    if frame[12:14] == b"\\x08\\x00" and frame[23] == 17 and frame[36:38] in (b"\\x11\\x94", b"\\x01\\xf4"):
        packet = IP(frame[14:])
        if packet.src == "192.168.77.20":
            break
# As any router on the way could say it: what arrived was too big, and only so much passes.
told = IP(src=sys.argv[2], dst=packet.src) / ICMP(type=3, code=4, nexthopmtu=int(sys.argv[1])) / Raw(bytes(packet)[:28])
for _ in range(3):
    send(told)
print("sent", flush=True)
"""


COUNT = """
import socket, sys
family = socket.AF_INET6 if ":" in sys.argv[1] else socket.AF_INET
listener = socket.create_server((sys.argv[1], 7001), family=family)
listener.settimeout(30)
print("ready", flush=True)
channel, count = listener.accept()[0], 0
channel.settimeout(30)
while data := channel.recv(65536):
    count += len(data)
print(count, flush=True)
"""
SEND = """
import socket, sys
with socket.create_connection((sys.argv[1], 7001), 20) as channel:
    channel.sendall(bytes(1 << 20))
"""


@pytest.fixture(autouse=True)
def nothing_learnt(lab):
    """The kernel remembers what it has believed for ten minutes, and goes by the lowest claim."""
    lab.shell("heron", "ip", "route", "flush", "cache")
    yield
    lab.shell("heron", "ip", "route", "flush", "cache")


def up_and_big(lab, octets):
    """One UDP datagram to the observatory that makes an inner packet of so many octets; not cut by this machine."""
    return lab.shell(
        "heron", "ping", "-c", "1", "-W", "1", "-M", "do", "-s", str(octets - 28), story.OBSERVATORY4, check=None
    ).code


@pytest.mark.parametrize("claimed", [1300, pytest.param(1420, marks=pytest.mark.soak)])
def test_a_forged_message_that_could_be_true(lab, claimed):
    """What is claimed is more than every path takes: it is found false within seconds, and the tunnel stays as it was."""
    before = lab.heron("connect", "lisbon", "--detach", check=0).json["tunnel"]["mtu"]
    gateway = story.PLACE_BY_NAME["lisbon"].outer
    forger = lab.start("cobblewire", sys.executable, "-c", FORGE, str(claimed), gateway)
    assert forger.stdout.readline() == "ready\n"
    assert up_and_big(lab, before) == 0
    assert forger.stdout.readline() == "sent\n"
    forger.communicate(timeout=10)
    assert f"mtu {claimed}" in lab.shell("heron", "ip", "route", "get", gateway).out
    # The system refuses the first one, which makes the tunnel look.
    until(lambda: up_and_big(lab, before) == 0)
    until(lambda: path_sizes(lab))
    assert path_sizes(lab) == [(claimed, 1500)]
    assert lab.heron("status", check=0).json["tunnel"]["mtu"] == before
    # Nor is the next tunnel held to it, once it has looked.
    lab.heron("disconnect", check=0)
    lab.heron("connect", "lisbon", "--detach", check=0)
    until(lambda: lab.heron("status", check=0).json["tunnel"]["mtu"] == before)
    assert up_and_big(lab, before) == 0


def path_sizes(lab):
    """What was claimed and what was confirmed, each time."""
    rows = lab.heron("status", "--log", check=0).json["log"]
    return [(row["claimed"], row["confirmed"]) for row in rows if row["event"] == "path size"]


def test_a_path_that_shrinks_on_the_way(lab):
    """The provider's line takes 1400 octets now, and says so: what it takes is found, and whole connections go on."""
    lab.heron("connect", "lisbon", "--detach", check=0)
    lab.shell("cobblewire", "ip", "link", "set", "wan", "mtu", "1400")
    try:
        with lab.start("observatory", sys.executable, "-c", COUNT, story.OBSERVATORY4) as counting:
            assert counting.stdout.readline() == "ready\n"
            lab.shell("heron", sys.executable, "-c", SEND, story.OBSERVATORY4)
            assert counting.stdout.readline() == f"{1 << 20}\n"
        until(lambda: path_sizes(lab))
        assert path_sizes(lab) == [(1400, 1400)]
        # 1400 less IPv4, UDP, ESP header, IV, ICV and a whole number of words for the trailer.
        fits = 1400 - 28 - 8 - 8 - 16 - 2
        until(lambda: up_and_big(lab, fits) == 0)
        assert up_and_big(lab, fits + 4) != 0
    finally:
        lab.shell("cobblewire", "ip", "link", "set", "wan", "mtu", "1500")


def test_a_forged_message(lab):
    """The kernel takes it for true; packets of 1200 octets go on through the tunnel, at once and later."""
    lab.heron("connect", "lisbon", "--detach", check=0)
    gateway = story.PLACE_BY_NAME["lisbon"].outer
    forger = lab.start("cobblewire", sys.executable, "-c", FORGE, "552", gateway)
    assert forger.stdout.readline() == "ready\n"
    ping = ("ping", "-c", "1", "-W", "2", "-s", "1172", "-M", "do", story.OBSERVATORY4)
    lab.shell("heron", *ping)
    assert forger.stdout.readline() == "sent\n"
    forger.communicate(timeout=10)
    assert "mtu 552" in lab.shell("heron", "ip", "route", "get", gateway).out, "the kernel has not believed it"
    # The first one may be refused by the system; from then on it is not asked.
    lab.shell("heron", *ping, check=None)
    for _ in range(3):
        lab.shell("heron", *ping)
        time.sleep(0.2)
    assert lab.heron("verify", check=0).json["verdict"] == "sealed"
    # Nor is the next tunnel held to it, over which whole connections go, in both families.
    lab.heron("disconnect", check=0)
    lab.heron("connect", "lisbon", "--detach", check=0)
    for address in (story.OBSERVATORY4, story.OBSERVATORY6):
        with lab.start("observatory", sys.executable, "-c", COUNT, address) as counting:
            assert counting.stdout.readline() == "ready\n"
            lab.shell("heron", sys.executable, "-c", SEND, address)
            assert counting.stdout.readline() == f"{1 << 20}\n"
