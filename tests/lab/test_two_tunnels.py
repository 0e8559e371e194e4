"""The office's and the relay's tunnel at one time: routes, names, guard, status, and ends in any order."""

from __future__ import annotations

import json
import sys
import time

import dns.message
import dns.query
import dns.rcode
import pytest

from zesty_burrow.lab import story

pytestmark = pytest.mark.lab
FILES = f"files.{story.OFFICE_SUFFIX}"

TABLE = "inet counted"
CHAIN = f"{TABLE} sent"
COUNTING = (
    f"add table {TABLE}",
    f"add chain {CHAIN} {{{{ type filter hook output priority 0; }}}}",
    f"add rule {CHAIN} oifname {{device}} meta l4proto {{{{ tcp, udp }}}} counter",
)

ASK = """
import json, sys
import dns.message, dns.query, dns.resolver
server, *names = sys.argv[1:]
server = server or dns.resolver.Resolver().nameservers[0]
found = {}
for name in names:
    for how, ask in (("udp", dns.query.udp), ("tcp", dns.query.tcp)):
        answer = ask(dns.message.make_query(name, "A"), server, timeout=9)
        found[name + " " + how] = [str(one) for rows in answer.answer for one in rows] or [str(answer.rcode())]
print(json.dumps(found))
"""


def look_up(lab, *names, server=""):
    """What the machine's first name server says, over UDP and TCP, by another library."""
    return json.loads(lab.shell("heron", sys.executable, "-c", ASK, server, *names).out)


@pytest.fixture(scope="module")
def office(whole_lab, tmp_path_factory):
    kit = tmp_path_factory.mktemp("office") / "office.zip"
    whole_lab.run("lab", "account", "tidewrack_beside", "--to", str(kit), check=0)
    name = whole_lab.heron("import", str(kit), check=0).json["profiles"][0]["name"]
    yield name
    whole_lab.heron("remove", name, check=0)


def reached_over(lab, address):
    return lab.shell("heron", "ip", "route", "get", address).out.split(" dev ")[1].split()[0]


def test_the_office_alone(lab, office):
    """Its names are asked of its server, and every other one of the machine's own."""
    before = lab.network()
    up = lab.heron("connect", office, "--detach", check=0).json["tunnel"]
    assert up["suffixes"] == [story.OFFICE_SUFFIX] and not up["guarded"]
    assert f"resolver search {story.OFFICE_SUFFIX}" in lab.network()
    found = look_up(lab, FILES, story.OBSERVATORY_NAME, f"nobody.{story.OFFICE_SUFFIX}")
    assert found[f"{FILES} udp"] == found[f"{FILES} tcp"] == [story.OFFICE_FILES]
    assert found[f"{story.OBSERVATORY_NAME} udp"] == [story.OBSERVATORY4]
    assert found[f"nobody.{story.OFFICE_SUFFIX} udp"] == [str(int(dns.rcode.NXDOMAIN))]
    # What is outside knows nothing of the office's names, and was not asked for them.
    assert look_up(lab, FILES, server=story.ISP_RESOLVER4)[f"{FILES} udp"] != [story.OFFICE_FILES]
    lab.heron("disconnect", check=0)
    assert lab.network() == before


def test_the_announced_resolver(lab, office):
    """The office's names are asked by DNS over TLS; where that is closed, of the plain server, and it is said why."""
    lab.shell("tromso", "nft", "add table inet plain; add chain inet plain from { type filter hook input priority 0; };"
              "add rule inet plain from udp dport 53 ip daddr 10.20.0.53 drop")  # fmt: skip
    try:
        lab.heron("connect", office, "--detach", check=0)
        assert lab.heron("status", check=0).json["tunnel"]["encrypted_dns"] == "not asked yet"
        assert look_up(lab, FILES)[f"{FILES} udp"] == [story.OFFICE_FILES]
        assert lab.heron("status", check=0).json["tunnel"]["encrypted_dns"] == "in use"
        shown = lab.shell("heron", sys.executable, "-m", "zesty_burrow", "status").out
        assert f"{story.OFFICE_ENCRYPTED_RESOLVER} by DNS over TLS (port 853) at 10.20.0.53; in use" in shown
    finally:
        lab.shell("tromso", "nft", "delete table inet plain")
    lab.heron("disconnect", check=0)
    lab.shell("tromso", "nft", "add table inet dot; add chain inet dot from { type filter hook input priority 0; };"
              "add rule inet dot from tcp dport 853 reject with tcp reset")  # fmt: skip
    try:
        lab.heron("connect", office, "--detach", check=0)
        assert look_up(lab, FILES)[f"{FILES} udp"] == [story.OFFICE_FILES]
        state = lab.heron("status", check=0).json["tunnel"]["encrypted_dns"]
        assert state.startswith("not used: ") and "refused" in state.lower()
    finally:
        lab.shell("tromso", "nft", "delete table inet dot")
    lab.heron("disconnect", check=0)


