"""A local network that claims an office's addresses gets nothing for it, with one tunnel or two; a public one only by name."""

from __future__ import annotations

import pytest

from support import until
from zesty_burrow.lab import story

pytestmark = pytest.mark.lab
CLAIM = ("ip", "address", "add", "10.20.0.77/16", "dev", "lan")
SEND = """
import socket, sys
with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as channel:
    for _ in range(3):
        try: channel.sendto(b"for the office", (sys.argv[1], 9))
        except OSError as problem: print("refused", problem)
"""


@pytest.fixture(scope="module")
def offices(whole_lab, tmp_path_factory):
    """Profiles of the office's: for its networks alone, and for all traffic."""
    names = {}
    for traffic in ("office", "everything"):
        kit = tmp_path_factory.mktemp(traffic) / "kit.zip"
        words = ("--traffic", traffic, "--to", str(kit))
        whole_lab.run("lab", "account", f"tidewrack_trust_{traffic}", *words, check=0)
        names[traffic] = whole_lab.heron("import", str(kit), check=0).json["profiles"][0]["name"]
    yield names
    whole_lab.heron("remove", *names.values(), "--yes", check=0)


@pytest.fixture
def claimed(lab):
    lab.shell("heron", *CLAIM)
    yield lab
    lab.heron("disconnect")
    lab.shell("heron", "ip", "address", "del", "10.20.0.77/16", "dev", "lan")


def way_to(lab, address):
    return lab.shell("heron", "ip", "route", "get", address).out.split(" dev ")[1].split()[0]


def sent_by_the_outer_device(lab, address):
    """How many packets to an address the outer device has counted, in spite of the guard."""
    lab.shell("heron", "nft", "add table netdev count; add chain netdev count c { type filter hook egress device lan priority 0; };"
              f"add counter netdev count n; add rule netdev count c ip daddr {address} counter name n")  # fmt: skip
    lab.shell("heron", "python3", "-c", SEND, address)
    text = lab.shell("heron", "nft", "list counter netdev count n").out
    lab.shell("heron", "nft", "delete table netdev count")
    return int(text.partition("packets ")[2].split()[0])


@pytest.mark.parametrize(
    "which", [["everything"], ["office"], ["office", "lisbon"], ["lisbon", "office"]], ids=" then ".join
)
def test_the_office_wins(claimed, offices, which):
    """Whether its tunnel takes everything, its own networks, or is one of two, in either order."""
    lab = claimed
    for number, one in enumerate(which):
        beside = ["--beside"] if number else []
        lab.heron("connect", offices.get(one, one), "--detach", *beside, check=0)
    assert way_to(lab, story.OFFICE_FILES).startswith("zesty")
    assert sent_by_the_outer_device(lab, story.OFFICE_FILES) == 0
    rows = lab.heron("guard", check=0).json["guard"]["lets_through"]
    assert not [row for row in rows if "10.20." in row["what"] and row["counter"] == "local"]
    if which != ["office"]:
        slug = "local-network-overlaps"
        until(lambda: slug in lab.heron("status", check=0).codes or len(which) > 1)


def test_a_public_network_only_by_name(lab):
    """The cottage's own prefix is public: blocked, said, and let through where profile or user name exactly it."""
    mine = "2001:db8:c0b:77::/64"

    def local():
        rows = lab.heron("guard", check=0).json["guard"]["lets_through"]
        return {row["what"].partition(" ")[0] for row in rows if row["counter"] == "local"}

    lab.heron("connect", "lisbon", "--detach", check=0)
    assert mine not in local() and "192.168.77.0/24" in local()
    until(lambda: "local-network-public" in lab.heron("status", check=0).codes)
    lab.heron("disconnect", check=0)
    lab.heron("connect", "lisbon", "--detach", "--local-networks", mine, check=0)
    assert mine in local() and "local-network-public" not in lab.heron("status", check=0).codes
    lab.heron("disconnect", check=0)
    lab.heron("choose", "lisbon", "--local-networks", f"{mine},203.0.113.0/24", check=0)
    lab.heron("connect", "lisbon", "--detach", check=0)
    assert mine in local()
    lab.heron("disconnect", check=0)
    lab.heron("choose", "lisbon", "--local-networks", "none", check=0)
    lab.heron("guard", "on", "--local", "--local-networks", mine, check=0)
    assert mine in local()
    lab.heron("guard", "on", "--local", check=0)
    assert mine not in local()
    lab.heron("guard", "off", check=0)


@pytest.mark.parametrize("target", ["192.168.77.255", "255.255.255.255"])
def test_not_everybody_at_once(lab, target):
    """Subnet broadcasts are blocked, although the local network is let through."""
    lab.heron("connect", "lisbon", "--detach", check=0)
    code = (
        "import socket, sys\n"
        "s = socket.socket(socket.AF_INET, socket.SOCK_DGRAM); s.setsockopt(1, 6, 1); s.setsockopt(1, 25, b'lan')\n"
        "for target in sys.argv[1:]:\n"
        "    try: s.sendto(b'x', (target, 9)); s.sendto(b'x', (target, 9)); print(target, 'sent')\n"
        "    except OSError: print(target, 'refused')\n"
    )
    out = lab.shell("heron", "python3", "-c", code, target, "192.168.77.1").out
    assert f"{target} refused" in out and "192.168.77.1 sent" in out
