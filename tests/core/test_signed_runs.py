"""What proves an observatory's word, and the runs that are kept: published vectors, and every kind of tampering."""

from __future__ import annotations

import base64
import hashlib
import hmac
import io
import json
import re
import struct
import subprocess
import sys
import zipfile
import zlib
from contextlib import suppress
from pathlib import Path

import pytest
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from hypothesis import given
from hypothesis import strategies as st

from zesty_burrow.core.crypto import jws
from zesty_burrow.core.outside import stun
from zesty_burrow.core.outside.runs.archive import COLUMNS, MANIFEST, RUNS, check_archive, csv_of, make_archive
from zesty_burrow.core.outside.runs.chain import check_chain, make_record
from zesty_burrow.core.outside.runs.record import (
    LONGEST,
    RunFacts,
    bounded,
    canonical,
    changes_between,
    digest,
    round_trip_change,
)
from zesty_burrow.core.outside.runs.tables import csv_table
from zesty_burrow.errors import Malformed

DOCS = Path(__file__).parent.parent.parent / "docs"
KEY = Ed25519PrivateKey.from_private_bytes(jws.decode("nWGxne_9WmC6hEr0kuwsxERJxWl7MmkZcDusAxyuf2A"))
OTHER = Ed25519PrivateKey.from_private_bytes(bytes(range(32)))
SIGNED = (
    "eyJhbGciOiJFZERTQSJ9.RXhhbXBsZSBvZiBFZDI1NTE5IHNpZ25pbmc.hgyY0il_MGCj"
    "P0JzlnLWG1PPOt7-09PGcvMg3AIbQR6dWbhijcNR4ki4iylGjg5BhVsPt9g7sVvpAr_MuM0KAg"
)


def test_rfc_8037():
    """Appendix A: key, thumbprint, signature and its check."""
    public = KEY.public_key()
    assert jws.public_text(public) == "11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo"
    assert jws.thumbprint(public) == "kPrK_qmxVWaYVA9wwBF6Iuo3vVzz7TxHCTwXBygrS4k"
    assert jws.sign(KEY, b"Example of Ed25519 signing", {"alg": "EdDSA"}) == SIGNED
    assert jws.verify(SIGNED, public) == jws.payload_of(SIGNED) == b"Example of Ed25519 signing"


@pytest.mark.parametrize(
    ("text", "why"),
    [
        (SIGNED[:-2] + "AA", "does not hold"),
        (SIGNED.replace("RXhh", "RXhi"), "does not hold"),
        ("eyJhbGciOiJub25lIn0." + SIGNED.split(".", 1)[1], "algorithm"),
        (jws.encode(b'{"alg":"EdDSA","crit":["x"]}') + "." + SIGNED.split(".", 1)[1], "algorithm"),
        (SIGNED.rpartition(".")[0], "header.payload.signature"),
        (SIGNED + ".x", "header.payload.signature"),
        ("é.é.é", "header.payload.signature"),
        ("", "header.payload.signature"),
        ("a.b.=", "base64url"),
    ],
)
def test_signatures_that_are_refused(text, why):
    with pytest.raises(Malformed, match="refused") as problem:
        jws.verify(text, KEY.public_key())
    assert why in problem.value.why


def test_another_key():
    with pytest.raises(Malformed):
        jws.verify(SIGNED, OTHER.public_key())
    for text in ("AAAA", "not base64!", ""):
        with pytest.raises(Malformed):
            jws.public_key(text)


@given(st.binary(max_size=300))
def test_what_was_signed_comes_back(payload):
    assert jws.verify(jws.sign(OTHER, payload), OTHER.public_key()) == payload


@given(st.text(max_size=200))
def test_a_strangers_text(text):
    with pytest.raises(Malformed):
        jws.verify(text, KEY.public_key())


# STUN.


