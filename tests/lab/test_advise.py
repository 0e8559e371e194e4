"""Advice and choice with the real program: gateways asked for real, an organisation's policy in force everywhere."""

from __future__ import annotations

from contextlib import contextmanager

import pytest

from lab.situations import STUN_FROM_OTHERS
from zesty_burrow.lab import story
from zesty_burrow.lab.client import LabClient

pytestmark = pytest.mark.lab

POLICY = """
format = 1
[policy]
name = "Tidewrack Survey"
strength = 192
[traffic]
ipv6 = ["tunnel"]
"""


@contextmanager
def policy(lab, text):
    path = lab.folder / "heron" / "policy.toml"
    path.write_text(text)
    try:
        yield
    finally:
        path.unlink()


def advice(lab, *words):
    return lab.heron("advise", *words, check=0).json["advice"]


def test_one_gateway(lab):
    """What lisbon takes is what it is set to take; the gateway sees no sign-in."""
    seen = lab.gateway("lisbon")["signed_in"]
    found = advice(lab, "lisbon")[0]
    assert found["answered"]
    taken = {row["name"] for row in found["algorithms"] if row["gateway"]}
    assert {"ENCR_AES_GCM_16 256", "ENCR_AES_GCM_16 128", "ENCR_AES_CBC 256", "curve25519"} <= taken
    assert "ENCR_3DES" not in taken
    assert "AUTH_HMAC_SHA2_256_128" in taken
    assert found["would"]["bits"] == found["should"]["bits"] == 128
    assert all(reason["source"] for reason in found["reasons"])
    assert found["findings"] == []
    assert lab.gateway("lisbon")["signed_in"] == seen


def test_many_at_once(lab):
    """A table over all; one that is silent says so, one that takes only weak algorithms is told on."""
    lab.fault("tallinn", "silent")
    lab.fault("nairobi", "weak-proposals")
    rows = {row["profile"]: row for row in advice(lab, "--provider", story.PROVIDER, "--timeout", "1.5")}
    assert len(rows) == 5
    assert "no answer" in rows["quillwort-tallinn"]["silent"]
    assert rows["quillwort-tallinn"]["would"] is None
    weak = rows["quillwort-nairobi"]
    assert (weak["would"], weak["should"]) == (None, None)
    assert {entry["code"] for entry in weak["findings"]} == {"gateway-takes-weak"}
    assert rows["quillwort-lisbon"]["should"]["bits"] == 128


@pytest.mark.parametrize(
    ("faults", "best"),
    [({}, "ikev2 over UDP"), ({"cobblewire": "udp-blocked"}, "connect-ip over TCP"),
     ({"lisbon": "no-extended-connect", "cobblewire": "udp-blocked"}, "ikev2 over TCP")],
)  # fmt: skip
def test_by_which_protocol(lab, faults, best):
    """Asked for real by every protocol and transport; nobody signs in; what is best follows from the answers."""
    for host, fault in faults.items():
        lab.fault(host, fault)
    seen = lab.gateway("lisbon")["signed_in"], lab.gateway("lisbon")["refused"]
    told = lab.heron("advise", "lisbon", "--timeout", "2", check=0).json
    ways = {f"{row['protocol']} over {row['over']}": row for row in told["ways"]}
    # What protects next to nothing is asked about as well, by its TCP port, and advised by nobody.
    assert ways.pop("pptp over GRE")["answered"]
    assert len(ways) == 5
    blocked = "cobblewire" in faults
    assert {name: row["answered"] for name, row in ways.items()} == {
        name: "TCP" in name or not blocked for name in ways
    }
    assert told["best_way"] == best
    assert ("extended CONNECT" in ways["connect-ip over TCP"]["against"]) == ("lisbon" in faults)
    assert all(row["bits"] >= 128 for row in ways.values() if row["answered"])
    assert (lab.gateway("lisbon")["signed_in"], lab.gateway("lisbon")["refused"]) == seen


def test_asked_again_and_again(lab):
    """Within the half a minute for which a gateway holds what was broken off: its places for that are not used up."""
    for _ in range(5):
        told = lab.heron("advise", "wellington", check=0).json
        assert {row["protocol"]: row["answered"] for row in told["ways"]} == {
            "ikev2": True, "connect-ip": True, "l2tp-ipsec": False, "pptp": False}  # fmt: skip


def test_a_gateway_that_does_not_prove_itself(lab):
    """By TLS its certificate is seen before anybody signs in: said, and no way to take."""
    lab.fault("lisbon", "untrusted-authority")
    ways = lab.heron("advise", "lisbon", check=0).json["ways"]
    assert len(ways) == 6
    assert [bool(row["against"]) for row in ways] == [row["protocol"] == "connect-ip" for row in ways]


