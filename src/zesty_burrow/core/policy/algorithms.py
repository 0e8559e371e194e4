"""The algorithms of IKEv2 and ESP, by their IANA names and numbers ("IKEv2 Parameters" registry).

``ike_status`` is what RFC 8247 says of an algorithm inside IKEv2, ``esp_status`` what RFC 8221 says of it
inside ESP; empty where the RFC is silent. ``usable`` tells whether this program implements it.
"""

from __future__ import annotations

from enum import IntEnum

from zesty_burrow.records import dataclass


class TransformType(IntEnum):
    """RFC 7296 §3.3.2, transform types; ADDKE1 from RFC 9370 §2.1."""

    ENCR = 1
    PRF = 2
    INTEG = 3
    KE = 4
    ESN = 5
    ADDKE1 = 6


@dataclass(frozen=True, slots=True)
class Algorithm:
    """One row of the IANA registry with its RFC status and the sizes in octets that we need."""

    type: TransformType
    number: int
    name: str
    ike_status: str = ""
    esp_status: str = ""
    bits: tuple[int, ...] = ()
    usable: bool = False
    size: int = 0

    @property
    def weak(self) -> bool:
        """True where RFC 8247 or RFC 8221 advises against it."""
        return any("NOT" in status for status in (self.ike_status, self.esp_status))


_E, _P, _I, _K, _N, _A = TransformType

# For PRF and INTEG ``size`` is the preferred key length, which is also the output length (RFC 4868 §2.1.1).
ALGORITHMS: tuple[Algorithm, ...] = (
    Algorithm(_E, 2, "ENCR_DES", "MUST NOT", "MUST NOT"),
    Algorithm(_E, 3, "ENCR_3DES", "MAY", "SHOULD NOT"),
    Algorithm(_E, 7, "ENCR_BLOWFISH", "", "MUST NOT", (128, 256)),
    Algorithm(_E, 11, "ENCR_NULL", "MUST NOT", "MUST"),
    Algorithm(_E, 12, "ENCR_AES_CBC", "MUST", "MUST", (128, 192, 256), usable=True),
    Algorithm(_E, 13, "ENCR_AES_CTR", "MAY", "MAY", (128, 192, 256), usable=True),
    Algorithm(_E, 14, "ENCR_AES_CCM_8", "SHOULD", "SHOULD", (128, 192, 256), usable=True),
    Algorithm(_E, 15, "ENCR_AES_CCM_12", "", "", (128, 192, 256), usable=True),
    Algorithm(_E, 16, "ENCR_AES_CCM_16", "", "", (128, 192, 256), usable=True),
    Algorithm(_E, 18, "ENCR_AES_GCM_8", "", "", (128, 192, 256), usable=True),
    Algorithm(_E, 19, "ENCR_AES_GCM_12", "", "", (128, 192, 256), usable=True),
    Algorithm(_E, 20, "ENCR_AES_GCM_16", "SHOULD", "MUST", (128, 192, 256), usable=True),
    Algorithm(_E, 23, "ENCR_CAMELLIA_CBC", "", "", (128, 192, 256)),
    Algorithm(_E, 28, "ENCR_CHACHA20_POLY1305", "SHOULD", "SHOULD", usable=True),
    Algorithm(_P, 1, "PRF_HMAC_MD5", "MUST NOT", size=16),
    Algorithm(_P, 2, "PRF_HMAC_SHA1", "MUST-", usable=True, size=20),
    Algorithm(_P, 4, "PRF_AES128_XCBC", "SHOULD", usable=True, size=16),
    Algorithm(_P, 5, "PRF_HMAC_SHA2_256", "MUST", usable=True, size=32),
    Algorithm(_P, 6, "PRF_HMAC_SHA2_384", "", usable=True, size=48),
    Algorithm(_P, 7, "PRF_HMAC_SHA2_512", "SHOULD+", usable=True, size=64),
    Algorithm(_P, 8, "PRF_AES128_CMAC", "", usable=True, size=16),
    Algorithm(_I, 0, "NONE", "", ""),
    Algorithm(_I, 1, "AUTH_HMAC_MD5_96", "MUST NOT", "MUST NOT", size=16),
    Algorithm(_I, 2, "AUTH_HMAC_SHA1_96", "MUST-", "MUST-", usable=True, size=20),
    Algorithm(_I, 3, "AUTH_DES_MAC", "MUST NOT", "MUST NOT"),
    Algorithm(_I, 4, "AUTH_KPDK_MD5", "MUST NOT", "MUST NOT"),
    Algorithm(_I, 5, "AUTH_AES_XCBC_96", "SHOULD", "SHOULD", usable=True, size=16),
    Algorithm(_I, 8, "AUTH_AES_CMAC_96", "", "", usable=True, size=16),
    Algorithm(_I, 12, "AUTH_HMAC_SHA2_256_128", "MUST", "MUST", usable=True, size=32),
    Algorithm(_I, 13, "AUTH_HMAC_SHA2_384_192", "", "", usable=True, size=48),
    Algorithm(_I, 14, "AUTH_HMAC_SHA2_512_256", "SHOULD", "SHOULD", usable=True, size=64),
    Algorithm(_K, 1, "768-bit MODP Group", "MUST NOT"),
    Algorithm(_K, 2, "1024-bit MODP Group", "SHOULD NOT"),
    Algorithm(_K, 5, "1536-bit MODP Group", "SHOULD NOT"),
    Algorithm(_K, 14, "2048-bit MODP Group", "MUST", usable=True, size=256),
    Algorithm(_K, 15, "3072-bit MODP Group", "", usable=True, size=384),
    Algorithm(_K, 16, "4096-bit MODP Group", "", usable=True, size=512),
    Algorithm(_K, 19, "256-bit random ECP group", "SHOULD", usable=True, size=64),
    Algorithm(_K, 20, "384-bit random ECP group", "", usable=True, size=96),
    Algorithm(_K, 21, "521-bit random ECP group", "", usable=True, size=132),
    Algorithm(_K, 22, "1024-bit MODP Group with 160-bit Prime Order Subgroup", "MUST NOT"),
    Algorithm(_K, 23, "2048-bit MODP Group with 224-bit Prime Order Subgroup", "SHOULD NOT"),
    Algorithm(_K, 24, "2048-bit MODP Group with 256-bit Prime Order Subgroup", "SHOULD NOT"),
    Algorithm(_K, 31, "curve25519", "", usable=True, size=32),
    Algorithm(_K, 32, "curve448", "", usable=True, size=56),
    Algorithm(_A, 36, "ml-kem-768", usable=True, size=1184),
    Algorithm(_N, 0, "No Extended Sequence Numbers", usable=True),
    Algorithm(_N, 1, "Extended Sequence Numbers", usable=True),
)

BY_NUMBER = {(entry.type, entry.number): entry for entry in ALGORITHMS}
BY_NAME = {(entry.type, entry.name.casefold()): entry for entry in ALGORITHMS}

AEAD_NUMBERS = frozenset({14, 15, 16, 18, 19, 20, 28})
"""Encryption algorithms that need no separate integrity algorithm (RFC 5282, RFC 7634)."""


def describe(kind: int, number: int, key_bits: int = 0) -> str:
    """The IANA name with the key length, or the bare numbers of something unregistered here."""
    entry = BY_NUMBER.get((TransformType(kind), number)) if kind in TransformType._value2member_map_ else None
    name = entry.name if entry else f"transform {kind}/{number}"
    return f"{name} {key_bits}" if key_bits else name