def by_hand(username, password, transaction):
    """A protected request as RFC 8489 §14.6 says, with the standard library alone: the length counts the attribute."""
    named = struct.pack(">HH", 0x0006, len(username)) + username + bytes(-len(username) % 4)
    head = struct.pack(">HHI", 1, len(named) + 36, 0x2112A442) + transaction
    proof = struct.pack(">HH", 0x001C, 32) + hmac.new(password, head + named, hashlib.sha256).digest()
    whole = struct.pack(">HHI", 1, len(named) + 36 + 8, 0x2112A442) + transaction + named + proof
    return whole + struct.pack(">HHI", 0x8028, 4, zlib.crc32(whole) ^ 0x5354554E)


def test_message_integrity_by_hand():
    for name in (b"1234-abc", b"x", b"a longer name"):
        made = by_hand(name, b"a password", bytes(range(12)))
        credential = stun.Credential(name.decode(), "a password")
        assert stun.binding_request(lambda count: bytes(range(count)), credential)[0] == made
        assert stun.is_authentic(made, b"a password") and not stun.is_authentic(made, b"a passwore")
        changed = made[:30] + bytes([made[30] ^ 1]) + made[31:]
        with suppress(Malformed):
            assert not stun.is_authentic(changed, b"a password")


CREDENTIAL = stun.Credential("1234-abc", "a password")


def answered(request, password_of=lambda name: CREDENTIAL.password if name == CREDENTIAL.username else ""):
    return stun.binding_response(request, ("192.0.2.77", 5000), password_of)


def test_a_protected_exchange():
    request, transaction = stun.binding_request(lambda count: bytes(range(count)), CREDENTIAL)
    answer = answered(request)
    assert stun.read_response_untrusted(answer, transaction, CREDENTIAL) == ("192.0.2.77", 5000)
    # Who knows no password cannot answer, and cannot change an answer.
    unprotected = stun.binding_response(stun.binding_request(lambda count: bytes(range(count)))[0], ("203.0.113.9", 1))
    with pytest.raises(Malformed, match="dropped"):
        stun.read_response_untrusted(unprotected, transaction, CREDENTIAL)
    forged = bytearray(answer)
    forged[-40 - 10] ^= 1
    with pytest.raises(Malformed):
        stun.read_response_untrusted(bytes(forged), transaction, CREDENTIAL)


def test_a_question_whose_proof_does_not_hold_is_not_answered():
    request, _ = stun.binding_request(lambda count: bytes(count), CREDENTIAL._replace(password="another"))
    assert answered(request) is None
    request, _ = stun.binding_request(lambda count: bytes(count), CREDENTIAL._replace(username="nobody"))
    assert answered(request) is None


# Runs.

FACTS = RunFacts(
    "sealed", ("198.51.100.19",), ("Quillwort Relay",), ("Lisbon, PT",), ("198.51.100.242",), (("IKE", "a"),), "2027"
)


def test_facts_come_back():
    assert RunFacts.of(FACTS.text()) == FACTS


@pytest.mark.parametrize(
    ("change", "what"),
    [
        ({"verdict": "leaking"}, {"verdict"}),
        ({"exits": ("198.51.100.20",)}, {"exit"}),
        ({"operators": ("Cobblewire",), "places": ("Ljubljana, SI",)}, {"operator", "place"}),
        ({"resolvers": ("192.0.2.53",)}, {"resolver"}),
        ({"suites": (("IKE", "b"),)}, {"algorithm"}),
        ({"suites": ()}, {"algorithm"}),
        ({"certificate": "2028"}, {"certificate"}),
        ({"certificate": ""}, set()),
        ({}, set()),
    ],
)
def test_what_has_changed(change, what):
    from zesty_burrow.records import replace

    assert {row.what for row in changes_between(FACTS, replace(FACTS, **change))} == what


def test_round_trips():
    assert round_trip_change(0.01, 0.05).after == "50 ms"
    assert round_trip_change(0.01, 0.019) is None and round_trip_change(0.0, 9.0) is None


