"""L2TP over IPsec in the lab: from a sheet to a verified tunnel; faults; new keys; moves; what it never sends."""

from __future__ import annotations

import zipfile

import pytest

from lab.situations import STUN_FROM_OTHERS
from support import until
from zesty_burrow.lab import story
from zesty_burrow.lab.client import LabClient

pytestmark = pytest.mark.lab
NAME = "quillwort-lisbon"


@pytest.fixture
def by_l2tp(lab):
    """The profile goes by L2TP over IPsec for one test; the shared key is kept like any credentials."""
    words = ["credentials", "change", story.PROVIDER, "--kind", "pre-shared-key", "--from", "-"]
    lab.heron(*words, stdin=(lab.folder / "shared-key.txt").read_text(), check=0)
    lab.heron("choose", NAME, "--protocol", "l2tp-ipsec", check=0)
    yield lab
    lab.heron("disconnect")
    lab.heron("choose", NAME, "--protocol", "ikev2", check=0)


def ping(lab, *words, check=0):
    return lab.shell("heron", "ping", "-c", "2", "-i", "0.2", "-W", "3", *words, check=check)


def test_from_a_sheet(lab, tmp_path):
    """An IT department's sheet: imported, tried, rehearsed, connected, verified; nothing but the office goes through."""
    kit = tmp_path / "office.zip"
    lab.run("lab", "account", "TIDEWRACK_Otter", "--sign-in", "l2tp", "--to", str(kit), check=0)
    with zipfile.ZipFile(kit) as archive:
        (name,) = archive.namelist()
        sheet = archive.read(name).decode()
    password = sheet.partition("Password: ")[2].splitlines()[0]
    shared = sheet.partition("Shared secret: ")[2].splitlines()[0]
    shown = lab.heron("inspect", str(kit), check=0)
    assert "ikev1-used" in shown.codes and "protocol-retired" not in shown.codes
    # Another test's may be there, by another protocol.
    lab.heron("remove", "office")
    lab.heron("import", str(kit), check=0)
    said = []
    try:
        profile = lab.heron("show", "office", check=0).json["profile"]
        assert profile["tunnel"]["protocol"] == "l2tp-ipsec"
        assert (profile["sign_in"]["gateway"], profile["sign_in"]["method"]) == ("pre-shared-key", "ms-chap-v2")
        said.append(lab.heron("credentials", "try", "office", check=0))
        said.append(lab.heron("rehearse", "office", check=12))
        (row,) = said[-1].json["rehearsals"]
        # What is retired is never simply fit.
        assert (row["verdict"], row["step_reached"]) == ("doubtful", "sign in")
        said.append(lab.heron("--debug", "connect", "office", "--detach", check=0))
        tunnel = said[-1].json["tunnel"]
        assert tunnel["protocol"] == "L2TP over IPsec, IKEv1, ESP in UDP"
        assert tunnel["algorithms"]["ESP"] == "ENCR_AES_GCM_16 256"
        assert [one[0] for one in tunnel["findings"]] == ["ikev1-used"]
        said.append(lab.heron("verify", check=0))
        assert said[-1].json["verdict"] == "sealed"
        ping(lab, story.OFFICE_FILES)
        said.append(lab.heron("status", check=0))
        said.append(lab.heron("disconnect", check=0))
        until(lambda: lab.gateway("tromso")["tunnels"] == 0, 10)
        for one in said:
            assert password not in one.out + one.err and shared not in one.out + one.err
    finally:
        lab.heron("disconnect")
        lab.heron("remove", "office", "--yes")


@pytest.mark.parametrize("fault", ["", "numbers-packets"])
def test_up(by_l2tp, fault):
    """Everything through it, both families, packets of any size; new keys of both kinds from the gateway's side."""
    if fault:
        by_l2tp.fault("lisbon", fault)
    by_l2tp.heron("connect", NAME, "--detach", check=0)
    seen = by_l2tp.heron("verify", check=0).json
    assert seen["verdict"] == "sealed"
    assert seen["after"]["ipv6"]["address"] == story.PLACE_BY_NAME["lisbon"].address6(3)
    for size in ("56", "1300", "4000"):
        ping(by_l2tp, "-s", size, story.OBSERVATORY4)
    ping(by_l2tp, "-6", story.OBSERVATORY6)
    for kind in ("rekey", "rekey-ike", "rekey"):
        LabClient(by_l2tp.folder).call_host("lisbon", kind)
        ping(by_l2tp, story.OBSERVATORY4)
    status = by_l2tp.heron("status", check=0).json["tunnel"]
    assert status["rekeys"] == 3 and (status["rejected"], status["dropped"]) == (0, STUN_FROM_OTHERS)
    assert status["reconnects"] == 0
    by_l2tp.heron("disconnect", check=0)
    until(lambda: by_l2tp.gateway("lisbon")["tunnels"] == 0, 10)


