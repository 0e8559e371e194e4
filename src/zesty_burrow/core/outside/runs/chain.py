"""A chain of signed runs: each names the digest of the one before, so that none can be changed, left out or put in
later.

A record is a JWS (RFC 7515) of a device's own key. Its payload: ``number`` in the chain, ``previous``, the SHA-256 of
the record before in hexadecimal, and the ``run``.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from typing import Any, NamedTuple

from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey, Ed25519PublicKey

from zesty_burrow.core.crypto import jws
from zesty_burrow.core.outside.runs.record import canonical, digest
from zesty_burrow.errors import Malformed

FIRST = ""
"""What the first record names as the one before."""


class ChainProblem(NamedTuple):
    """``number``: of the record at which something is wrong."""

    number: int
    why: str


def make_record(key: Ed25519PrivateKey, number: int, previous: str, run: Mapping[str, Any]) -> str:
    """``previous``: the record before, as it is; :data:`FIRST` for the first."""
    names = digest(previous) if previous else FIRST
    return jws.sign(key, canonical({"number": number, "previous": names, "run": run}))


def read_record(text: str, key: Ed25519PublicKey) -> dict[str, Any]:
    """``number``, ``previous`` and ``run`` of a record. Raises only :class:`Malformed`."""
    try:
        value = json.loads(jws.verify(text, key))
    except (ValueError, RecursionError):
        value = None
    if (
        not isinstance(value, dict)
        or not isinstance(value.get("run"), dict)
        or not isinstance(value.get("number"), int)
    ):
        raise Malformed("a record was refused", why="it holds no run")
    return value


def check_chain(records: Iterable[str], key: Ed25519PublicKey, begin: str | None = FIRST) -> list[ChainProblem]:
    """What is wrong with a chain, in its order; nothing where it is whole. ``begin``: what the first record has to
    name, None where the chain begins in the middle.
    """
    problems: list[ChainProblem] = []
    wanted, number = begin, 0
    for text in records:
        try:
            value = read_record(text, key)
        except Malformed as problem:
            problems.append(ChainProblem(number + 1, problem.why or problem.what))
            wanted, number = digest(text), number + 1
            continue
        if number and value["number"] != number + 1:
            problems.append(ChainProblem(value["number"], f"it comes after number {number}"))
        elif wanted is not None and value.get("previous") != wanted:
            problems.append(ChainProblem(value["number"], "it does not name the record before it"))
        wanted, number = digest(text), value["number"]
    return problems
