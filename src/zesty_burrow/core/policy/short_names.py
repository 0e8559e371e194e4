"""Short names of algorithms, as people and sheets write them: they follow from IANA's names.

In any case and with any hyphens: ``aes-256-gcm`` is ENCR_AES_GCM_16 with 256 bits, ``sha2-256`` is
AUTH_HMAC_SHA2_256_128, ``modp2048`` is group 14. What is shown is always IANA's name.
"""

from __future__ import annotations

import difflib
import re
from functools import cache

from zesty_burrow.core.policy.algorithms import ALGORITHMS, Algorithm, TransformType

LONGEST = 80
T = TransformType
Named = tuple[Algorithm, int]
"""An algorithm, and its key length in bits where it has several."""


def plain(text: str) -> str:
    """Letters and digits alone, in lower case."""
    return re.sub(r"[^a-z0-9]", "", text[:LONGEST].casefold())


@cache
def short_names(kind: TransformType) -> dict[str, Named]:
    """Every short form of a kind's algorithms; a form that could mean two of them is left out."""
    found: dict[str, set[Named]] = {}
    for entry in ALGORITHMS:
        if entry.type is kind:
            for bits in entry.bits or (0,):
                for form in _forms(entry, bits):
                    found.setdefault(plain(form), set()).add((entry, bits))
    whole = {plain(f"{entry.name} {bits or ''}"): (entry, bits) for entry in ALGORITHMS if entry.type is kind
             for bits in entry.bits or (0,)}  # fmt: skip
    return {**{form: next(iter(named)) for form, named in found.items() if len(named) == 1}, **whole}


def _forms(entry: Algorithm, bits: int) -> list[str]:
    if entry.type is T.ENCR:
        return _ciphers(entry.name.removeprefix("ENCR_"), bits)
    if entry.type in (T.PRF, T.INTEG):
        return _hashes(entry.name)
    if entry.type is T.KE:
        return [
            str(entry.number),
            f"group {entry.number}",
            f"dh {entry.number}",
            f"dh group {entry.number}",
            *_groups(entry.name),
        ]
    return [entry.name]


def _ciphers(name: str, bits: int) -> list[str]:
    family, _, rest = name.partition("_")
    mode, _, check = rest.partition("_")
    forms = [f"{name}{bits or ''}", f"{family}{bits or ''}{rest}", f"{family}{rest}{bits or ''}"]
    if check == "16":
        # Without a length the whole check value is meant.
        forms += [f"{family}{bits}{mode}", f"{family}{mode}{bits}"]
    if mode == "CBC":
        forms += [f"{family}{bits}"]
    if family == "CHACHA20":
        forms += ["chacha20", "chacha"]
    if check:
        # Its length in bits.
        forms += [f"{family}{bits}{mode}{int(check) * 8}"]
    return forms


def _hashes(name: str) -> list[str]:
    core = name.removeprefix("PRF_").removeprefix("AUTH_")
    inner = core.removeprefix("HMAC_")
    forms = [core, inner, f"prf {inner}"]
    if match := re.fullmatch(r"SHA2_(\d{3})(?:_\d{3})?", inner):
        words = ("sha2", "sha", "hmac sha2", "hmac sha", "prf sha", "prf hmac sha")
        forms += [f"{word}{match[1]}" for word in words]
    if inner.startswith("SHA1"):
        forms += ["sha1", "sha", "hmac sha1"]
    if inner.startswith("MD5"):
        forms += ["md5", "hmac md5"]
    if match := re.fullmatch(r"(AES(?:128)?)_(XCBC|CMAC)(?:_96)?", inner):
        forms += [f"aes {match[2]}", f"aes 128 {match[2]}"]
    return forms


def _groups(name: str) -> list[str]:
    if match := re.fullmatch(r"(\d+)-bit MODP Group", name):
        return [f"modp {match[1]}", f"{match[1]} modp"]
    if match := re.fullmatch(r"(\d+)-bit random ECP group", name):
        return [f"ecp {match[1]}", f"p {match[1]}", f"nist p {match[1]}", f"secp {match[1]} r1"]
    return {"curve25519": ["x25519", "25519"], "curve448": ["x448", "448"]}.get(name, [])


def find(kind: TransformType, text: str) -> Named | None:
    """The algorithm that a name or a short form means, or None."""
    return short_names(kind).get(plain(text))


def nearest(kind: TransformType, text: str) -> str:
    """IANA's name of a usable algorithm that may have been meant; empty where none is near."""
    known = {form: named for form, named in short_names(kind).items() if named[0].usable}
    near = difflib.get_close_matches(plain(text), known, 1, 0.6)
    if not near:
        return ""
    entry, bits = known[near[0]]
    return f"{entry.name} {bits}" if bits else entry.name