def test_a_document_has_a_size():
    """What is longest and least needed goes first, and is named."""
    document = {"verdict": "sealed", "findings": [{"detail": "x" * 90}] * 500, "after": {"signed": ["x" * 70000]},
                "ways_out": {"summaries": [], "beside": ["x" * 70000]}}  # fmt: skip
    kept = bounded(document)
    assert len(canonical(kept)) <= LONGEST + 200 and kept["verdict"] == "sealed"
    assert kept["left_out"] and document["after"]["signed"], "the caller's document is as it was"
    assert bounded({"findings": []}) == {"findings": []}


def run(number):
    return {
        "verdict": "sealed",
        "profile": "lisbon",
        "after": {"taken_at": f"2026-11-{number:02d}T00:00:00Z"},
        "findings": [],
    }


def chain(count=5, key=KEY):
    records = []
    for number in range(1, count + 1):
        records.append(make_record(key, number, records[-1] if records else "", run(number)))
    return records


def test_a_chain_that_is_whole():
    assert check_chain(chain(), KEY.public_key()) == []
    assert check_chain(chain()[2:], KEY.public_key(), begin=None) == []


RECORDS = chain()
FORGED = make_record(OTHER, 3, RECORDS[1], run(9))
AGAIN = make_record(KEY, 3, RECORDS[1], run(9))


@pytest.mark.parametrize(
    "records",
    [
        RECORDS[:2] + RECORDS[3:],
        RECORDS[1:],
        [*RECORDS[:2], RECORDS[3], RECORDS[2], RECORDS[4]],
        [*RECORDS[:2], FORGED, *RECORDS[3:]],
        [*RECORDS[:2], AGAIN, *RECORDS[3:]],
        [*RECORDS[:3], RECORDS[2], *RECORDS[3:]],
        [*RECORDS[:2], RECORDS[2][:-4] + "AAAA", *RECORDS[3:]],
        [*RECORDS[:2], "nothing", *RECORDS[3:]],
    ],
    ids=["left out", "the first left out", "exchanged", "another key's", "made again", "twice", "changed", "no record"],
)
def test_a_chain_that_is_not(records):
    assert check_chain(records, KEY.public_key())


def archive(count=5):
    records = chain(count)
    told = {"records": count, "first_previous": "", "last": digest(records[-1])}
    runs = [run(number) for number in range(1, count + 1)]
    files = {RUNS: "".join(f"{one}\n" for one in records).encode(), "runs.csv": csv_of(runs), "report.html": b"<p>"}
    return make_archive(KEY, told, files)


FILES = archive()
HEAD, PAYLOAD, SIGNATURE = FILES[MANIFEST].decode().split(".")


def manifest_with(**values):
    payload = {**json.loads(jws.decode(PAYLOAD)), **values}
    return f"{HEAD}.{jws.encode(canonical(payload))}.{SIGNATURE}".encode()


def lines_without(number):
    lines = FILES[RUNS].splitlines(keepends=True)
    return b"".join(lines[:number] + lines[number + 1 :])


TAMPERING = {
    "a verdict in the table": {"runs.csv": FILES["runs.csv"].replace(b"sealed", b"seales", 1)},
    "the page": {"report.html": b"<p>all is well"},
    "a file left out": {"runs.csv": None},
    "a file added": {"more.json": b"{}"},
    "a record left out": {RUNS: lines_without(2)},
    "the last record left out": {RUNS: lines_without(4)},
    "two records exchanged": {RUNS: b"\n".join([FILES[RUNS].split()[n] for n in (0, 2, 1, 3, 4)]) + b"\n"},
    "a record of another key": {RUNS: FILES[RUNS].replace(FILES[RUNS].split()[2], FORGED.encode())},
    "the list": {MANIFEST: manifest_with(records=4)},
    "the list by another key": {MANIFEST: jws.sign(OTHER, jws.decode(PAYLOAD)).encode()},
    "no list": {MANIFEST: None},
    "a list without a signature": {MANIFEST: PAYLOAD.encode()},
    "the period": {MANIFEST: manifest_with(since="2026-11-03")},
}
"""What somebody does to a report that was given away."""


