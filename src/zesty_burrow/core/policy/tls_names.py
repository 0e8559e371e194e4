"""What TLS 1.3 is negotiated from, by IANA's names, as the numbers by which strength and policy are judged.

The advice is RFC 9325's (§4.2, §4.4): all suites of TLS 1.3 may be used, MODP groups and curves under 112 bits may not.
"""

from __future__ import annotations

from difflib import get_close_matches

from zesty_burrow.core.policy.algorithms import TransformType
from zesty_burrow.core.policy.policy import Opinion, Policy, opinion
from zesty_burrow.core.policy.strength import strength
from zesty_burrow.core.policy.suite import Suite
from zesty_burrow.records import replace

T = TransformType
SOURCE = "RFC 9325"

CIPHER_SUITES: dict[str, Suite] = {
    "TLS_AES_256_GCM_SHA384": Suite(20, 256, prf=6),
    "TLS_AES_128_GCM_SHA256": Suite(20, 128, prf=5),
    "TLS_CHACHA20_POLY1305_SHA256": Suite(28, 0, prf=5),
    "TLS_AES_128_CCM_SHA256": Suite(16, 128, prf=5),
}
"""Cipher and hash of each (RFC 8446 §B.4)."""
GROUPS: dict[str, tuple[int, int]] = {
    "X25519MLKEM768": (31, 36),
    "x25519": (31, 0),
    "x448": (32, 0),
    "secp256r1": (19, 0),
    "secp384r1": (20, 0),
    "secp521r1": (21, 0),
}
"""Key exchange methods of IKEv2 that are the same, the second an ML-KEM that goes with it."""
_SHORT = {
    "aes-256-gcm": "TLS_AES_256_GCM_SHA384",
    "aes-128-gcm": "TLS_AES_128_GCM_SHA256",
    "aes-128-ccm": "TLS_AES_128_CCM_SHA256",
    "chacha20-poly1305": "TLS_CHACHA20_POLY1305_SHA256",
    "curve25519": "x25519",
    "curve448": "x448",
    "p-256": "secp256r1",
    "p-384": "secp384r1",
    "p-521": "secp521r1",
    "x25519-ml-kem-768": "X25519MLKEM768",
}


def suite_of(cipher_suite: str, group: str, words: str = "") -> Suite:
    """What was negotiated, with its own name; of what is not known here only the name is.

    ``words``: for the group, where it is only known to be as good as this one.
    """
    numbers = CIPHER_SUITES.get(cipher_suite, Suite(0, 0))
    exchange, extra = GROUPS.get(known_name(group, GROUPS) or "", (0, 0))
    shown = ", ".join(part for part in (cipher_suite, words or known_name(group, GROUPS) or group) if part)
    return replace(numbers, group=exchange, extra=extra, name=shown)


def known_name(text: str, names: dict[str, Suite] | dict[str, tuple[int, int]]) -> str | None:
    """IANA's name for one written in any case, with hyphens or underscores, or in its short form."""
    folded = text.strip().casefold().replace("_", "-")
    short = _SHORT.get(folded)
    if short in names:
        return short
    return next((name for name in names if name.casefold().replace("_", "-") == folded), None)


def read_name(text: str, names: dict[str, Suite] | dict[str, tuple[int, int]]) -> str:
    """IANA's name. Raises ``ValueError`` with the nearest one if the name is unknown."""
    found = known_name(text, names)
    if found is None:
        shown = {one.casefold(): one for one in (*names, *(key for key, name in _SHORT.items() if name in names))}
        near = get_close_matches(text.strip().casefold(), shown, 1)
        meant = f"is {_SHORT.get(near[0], shown[near[0]])} meant? " if near else ""
        raise ValueError(
            f"{text!r:.80} is not an IANA name that is known here; {meant}usable ones are {', '.join(names)}"
        )
    return found


def opinion_of(policy: Policy, name: str) -> Opinion:
    """What a policy says of a cipher suite or a key exchange; the organisation's own word comes before the RFC's."""
    if name in policy.forbidden:
        return Opinion(False, "the policy forbids it", policy.name)
    if name in policy.allowed:
        return Opinion(True, "the policy allows it", policy.name)
    suite = CIPHER_SUITES.get(name)
    exchange, extra = GROUPS.get(name, (0, 0))
    if suite is None and not exchange:
        return Opinion(False, "this program does not know it", "IANA")
    parts = [(T.ENCR, suite.encryption, suite.key_bits), (T.PRF, suite.prf, 0)] if suite else [(T.KE, exchange, 0)]
    for kind, number, bits in parts:
        said = opinion(policy, kind, number, bits)
        made_up = bool(extra) and opinion(policy, T.ADDKE1, extra).good and strength(T.ADDKE1, extra) >= policy.strength
        if not said.good and not made_up:
            return said
    return Opinion(True, "it may be used with TLS 1.3", SOURCE)