@pytest.mark.parametrize("first", ["relay", "office"])
def test_both(lab, office, first):
    """Either may come first, and end first; each keeps its own, and in the end the machine is as it was."""
    before = lab.network()
    names = ["quillwort-lisbon", office] if first == "relay" else [office, "quillwort-lisbon"]
    lab.heron("connect", names[0], "--detach", check=0)
    alone = lab.network()
    up = lab.heron("connect", names[1], "--detach", "--beside", check=0).json["tunnel"]
    assert up["device"] == "zesty1"
    status = lab.heron("status", check=0).json
    assert status["tunnel"]["profile"] == "quillwort-lisbon"
    assert [one["profile"] for one in status["others"]] == [office]
    devices = {one["profile"]: one["device"] for one in (status["tunnel"], *status["others"])}
    assert reached_over(lab, story.OBSERVATORY4) == devices["quillwort-lisbon"]
    assert reached_over(lab, story.OFFICE_FILES) == devices[office]
    found = look_up(lab, FILES, story.OBSERVATORY_NAME)
    assert found[f"{FILES} udp"] == found[f"{FILES} tcp"] == [story.OFFICE_FILES]
    assert found[f"{story.OBSERVATORY_NAME} udp"] == [story.OBSERVATORY4]
    seen = lab.heron("verify", check=0).json
    assert (seen["verdict"], seen["after"]["ipv4"]["country"]) == ("sealed", "PT")
    assert [row["address"] for row in seen["after"]["resolvers"]] == [story.RESOLVER4]
    assert lab.shell("heron", "ping", "-c", "2", "-W", "2", story.OFFICE_FILES).code == 0
    line = lab.heron("status", "--line", check=0).json["line"]
    assert line.startswith(f"up quillwort-lisbon+{office} ")
    ended = lab.heron("disconnect", names[1], check=0).json
    assert (ended["profile"], ended["others"]) == (names[1], [])
    assert lab.network() == alone
    assert lab.heron("status", check=0).json["tunnel"]["profile"] == names[0]
    lab.heron("disconnect", check=0)
    assert lab.network() == before


def test_all_at_once_and_what_is_refused(lab, office):
    """Overlaps are told before anybody signs in; one word ends both."""
    before = lab.network()
    lab.heron("connect", "lisbon", "--detach", check=0)
    refused = lab.heron("connect", "tallinn", "--detach", "--beside", check=4).json
    assert refused["code"] == "tunnels-overlap" and "0.0.0.0/0" in refused["why"]
    assert lab.gateway("tallinn")["tunnels"] == 0
    lab.heron("connect", office, "--detach", "--beside", check=0)
    assert lab.heron("connect", office, "--detach", "--beside", check=4).json["code"] == "already-up"
    # Another place is wanted instead of the relay's, and not of the office's.
    assert lab.heron("connect", "tallinn", "--detach", check=0).json["tunnel"]["country"] == "EE"
    assert look_up(lab, FILES)[f"{FILES} udp"] == [story.OFFICE_FILES]
    assert lab.heron("disconnect", "wellington", check=4).json["result"] == "error"
    assert lab.heron("status", office, check=0).json["tunnel"]["profile"] == office
    ended = lab.heron("disconnect", check=0).json
    assert ended["profile"] == "quillwort-tallinn"
    assert [one["profile"] for one in ended["others"]] == [office]
    assert lab.network() == before