def tampered(change):
    return {name: value for name, value in {**FILES, **change}.items() if value is not None}


def as_zip(files, path):
    with zipfile.ZipFile(path, "w") as made:
        for name, octets in files.items():
            made.writestr(name, octets)
    return path


def script():
    """The check that the documents give to auditors."""
    text = (DOCS / "verifying.md").read_text()
    found = re.search(r"```python\n(.*?)```", text, re.DOTALL).group(1)
    assert len(found.splitlines()) <= 45
    return found


def by_script(path, key):
    return subprocess.run([sys.executable, "-c", script(), str(path), key], capture_output=True, text=True)


def test_a_report_that_is_whole(tmp_path):
    assert check_archive(FILES, KEY.public_key()) == []
    ended = by_script(as_zip(FILES, tmp_path / "report.zip"), jws.public_text(KEY.public_key()))
    assert (ended.returncode, ended.stdout) == (0, "whole\n"), ended.stderr


@pytest.mark.parametrize("change", TAMPERING.values(), ids=TAMPERING)
def test_tampering_is_found(change, tmp_path):
    """By the program, and by the script of the documents."""
    files = tampered(change)
    assert check_archive(files, KEY.public_key())
    ended = by_script(as_zip(files, tmp_path / "report.zip"), jws.public_text(KEY.public_key()))
    assert ended.returncode == 1 and "whole" not in ended.stdout and "Traceback" not in ended.stderr, ended


def test_another_key_proves_nothing(tmp_path):
    assert check_archive(FILES, OTHER.public_key())
    ended = by_script(as_zip(FILES, tmp_path / "report.zip"), jws.public_text(OTHER.public_key()))
    assert ended.returncode == 1


def test_tables_as_other_programs_read_them():
    """A library reads back what was written: commas, quotes, lines, lists; no cell is a formula."""
    import csv

    rows = [
        {"a": 'one, "two"\nthree', "b": ["x", "y"], "c": True},
        {"a": "=1+1", "b": (), "c": None, "d": "left out"},
        {"a": -5, "b": 0.25, "c": False},
        {},
    ]
    read = list(csv.DictReader(io.StringIO(csv_table(("a", "b", "c"), rows).decode(), newline="")))
    assert read == [
        {"a": 'one, "two"\nthree', "b": "x y", "c": "true"},
        {"a": "'=1+1", "b": "", "c": ""},
        {"a": "-5", "b": "0.25", "c": "false"},
        {"a": "", "b": "", "c": ""},
    ]


@given(st.dictionaries(st.sampled_from([MANIFEST, RUNS, "runs.csv"]), st.binary(max_size=200)))
def test_a_strangers_archive(files):
    assert check_archive(files, KEY.public_key())


def test_the_table():
    """Columns are always the same; what could be a formula is not one."""
    import csv

    told = {**run(1), "profile": "=1+1", "after": {"taken_at": "2026-11-01T00:00:00Z", "ipv4": {"address": "192.0.2.1"},
            "resolvers": [{"address": "192.0.2.53"}, {"address": "192.0.2.54"}]},
            "expectations": [{"standing": "held"}, {"standing": "no evidence"}]}  # fmt: skip
    (row,) = csv.DictReader(io.StringIO(csv_of([told]).decode()))
    assert tuple(row) == COLUMNS
    assert (row["profile"], row["ipv4"], row["resolvers"]) == ("'=1+1", "192.0.2.1", "192.0.2.53 192.0.2.54")
    assert (row["held"], row["broken"], row["no_evidence"]) == ("1", "0", "1")


def test_base64_of_the_library_agrees():
    assert base64.urlsafe_b64decode(jws.encode(b"zesty") + "===") == b"zesty"
