"""The provider's kit with each place by each protocol and transport: read, and rehearsed all at once, mixed."""

from __future__ import annotations

import pytest

from zesty_burrow.lab import story

pytestmark = pytest.mark.lab
PLACES = [place.name for place in story.PLACES]
NAMES = [f"{place}-{way}" for place in PLACES for way in ("ikev2-udp", "ikev2-tcp", "connect-ip-tcp", "connect-ip-udp")]
OLD = "lisbon-l2tp"


def test_mixed(every_protocol):
    """Each row becomes what it says; each gateway grants a tunnel by each; what is retired is never simply fit."""
    for name in NAMES:
        profile = every_protocol.heron("show", name, check=0).json["profile"]
        protocol, _, over = name.partition("-")[2].rpartition("-")
        assert (profile["tunnel"]["protocol"], profile[protocol]["transport"]) == (protocol, over), name
    ended = every_protocol.heron("rehearse", "--no-exit", "--at-once", "40")
    rows = {row["profile"]: row for row in ended.json["rehearsals"]}
    assert {name: rows[name]["verdict"] for name in (*NAMES, OLD)} == {**dict.fromkeys(NAMES, "fit"), OLD: "doubtful"}
    assert not any(row["exit_checked"] for row in rows.values())
    assert {row["over"] for row in rows.values()} == {
        "ikev2 UDP", "ikev2 TCP", "connect-ip TCP", "connect-ip UDP", "l2tp-ipsec UDP",
    }  # fmt: skip
