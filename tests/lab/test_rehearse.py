"""Rehearsals with the real program: every step, every fault, no rights, beside a live tunnel, interrupted."""

from __future__ import annotations

import csv
import io
import json
import sys

import pytest

from support import Ended
from zesty_burrow.lab import story

pytestmark = pytest.mark.lab

PROVIDERS = ("--provider", story.PROVIDER)
STEPS = ["resolve", "reach", "negotiate", "prove", "sign in"]


def by_profile(result):
    return {entry["profile"]: entry for entry in result.json["rehearsals"]}


def test_all_places(lab):
    """Each place: all steps, its own exit in both families, its provider's resolver; nothing is left anywhere."""
    before = lab.network()
    tunnels = {place.name: lab.gateway(place.name)["tunnels"] for place in story.PLACES}
    result = lab.heron("rehearse", *PROVIDERS)
    rows = by_profile(result)
    assert [row for row in rows.values() if row["verdict"] != "fit"] == []
    assert result.code == 0
    assert set(rows) == {f"quillwort-{place.name}" for place in story.PLACES}
    for place in story.PLACES:
        row = rows[f"quillwort-{place.name}"]
        assert row["verdict"] == "fit"
        assert [entry["step"] for entry in row["steps"]] == STEPS
        assert (row["exit4"]["address"], row["exit6"]["address"]) == (place.address4(3), place.address6(3))
        assert (row["exit4"]["country"], row["exit4"]["operator"]) == (place.country, story.PROVIDER)
        assert {entry["address"] for entry in row["resolvers"]} <= {story.RESOLVER4, story.RESOLVER6}
        assert row["resolvers"]
        assert 0 < row["round_trip"] <= row["seconds"]
        assert row["strength"] == 128
    assert set(result.json["recommended"]) == {"nearest", "fastest", "strongest"}
    assert set(result.json["recommended"].values()) <= set(rows)
    assert lab.network() == before
    assert {place.name: lab.gateway(place.name)["tunnels"] for place in story.PLACES} == tunnels


def test_each_fault_is_told_by_its_step(lab):
    """What is wrong with a gateway shows in its line: the step, the code, doubts; the exit code says: not all fit."""
    lab.fault("lisbon", "expired-certificate")
    lab.fault("nairobi", "refused-password")
    lab.fault("tallinn", "silent")
    lab.fault("montevideo", "exit-elsewhere", "leaking-resolver")
    lab.fault("wellington", "weak-proposals")
    result = lab.heron("rehearse", *PROVIDERS, "--timeout", "1.5", check=12)
    rows = by_profile(result)
    failures = {
        name.removeprefix("quillwort-"): (row["failure"]["step"], row["failure"]["code"])
        for name, row in rows.items()
        if row["failure"]
    }
    assert failures == {
        "lisbon": ("prove", "certificate-expired"),
        "nairobi": ("sign in", "sign-in-refused"),
        "tallinn": ("reach", "gateway-unreachable"),
        "wellington": ("negotiate", "no-agreement"),
    }
    doubtful = rows["quillwort-montevideo"]
    assert doubtful["verdict"] == "doubtful"
    assert {"exit-elsewhere", "dns-foreign"} <= {entry["code"] for entry in doubtful["findings"]}
    assert len(result.json["failures"]) == 4
    assert result.json["recommended"] == {}
    assert "none was fit" in lab.heron("connect", "nearest", "--detach", check=4).json["why"]


def test_one_cause_is_told_once(lab):
    """Three silent gateways are one failure with three profiles."""
    for name in ("lisbon", "tallinn", "nairobi"):
        lab.fault(name, "silent")
    result = lab.heron("rehearse", *PROVIDERS, "--timeout", "1.5", check=12)
    assert [sorted(group["profiles"]) for group in result.json["failures"]] == [
        ["quillwort-lisbon", "quillwort-nairobi", "quillwort-tallinn"]
    ]
    assert len(result.json["recommended"]) == 3