def test_what_a_phone_knows(lab):
    """CONNECT-IP is nothing that a telephone's own client speaks; L2TP over IPsec is, and is still not advised."""
    told = lab.heron("advise", "lisbon", "--device", "phone", check=0).json
    ways = told["ways"]
    assert {row["protocol"]: row["known_to_device"] for row in ways} == {
        "ikev2": True, "connect-ip": False, "l2tp-ipsec": True, "pptp": False}  # fmt: skip
    assert all(row["answered"] for row in ways)
    assert told["best_way"] == "ikev2 over UDP"


def test_a_gateway_without_a_profile_and_a_kit_without_a_store(lab):
    found = advice(lab, "--gateway", "wellington.quillwort.example")[0]
    assert found["answered"]
    assert found["gateway"].endswith("(2001:db8:1005::2)")
    rows = advice(lab, "--kit", str(lab.kit), "--device", "phone", "--no-ask")
    assert len(rows) == 5
    assert {row["obstacles"] == [] for row in rows} == {True}
    assert {row["answered"] for row in rows} == {False}


def test_a_choice_and_what_comes_of_it(lab):
    """A cipher that was chosen is the one that is used; the standard comes back."""
    try:
        told = lab.heron(
            "choose", "montevideo", "--encryption", "ENCR_AES_CBC 256", "--prf", "PRF_HMAC_SHA2_512", check=0
        )
        assert "ENCR_AES_CBC 256" in told.json["message"]
        up = lab.heron("connect", "montevideo", "--detach", check=0).json["tunnel"]
        assert up["algorithms"]["ESP"] == "ENCR_AES_CBC 256, AUTH_HMAC_SHA2_256_128"
        assert "PRF_HMAC_SHA2_512" in up["algorithms"]["IKE"]
        assert lab.heron("verify", check=0).json["verdict"] == "sealed"
        lab.heron("disconnect", check=0)
        best = lab.heron("choose", "montevideo", "--best", "--order", "random", "--mtu", "1300", check=0)
        assert "IKE ENCR_AES_GCM_16 256" in best.json["message"]
        assert "addresses random, MTU 1300" in best.json["message"]
        words = ["--mtu", "route", "--dscp", "inner", "--clamp-tcp-mss", "--child-octets", "2000000"]
        told = lab.heron("choose", "montevideo", *words, check=0).json["message"]
        for part in (
            "MTU from the route",
            "DSCP as inside",
            "TCP MSS clamped",
            "child SA rekeyed after 2000000 octets",
        ):
            assert part in told
    finally:
        back = ["--mtu", "1400", "--dscp", "0", "--no-clamp-tcp-mss", "--child-octets", str(1 << 36)]
        lab.heron("choose", "montevideo", "--defaults", "--order", "listed", *back, check=0)
    own = lab.heron("show", "montevideo", check=0).json["profile"]["ikev2"]
    assert not {"ike", "esp", "child_octets"} & own.keys()


def test_ml_kem_beside_the_curve(lab):
    """Chosen by command, negotiated with the real program, shown, and the stronger for it."""
    try:
        lab.heron("choose", "nairobi", "--additional-key-exchange", "ml-kem-768", check=0)
        up = lab.heron("connect", "nairobi", "--detach", check=0).json["tunnel"]
        assert up["algorithms"]["IKE"].endswith("curve25519, ml-kem-768")
        for number, kind in enumerate(("rekey-ike", "rekey"), start=1):
            LabClient(lab.folder).call_host("nairobi", kind)
            assert lab.heron("verify", check=0).json["verdict"] == "sealed"
            tunnel = lab.heron("status", check=0).json["tunnel"]
            assert (tunnel["rekeys"], tunnel["rejected"], tunnel["dropped"]) == (number, 0, STUN_FROM_OTHERS * number)
            assert tunnel["algorithms"]["IKE"].endswith("curve25519, ml-kem-768"), kind
        # What the child SA's first keys do not have, its later ones do (RFC 9370 §2.2.4).
        assert tunnel["algorithms"]["ESP"].endswith("curve25519, ml-kem-768")
        lab.heron("disconnect", check=0)
        row = lab.heron("rehearse", "nairobi", check=0).json["rehearsals"][0]
        assert row["strength"] == 192
    finally:
        lab.heron("choose", "nairobi", "--defaults", check=0)


def test_extended_sequence_numbers(lab):
    """Chosen by command, agreed on with the real program, and packets go both ways under them."""
    try:
        lab.heron("choose", "tallinn", "--sequence-numbers", "Extended Sequence Numbers", check=0)
        up = lab.heron("connect", "tallinn", "--detach", check=0).json["tunnel"]
        assert up["algorithms"]["ESP"] == "ENCR_AES_GCM_16 256, Extended Sequence Numbers"
        assert lab.heron("verify", check=0).json["verdict"] == "sealed"
        lab.heron("disconnect", check=0)
        assert lab.heron("rehearse", "tallinn", check=0).json["rehearsals"][0]["verdict"] == "fit"
    finally:
        lab.heron("choose", "tallinn", "--defaults", check=0)


