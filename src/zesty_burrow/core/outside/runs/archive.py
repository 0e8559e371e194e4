"""A report for auditors: files, and a signed list of them, so that everybody can see that they are as they were made.

``manifest.jws`` is a JWS (RFC 7515) whose payload names each file with its SHA-256. ``runs.jsonl`` holds the signed
records of the chain; ``keys.json`` the public keys. To check it, one needs the device's key from somewhere else: it is
what the trust begins with.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey, Ed25519PublicKey

from zesty_burrow.core.crypto import jws
from zesty_burrow.core.outside.runs.chain import check_chain, read_record
from zesty_burrow.core.outside.runs.record import canonical, digest
from zesty_burrow.core.outside.runs.tables import csv_table
from zesty_burrow.errors import Malformed

FORMAT = 1
MANIFEST, RUNS, KEYS = "manifest.jws", "runs.jsonl", "keys.json"
COLUMNS = (
    "taken_at", "device", "profile", "place", "verdict", "headline", "ipv4", "ipv4_operator", "ipv4_country", "ipv6",
    "ipv6_operator", "ipv6_country", "resolvers", "classes", "unexplained_packets", "held", "broken", "no_evidence",
)  # fmt: skip
MOST_PROBLEMS = 100


def make_archive(key: Ed25519PrivateKey, told: Mapping[str, Any], files: Mapping[str, bytes]) -> dict[str, bytes]:
    """The files with their signed list. ``told``: what else the list says, as the period."""
    public = key.public_key()
    whole = {**files, KEYS: canonical({jws.thumbprint(public): jws.public_text(public)})}
    listed = {name: hashlib.sha256(octets).hexdigest() for name, octets in sorted(whole.items())}
    payload = canonical({"format": FORMAT, **told, "files": listed})
    return {MANIFEST: jws.sign(key, payload).encode(), **whole}


def check_archive(files: Mapping[str, bytes], key: Ed25519PublicKey) -> list[str]:
    """What is wrong, in words; nothing where all is as it was made by that key. A stranger's files: raises nothing."""
    try:
        manifest = json.loads(jws.verify(files.get(MANIFEST, b"").decode("ascii", "replace"), key))
        listed = manifest["files"]
        named = {str(name): str(value) for name, value in listed.items()}
    except Malformed as problem:
        return [f"{MANIFEST}: {problem.why or problem.what}"]
    except (ValueError, KeyError, TypeError, AttributeError, RecursionError):
        return [f"{MANIFEST}: it holds no list of files"]
    problems = [f"{name}: not in the list" for name in sorted(files.keys() - named.keys() - {MANIFEST})]
    for name, wanted in sorted(named.items()):
        if name not in files:
            problems.append(f"{name}: it is missing")
        elif hashlib.sha256(files[name]).hexdigest() != wanted:
            problems.append(f"{name}: it is not as it was signed")
    records = [line for line in files.get(RUNS, b"").decode("ascii", "replace").splitlines() if line.strip()]
    first = manifest.get("first_previous")
    problems += [f"{RUNS}: record {one.number}: {one.why}" for one in check_chain(records, key, begin=first)]
    if len(records) != manifest.get("records"):
        problems.append(f"{RUNS}: {len(records)} records, not {manifest.get('records')}")
    elif records and digest(records[-1]) != manifest.get("last"):
        problems.append(f"{RUNS}: the last record is not the one that was signed")
    return problems[:MOST_PROBLEMS]


def csv_of(runs: Iterable[Mapping[str, Any]]) -> bytes:
    """A line for each run; columns are the same in every file. Lists are joined by a space, times are RFC 3339."""
    return csv_table(COLUMNS, map(_cells, runs))


def _cells(run: Mapping[str, Any]) -> dict[str, Any]:
    after = run.get("after") or {}
    cells: dict[str, Any] = {name: run.get(name, "") for name in ("device", "profile", "place", "verdict", "headline")}
    cells["taken_at"] = after.get("taken_at", "")
    for family in ("ipv4", "ipv6"):
        seen = after.get(family) or {}
        cells[family] = seen.get("address", "")
        cells[f"{family}_operator"], cells[f"{family}_country"] = seen.get("operator", ""), seen.get("country", "")
    cells["resolvers"] = [entry.get("address", "") for entry in after.get("resolvers") or ()]
    cells["classes"] = (run.get("ways_out") or {}).get("classes", 0)
    cells["unexplained_packets"] = (run.get("watch") or {}).get("packets", 0)
    standings = [row.get("standing") for row in run.get("expectations") or ()]
    for name, word in (("held", "held"), ("broken", "broken"), ("no_evidence", "no evidence")):
        cells[name] = standings.count(word)
    return cells


def runs_of(records: Sequence[str], key: Ed25519PublicKey) -> list[dict[str, Any]]:
    """The runs of records; those that the key has not signed are left out."""
    runs = []
    for text in records:
        try:
            runs.append(read_record(text, key)["run"])
        except Malformed:
            continue
    return runs