def test_by_name_when_it_is_gone(lab):
    """A tunnel that has ended has left the guard closed: its name opens it, and another's does not."""
    process = lab.heron("connect", "lisbon", "--detach", check=0).json["tunnel"]["process"]
    lab.shell("heron", "kill", "-TERM", str(process))
    until = time.monotonic() + 10
    while lab.heron("status").json["tunnel"] and time.monotonic() < until:
        time.sleep(0.1)
    assert lab.heron("disconnect", "quillwort-tallinn", check=4).json["code"] == "not-found"
    assert lab.heron("status", check=21).json["guard"]["in_force"]
    assert lab.heron("disconnect", "quillwort-lisbon", check=0).json["was_up"] is False
    assert lab.heron("status", check=22).json["guard"] is None


def test_two_begin_at_once(lab):
    """Of two that are started together one comes up, and the other is told why it does not."""
    before = lab.network()
    both = [
        lab.start("heron", sys.executable, "-m", "zesty_burrow", "--json", "connect", place, "--detach", "--beside")
        for place in ("lisbon", "tallinn")
    ]
    told = [json.loads(one.communicate(timeout=60)[0]) for one in both]
    assert sorted(one["result"] for one in told) == ["error", "up"]
    code = next(one["code"] for one in told if one["result"] == "error")
    assert code in ("busy", "already-up", "tunnels-overlap")
    assert lab.heron("status", check=0).json["others"] == []
    lab.heron("disconnect", check=0)
    assert lab.network() == before


def test_one_is_killed(lab, office):
    """The relay's process is killed: nothing leaves but by the office's tunnel, until restore; the office's goes on."""
    before = lab.network()
    process = lab.heron("connect", "lisbon", "--detach", check=0).json["tunnel"]["process"]
    lab.heron("connect", office, "--detach", "--beside", check=0)
    lab.kill(process)
    assert lab.heron("status").code == 23
    out = lab.shell("heron", "ping", "-c", "1", "-W", "1", story.OBSERVATORY4, check=None)
    assert out.code != 0
    assert lab.shell("heron", "ping", "-c", "2", "-W", "2", story.OFFICE_FILES).code == 0
    assert look_up(lab, FILES)[f"{FILES} udp"] == [story.OFFICE_FILES]
    assert look_up(lab, story.OBSERVATORY_NAME)[f"{story.OBSERVATORY_NAME} udp"] == [str(int(dns.rcode.SERVFAIL))]
    lab.heron("restore", check=0)
    found = look_up(lab, FILES, story.OBSERVATORY_NAME)
    assert found[f"{FILES} udp"] == [story.OFFICE_FILES]
    assert found[f"{story.OBSERVATORY_NAME} udp"] == [story.OBSERVATORY4]
    lab.heron("disconnect", check=0)
    assert lab.network() == before


def test_names_that_failed_outside_stay_outside(lab, office):
    """RFC 8598 §1: a search list puts the office's suffix behind every name that the world does not know. Those are not
    asked of the office; a name that was meant for it is.
    """
    lab.heron("connect", office, "--detach", check=0)

    device = lab.heron("status", check=0).json["tunnel"]["device"]
    for line in COUNTING:
        lab.shell("heron", "nft", line.format(device=device))

    def sent():
        """TCP and UDP by the tunnel's device. The kernel also sends ICMPv6 by it, at any time."""
        rows = json.loads(lab.shell("heron", "nft", "-j", "list", "chain", *CHAIN.split()).out)["nftables"]
        return sum(
            one["counter"]["packets"] for row in rows for one in row.get("rule", {}).get("expr", []) if "counter" in one
        )

    mistyped = f"mistyped.{story.OBSERVATORY_NAME}"
    assert look_up(lab, mistyped)[f"{mistyped} udp"] in (["3"], [str(int(dns.rcode.NXDOMAIN))], ["0"])

    before = sent()
    searched = look_up(lab, f"{mistyped}.{story.OFFICE_SUFFIX}")
    assert set(map(tuple, searched.values())) == {(str(int(dns.rcode.NXDOMAIN)),)}
    assert sent() == before
    look_up(lab, f"new.{story.OFFICE_SUFFIX}", f"a.b.{story.OFFICE_SUFFIX}")
    assert sent() > before
    lab.shell("heron", "nft", f"delete table {TABLE}")
    lab.heron("disconnect", check=0)