def test_what_goes_through_and_what_is_left_out(lab):
    """One address is left out of everything: the outside sees it come from home, and the rest from the exit."""
    observatory = f"{story.OBSERVATORY4}/32"
    try:
        told = lab.heron("choose", "montevideo", "--leave-out", observatory, check=0).json["message"]
        assert f"everything except {observatory}" in told
        lab.heron("connect", "montevideo", "--detach", check=0)
        seen = lab.heron("verify").json["after"]
        assert seen["ipv4"]["address"] == story.COTTAGE_PUBLIC4
        assert seen["ipv6"]["address"] == story.PLACE_BY_NAME["montevideo"].address6(3)
        lab.heron("disconnect", check=0)
        lab.heron("choose", "montevideo", "--networks", "203.0.113.0/24", "--leave-out", "none", check=0)
        up = lab.heron("connect", "montevideo", "--detach", check=0).json["tunnel"]
        assert up["ipv6"] == "untouched"
        seen = lab.heron("verify").json["after"]
        assert seen["ipv4"]["address"] == story.PLACE_BY_NAME["montevideo"].address4(3)
        lab.heron("disconnect", check=0)
        assert lab.heron("choose", "montevideo", "--networks", "everywhere", check=2).json["code"] == "usage"
    finally:
        lab.heron("choose", "montevideo", "--networks", "everything", "--leave-out", "none", check=0)


@pytest.mark.parametrize(
    ("words", "why"),
    [
        (["--encryption", "ENCR_3DES"], "does not implement it"),
        (["--encryption", "AES"], "not an IANA name"),
        (["--encryption", "ENCR_AES_GCM_16"], "needs a key length"),
        (["--encryption", "ENCR_AES_GCM_16 256", "--integrity", "AUTH_HMAC_SHA2_256_128"], "RFC 5282"),
        (["--defaults", "--prf", "PRF_HMAC_SHA2_256"], "only one"),
        (["--port", "0"], "between 1 and 65535"),
        (["--mtu", "100"], "between 1280"),
        (["--mtu", "0"], "between 1280"),
        (["--dscp", "64"], "between 0 and 63"),
        (["--child-seconds", "5"], "between 60"),
    ],
)
def test_what_cannot_be_chosen(lab, words, why):
    """Refused with the reason, and the profile stays as it is."""
    before = lab.heron("show", "lisbon", check=0).json["profile"]
    refused = lab.heron("choose", "lisbon", *words)
    assert refused.code in (2, 3)
    assert why in refused.json["what"] + refused.json["why"]
    assert lab.heron("show", "lisbon", check=0).json["profile"] == before


def test_a_policy_is_in_force_everywhere(lab):
    """192 bits: curve25519 is not enough, so nothing is offered with it; connect says why; a looser one lets it through."""
    lab.heron("connect", "lisbon", "--detach", check=0)
    with policy(lab, POLICY):
        status = lab.heron("status", check=0).json
        # The cottage's own prefix is noticed a moment after the tunnel is up.
        codes = {entry["code"] for entry in status["findings"]} - {"local-network-public"}
        assert codes == {"policy-negotiated"}
        codes = {entry["code"] for entry in lab.heron("verify").json["findings"]}
        assert "policy-negotiated" in codes
        refused = lab.heron("choose", "lisbon", "--key-exchange", "curve25519", check=2).json
        assert "128 bits are fewer than 192" in refused["why"]
        assert "Tidewrack Survey" in refused["why"]
        assert advice(lab, "tallinn")[0]["should"] is None
        lab.heron("disconnect", check=0)
        failed = lab.heron("connect", "lisbon", "--detach", check=3).json
        assert failed["code"] == "policy-algorithm"
        rehearsed = lab.heron("rehearse", "lisbon", check=12).json["rehearsals"][0]
        assert rehearsed["failure"]["code"] == "policy-algorithm"
    with policy(lab, POLICY + '[algorithms]\nallowed = ["curve25519"]\n'):
        lab.heron("connect", "lisbon", "--detach", check=0)
    with policy(lab, "format = 1\n[algorithms]\nforbidden = ['AES']\n"):
        assert "algorithms.forbidden" in lab.heron("advise", "lisbon", check=3).json["what"]


def test_import_is_judged_by_the_policy(lab):
    """A kit whose profiles break the policy is taken with a warning, and refused with --strict."""
    with policy(lab, 'format = 1\n[sign_in]\nmethods = ["certificate"]\n'):
        codes = [entry["code"] for entry in lab.heron("inspect", str(lab.kit), check=0).json["findings"]]
        assert codes.count("policy-sign-in") == 5
        assert lab.heron("import", str(lab.kit), "--strict", check=3).json["code"] == "strict"
        refused = lab.heron("connect", "lisbon", "--detach", check=3).json
        assert (refused["code"], "eap-mschapv2" in refused["why"]) == ("policy-sign-in", True)