def test_connect_takes_the_nearest(lab):
    """What a rehearsal found, `connect nearest` takes; a rehearsal beside that tunnel disturbs neither."""
    nearest = lab.heron("rehearse", "montevideo", check=0).json["recommended"]["nearest"]
    assert nearest == "quillwort-montevideo"
    up = lab.heron("connect", "nearest", "--detach", check=0)
    assert up.json["tunnel"]["profile"] == nearest
    assert "by the rehearsal of" in up.err
    beside = by_profile(lab.heron("rehearse", "lisbon", "--no-exit", check=0))["quillwort-lisbon"]
    assert (beside["verdict"], beside["carries_outside"]) == ("fit", False)
    assert lab.heron("verify", check=0).json["verdict"] == "sealed"
    assert lab.heron("connect", "fastest", "--detach", check=4).json["code"] == "not-found"


def test_it_needs_no_rights(lab):
    """Without any right over the network, and without a tunnel device, all of it works."""
    ended = lab.shell(
        "heron", "setpriv", "--bounding-set=-all", "--inh-caps=-all",
        sys.executable, "-m", "zesty_burrow", "--json", "rehearse", "tallinn",
    )  # fmt: skip
    assert by_profile(ended)["quillwort-tallinn"]["verdict"] == "fit"


def test_an_office_carries_only_its_own(lab, tmp_path):
    """The exit of an office's gateway is not looked at, and that is no fault."""
    lab.run("lab", "account", "tidewrack_avocet", "--to", str(tmp_path / "office.zip"), check=0)
    lab.heron("import", str(tmp_path / "office.zip"), check=0)
    try:
        rows = by_profile(lab.heron("rehearse", "--provider", story.OFFICE_PROVIDER, check=0))
        assert {row["verdict"] for row in rows.values()} == {"fit"}
        assert {row["carries_outside"] for row in rows.values()} == {False}
    finally:
        lab.heron("remove", "--provider", story.OFFICE_PROVIDER, "--yes")


def test_interrupted(lab):
    """Ctrl-C: what is done is shown, the rest is counted, no gateway keeps a tunnel, exit code 130."""
    lab.fault("nairobi", "silent")
    before = lab.gateway("lisbon")["tunnels"]
    ended = lab.shell(
        "heron", "timeout", "-s", "INT", "6",
        sys.executable, "-m", "zesty_burrow", "--json", "rehearse", *PROVIDERS, "--at-once", "2", "--timeout", "30",
        check=None,
    )  # fmt: skip
    assert isinstance(ended, Ended)
    document = json.loads(ended.out)
    assert document["interrupted"] is True
    assert (len(document["rehearsals"]), document["wanted"]) == (4, 5)
    assert "quillwort-nairobi" not in by_profile(ended)
    assert "Traceback" not in ended.err
    assert lab.gateway("lisbon")["tunnels"] == before


def test_as_a_table_for_other_programs(lab):
    """--csv: a line a profile with the same columns, whether it failed or not."""
    lab.fault("lisbon", "expired-certificate")
    ended = lab.shell("heron", sys.executable, "-m", "zesty_burrow", "rehearse", *PROVIDERS, "--csv", check=None)
    rows = list(csv.DictReader(io.StringIO(ended.out)))
    assert {row["profile"]: row["verdict"] for row in rows}["quillwort-lisbon"] == "failed"
    fit = next(row for row in rows if row["profile"] == "quillwort-tallinn")
    assert float(fit["prove_seconds"]) > 0
    assert fit["exit_country"] == "EE"
    assert fit["resolvers"]
    assert next(row for row in rows if row["profile"] == "quillwort-lisbon")["failure"] == "certificate-expired"


@pytest.mark.parametrize(
    ("words", "code", "slug"),
    [
        (["nowhere-at-all"], 4, "not-found"),
        (["--at-once", "0"], 2, "usage"),
        (["--observatory", "ftp://x"], 2, "usage"),
        (["--observatory", "http://203.0.113.9"], 9, "outside"),
    ],
)
def test_refusals(lab, words, code, slug):
    assert lab.heron("rehearse", *words, check=code).json["code"] == slug