@pytest.mark.parametrize(
    ("fault", "words", "code", "exit_code"),
    [
        ("wrong-shared-key", [], "shared-key-wrong", 8),
        ("refused-password", [], "sign-in-refused", 8),
        ("asks-for-pap", [], "sign-in-refused", 8),
        ("silent", ["--timeout", "2"], "gateway-unreachable", 6),
        ("weak-proposals", [], "no-agreement", 6),
    ],
)
def test_what_it_does_not_go_with(by_l2tp, fault, words, code, exit_code):
    """Each refusal by its own code, from a tunnel and from a trial without one."""
    by_l2tp.fault("lisbon", fault)
    tried = by_l2tp.heron("credentials", "try", NAME, "--timeout", "2")
    assert tried.json["code"] == code
    (row,) = by_l2tp.heron("rehearse", NAME, "--timeout", "2").json["rehearsals"]
    assert row["verdict"] == "failed"
    ended = by_l2tp.heron("connect", NAME, "--detach", "--timeout", "2", *words)
    assert (ended.json["code"], ended.code) == (code, exit_code), ended.text


def test_weak_algorithms_by_an_explicit_word(by_l2tp):
    """Up with them, which is said as long as it is up; without the word they are refused by name."""
    refused = by_l2tp.heron("choose", NAME, "--encryption", "3des")
    assert refused.code == 2 and "--weak-algorithms" in refused.json["next_step"]
    by_l2tp.fault("lisbon", "weak-proposals")
    by_l2tp.heron("choose", NAME, "--weak-algorithms", check=0)
    try:
        by_l2tp.heron("connect", NAME, "--detach", check=0)
        tunnel = by_l2tp.heron("status", check=0).json["tunnel"]
        assert tunnel["algorithms"]["ESP"] == "ENCR_3DES, AUTH_HMAC_SHA1_96"
        assert "weak-agreed" in [one[0] for one in tunnel["findings"]]
        ping(by_l2tp, story.OBSERVATORY4)
    finally:
        by_l2tp.heron("disconnect")
        by_l2tp.heron("choose", NAME, "--defaults", check=0)


def test_pap_by_an_explicit_word(by_l2tp):
    """Under IPsec alone, and where the profile says so."""
    by_l2tp.fault("lisbon", "asks-for-pap")
    assert by_l2tp.heron("choose", NAME, "--sign-in", "eap-tls").code == 2
    by_l2tp.heron("choose", NAME, "--sign-in", "pap", check=0)
    assert by_l2tp.heron("credentials", "try", NAME).code == 0
    by_l2tp.heron("connect", NAME, "--detach", check=0)
    ping(by_l2tp, story.OBSERVATORY4)


@pytest.mark.parametrize("call", ["end", pytest.param("restart", marks=pytest.mark.soak)])
def test_it_comes_back(by_l2tp, call):
    """Ended by the gateway, or forgotten by it: the guard holds, and the tunnel is there again."""
    by_l2tp.heron("change", NAME, "--set", "l2tp-ipsec.peer_seconds=10", check=0)
    by_l2tp.heron("connect", NAME, "--detach", check=0)
    LabClient(by_l2tp.folder).call_host("lisbon", call)
    until(lambda: by_l2tp.heron("status").json["tunnel"]["reconnects"] == 1, 40)
    until(lambda: by_l2tp.heron("verify").json.get("verdict") == "sealed")


def test_a_move(by_l2tp):
    """From the cottage to the harbour: the gateway follows what is authentic; nothing is set up anew."""
    by_l2tp.heron("connect", NAME, "--detach", check=0)
    by_l2tp.run("lab", "move", "harbour", check=0)
    try:
        until(lambda: by_l2tp.heron("verify").json.get("verdict") == "sealed")
        until(lambda: by_l2tp.heron("status").json["tunnel"]["address_changes"] >= 1)
        assert by_l2tp.heron("status", check=0).json["tunnel"]["reconnects"] == 0
    finally:
        by_l2tp.run("lab", "move", "cottage", check=0)
