"""PPTP in the lab: only by an explicit word, in the guard, with its finding; and off it again."""

from __future__ import annotations

import pytest

from lab.situations import STUN_FROM_OTHERS
from support import until
from zesty_burrow.lab import story
from zesty_burrow.lab.client import LabClient

pytestmark = pytest.mark.lab
NAME = "quillwort-lisbon"
AS_IT_IS = {
    "pptp-unprotected", "policy-negotiated", "address-changed", "dns-inside", "exit-as-promised", "local-network-public",
    "ways-none-beside", "watch-clean",
}  # fmt: skip


@pytest.fixture
def by_pptp(lab):
    """The profile goes by PPTP for one test."""
    lab.heron("choose", NAME, "--protocol", "pptp", check=0)
    yield lab
    lab.heron("disconnect")
    lab.heron("choose", NAME, "--protocol", "ikev2", check=0)


def test_the_word_is_needed_each_time(by_pptp):
    """For a tunnel, a trial and a rehearsal alike; nothing is sent without it."""
    refused = by_pptp.gateway("lisbon")["signed_in"]
    for words in (["connect", NAME, "--detach"], ["credentials", "try", NAME]):
        ended = by_pptp.heron(*words)
        assert ended.json["code"] == "pptp-unprotected" and "--unprotected" in ended.json["next_step"]
    (row,) = by_pptp.heron("rehearse", NAME).json["rehearsals"]
    assert row["verdict"] == "failed"
    assert by_pptp.gateway("lisbon")["signed_in"] == refused
    assert "pptp-unprotected" in by_pptp.heron("show", NAME, check=0).codes


def test_up(by_pptp):
    """Tried, rehearsed, connected, verified; the finding stays; the guard opens the connection and GRE alone."""
    assert by_pptp.heron("credentials", "try", NAME, "--unprotected").code == 0
    (row,) = by_pptp.heron("rehearse", NAME, "--unprotected").json["rehearsals"]
    assert row["verdict"] == "doubtful", row
    up = by_pptp.heron("--debug", "connect", NAME, "--detach", "--unprotected", check=0).json["tunnel"]
    assert up["protocol"] == "PPTP, MPPE in GRE"
    assert up["algorithms"] == {"MPPE": "MPPE with RC4 and 128-bit keys, no integrity"}
    assert [one[0] for one in up["findings"]] == ["pptp-unprotected"], up["findings"]
    # The exit is as promised and no name leaks; and whoever is on the way can read it all.
    seen = []

    def verified():
        seen.append(by_pptp.heron("verify", check=10))
        return seen[-1].codes == AS_IT_IS

    # What the tunnel's process notices of the local network comes a moment after it is up.
    until(verified)
    assert {one.json["verdict"] for one in seen} == {"leaking"}
    for size in ("56", "1300", "4000"):
        by_pptp.shell("heron", "ping", "-c", "2", "-i", "0.2", "-W", "3", "-s", size, story.OBSERVATORY4)
    by_pptp.shell("heron", "ping", "-6", "-c", "2", "-i", "0.2", "-W", "3", story.OBSERVATORY6)
    rules = by_pptp.shell("heron", "nft", "list", "ruleset").out
    outer = story.PLACE_BY_NAME["lisbon"].outer
    assert outer in rules and "tcp dport 1723" in rules and "l4proto gre" in rules
    shown = by_pptp.heron("guard", "show", check=0).text
    assert f"{outer} TCP port 1723, from its own sockets" in shown and f"{outer} GRE, from its own sockets" in shown
    status = by_pptp.heron("status", check=0).json["tunnel"]
    assert (status["rejected"], status["dropped"]) == (0, STUN_FROM_OTHERS * len(seen)) and status["packets_in"] > 8
    by_pptp.heron("disconnect", check=0)
    until(lambda: by_pptp.gateway("lisbon")["tunnels"] == 0, 10)


def test_it_comes_back(by_pptp):
    """Ended by the gateway: the guard holds, and it is there again, by the word that was said at the start."""
    by_pptp.heron("connect", NAME, "--detach", "--unprotected", check=0)
    LabClient(by_pptp.folder).call_host("lisbon", "end")
    until(lambda: by_pptp.heron("status").json["tunnel"]["reconnects"] == 1, 30)
    until(lambda: by_pptp.heron("verify").codes == AS_IT_IS)


def test_a_refused_password(by_pptp):
    by_pptp.fault("lisbon", "refused-password")
    tried = by_pptp.heron("credentials", "try", NAME, "--unprotected")
    assert (tried.json["code"], tried.code) == ("sign-in-refused", 8)
