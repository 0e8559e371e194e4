"""Each fault knob is met: the precise finding or error, its exit code, and that nothing of ours was sent in vain."""

from __future__ import annotations

import pytest

from zesty_burrow.lab import story

pytestmark = pytest.mark.lab

PROOF = {
    "expired-certificate": "certificate-expired",
    "wrong-name": "certificate-wrong-name",
    "untrusted-authority": "certificate-untrusted",
}


@pytest.mark.parametrize("fault", PROOF)
def test_gateways_that_do_not_prove_themselves(lab, fault):
    """Exit code 7, the certificate's code, a remedy; the gateway saw no sign-in, the machine is unchanged."""
    lab.fault("lisbon", fault)
    before, seen = lab.network(), lab.gateway("lisbon")
    failed = lab.heron("connect", "lisbon", "--detach", check=7)
    assert failed.json["code"] == PROOF[fault]
    assert "no credentials were sent" in failed.json["what"]
    assert "sign in" in failed.json["next_step"] or "certificate" in failed.json["next_step"]
    assert failed.json["step"] == "prove"
    assert "done  negotiate" in failed.err
    assert "done  prove" not in failed.err
    after = lab.gateway("lisbon")
    assert (after["signed_in"], after["refused"]) == (seen["signed_in"], seen["refused"])
    assert "zesty disconnect" in failed.json["next_step"]
    assert lab.network() == sorted([*before, "packet filter: the guard"])
    lab.heron("disconnect", check=0)
    assert lab.network() == before


def test_refused_password(lab):
    """Exit code 8: which gateway, its words, and that web-page credentials are usually not the ones."""
    lab.fault("lisbon", "refused-password")
    failed = lab.heron("connect", "lisbon", "--detach", check=8).json
    assert failed["code"] == "sign-in-refused"
    assert failed["step"] == "sign in"
    assert "error 691" in failed["why"]
    assert "web page" in failed["next_step"]
    assert lab.gateway("lisbon")["refused"] >= 1


def test_silent_gateway(lab):
    """Exit code 6 after the timeout that was asked for; the port to open is named."""
    lab.fault("lisbon", "silent")
    failed = lab.heron("connect", "lisbon", "--detach", "--timeout", "2", check=6).json
    assert failed["code"] == "gateway-unreachable"
    assert failed["step"] == "reach"
    assert "2 seconds" in failed["why"]
    assert "4500" in failed["next_step"]


def test_weak_proposals_only(lab):
    """Exit code 6: no agreement, and no advice to weaken the profile."""
    lab.fault("lisbon", "weak-proposals")
    failed = lab.heron("connect", "lisbon", "--detach", check=6).json
    assert failed["code"] == "no-agreement"
    assert failed["step"] == "negotiate"
    assert "NO_PROPOSAL_CHOSEN" in failed["why"]
    assert "do not weaken" in failed["next_step"]


def test_leaking_resolver(lab):
    """The tunnel comes up, verify says leaking with exit code 10, and names the resolver."""
    lab.fault("lisbon", "leaking-resolver")
    lab.heron("connect", "lisbon", "--detach", check=0)
    seen = lab.heron("verify", check=10)
    assert seen.json["verdict"] == "leaking"
    assert "dns-leak" in seen.codes
    leak = next(entry for entry in seen.json["findings"] if entry["code"] == "dns-leak")
    assert story.ISP_RESOLVER4 in leak["detail"]
    assert "Cobblewire" in leak["detail"]


def test_a_gateway_without_ipv6(lab):
    """IPv6 is blocked while the tunnel is up: verify is sealed, nothing has an IPv6 way out; afterwards it is back."""
    lab.fault("lisbon", "no-ipv6")
    before = lab.network()
    up = lab.heron("connect", "lisbon", "--detach", check=0).json["tunnel"]
    assert up["ipv6"] == "blocked"
    seen = lab.heron("verify", check=0)
    assert "ipv6-absent" in seen.codes
    assert seen.json["after"]["ipv6"]["address"] == ""
    lab.heron("disconnect", check=0)
    assert lab.network() == before


def test_exit_elsewhere(lab):
    """An exit in another country than promised is a serious finding with both places."""
    lab.fault("lisbon", "exit-elsewhere")
    lab.heron("connect", "lisbon", "--detach", check=0)
    seen = lab.heron("verify", check=10)
    assert seen.codes >= {"exit-elsewhere"}
    detail = next(entry["detail"] for entry in seen.json["findings"] if entry["code"] == "exit-elsewhere")
    assert detail == "Hamburg, DE instead of Lisbon, PT"


def test_a_profile_that_leaves_ipv6_outside(lab, tmp_path):
    """traffic.ipv6 = outside: import warns, and verify finds the IPv6 leak and the STUN leak."""
    shown = lab.heron("show", "quillwort-nairobi", check=0).json["profile"]
    shown["traffic"]["ipv6"] = "outside"
    shown["profile"]["name"] = "leaky-nairobi"
    import tomli_w

    path = tmp_path / "leaky.toml"
    path.write_text(tomli_w.dumps(shown))
    assert "ipv6-outside" in lab.heron("import", str(path), check=0).codes
    up = lab.heron("connect", "leaky-nairobi", "--detach", check=0).json["tunnel"]
    assert up["ipv6"] == "outside"
    seen = lab.heron("verify", check=10)
    assert {"ipv6-leak", "real-time-leak"} <= seen.codes
    lab.heron("disconnect", check=0)
    lab.heron("remove", "leaky-nairobi", check=0)


def test_verify_without_a_tunnel(lab):
    """Without a tunnel the address is the one from before: leaking, and the reason is that no tunnel is up."""
    seen = lab.heron("verify", check=10)
    assert {"no-tunnel", "address-unchanged"} <= seen.codes


def test_verify_with_an_observatory_that_is_not_there(lab):
    """Nothing was observed: unclear, exit code 11; a baseline is refused with exit code 9."""
    seen = lab.heron("verify", "--observatory", "http://198.51.100.18", check=11)
    assert "observatory-silent" in seen.codes
    assert lab.heron("verify", "--before", "--observatory", "http://198.51.100.18", check=9).json["code"] == "outside"


def test_extended_run(lab):
    """The extended run looks up thirty-six names, and all are answered."""
    lab.heron("connect", "lisbon", "--detach", check=0)
    after = lab.heron("verify", "--extended", check=0).json["after"]
    assert (after["names_asked"], after["names_answered"]) == (36, 36)


@pytest.mark.parametrize(("host", "faults"), [("nowhere", ()), ("lisbon", ("on-fire",))])
def test_faults_that_do_not_exist(lab, host, faults):
    """An unknown gateway or fault is a usage error that lists the known ones."""
    refused = lab.run("--json", "lab", "fault", host, *faults, check=2)
    assert "there are" in refused.json["why"]
