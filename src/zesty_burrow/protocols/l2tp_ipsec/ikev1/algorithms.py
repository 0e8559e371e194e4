"""IKEv1's numbers for algorithms (RFC 2409 appendix A, RFC 2407 §4.4.4, §4.5, IANA) and the ones used everywhere here.

Groups have the same numbers in IKEv2. A hash stands for the PRF and the ICV made of it.
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence

from zesty_burrow.core.policy.suite import Suite
from zesty_burrow.protocols.l2tp_ipsec.ikev1.proposals import Proposal, Transform
from zesty_burrow.records import dataclass

ISAKMP, ESP = 1, 3
KEY_IKE = 1
ENCR_3DES, ENCR_AES_CBC, ENCR_AES_GCM_16 = 3, 12, 20
SHARED_KEY, RSA_SIGNATURE = 1, 3
ECDSA_SIGNATURES = {9: 256, 10: 384, 11: 521}
"""RFC 4754 §7: bits of the curve."""
UDP_TRANSPORT = 4
"""Encapsulation mode (RFC 3947 §5.1)."""
SECONDS = 1
MANY = 32
"""Combinations in one offer."""
MD5, OLD_HASHES, CURVES = 1, (1, 2), (19, 20, 21)


@dataclass(frozen=True, slots=True)
class HashNumbers:
    """One hash in all places: ``hash`` in phase 1, ``check`` in phase 2, IKEv2's ``prf`` and ``integrity``."""

    name: str
    hash: int
    check: int
    prf: int
    integrity: int


HASHES = (
    HashNumbers("sha256", 4, 5, 5, 12),
    HashNumbers("sha384", 5, 6, 6, 13),
    HashNumbers("sha512", 6, 7, 7, 14),
    HashNumbers("sha1", 2, 2, 2, 2),
    HashNumbers("md5", 1, 1, 1, 1),
)
BY_INTEGRITY = {one.integrity: one for one in HASHES}
_CIPHERS = {ENCR_3DES: 5, ENCR_AES_CBC: 7}
"""Phase 1: IKEv2's number and IKEv1's; a combined-mode cipher exists for ESP alone (RFC 4106 §8)."""
_ESP = {ENCR_3DES: 3, ENCR_AES_CBC: 12, ENCR_AES_GCM_16: 20}
_PLAIN_CIPHERS, _PLAIN_ESP = ({number: own for own, number in table.items()} for table in (_CIPHERS, _ESP))


@dataclass(frozen=True, slots=True)
class Offer:
    """Algorithms in order of preference, IKEv2's numbers: ``encryption`` with key bits, ``integrity``, ``groups``.

    ``ike_seconds``, ``esp_seconds``: how long keys are used.
    """

    encryption: tuple[tuple[int, int], ...]
    integrity: tuple[int, ...]
    groups: tuple[int, ...]
    ike_seconds: int = 28800
    esp_seconds: int = 3600

    def ike_proposal(self, methods: Sequence[int]) -> Proposal:
        """For the ISAKMP SA: every combination, the first of each list first.

        Where these are many, those that no gateway has (an old hash with a curve, MD5 with AES) are left out: a first
        message of several packets does not get through everywhere.
        """
        ciphers = [one for one in self.encryption if one[0] in _CIPHERS]
        combined = list(itertools.product(ciphers, self.integrity, self.groups, methods))
        if len(combined) > MANY:
            combined = [one for one in combined if not _is_unlikely(one[0][0], one[1], one[2])][:MANY]
        rows = (self._ike_row(place, *one[0], *one[1:]) for place, one in enumerate(combined, start=1))
        return Proposal(1, ISAKMP, b"", tuple(rows))

    def _ike_row(self, place: int, number: int, bits: int, check: int, group: int, method: int) -> Transform:
        attributes = [(1, _CIPHERS[number])]
        attributes += [(14, bits)] if bits else []
        attributes += [(2, BY_INTEGRITY[check].hash), (4, group), (3, method), (11, SECONDS), (12, self.ike_seconds)]
        return Transform(place, KEY_IKE, tuple(attributes))

    def esp_proposal(self, spi: bytes) -> Proposal:
        """For a pair of SAs of ESP in transport mode within UDP."""
        rows: list[Transform] = []
        for number, bits in self.encryption:
            for check in (0,) if number == ENCR_AES_GCM_16 else self.integrity:
                attributes = [(4, UDP_TRANSPORT), (1, SECONDS), (2, self.esp_seconds)]
                attributes += [(6, bits)] if bits else []
                attributes += [(5, BY_INTEGRITY[check].check)] if check else []
                rows.append(Transform(len(rows) + 1, _ESP[number], tuple(attributes)))
        return Proposal(1, ESP, spi, tuple(rows))


def _is_unlikely(number: int, check: int, group: int) -> bool:
    return (check in OLD_HASHES and group in CURVES) or (check == MD5 and number != ENCR_3DES)


def ike_suite(transform: Transform) -> tuple[Suite, int] | None:
    """The algorithms and the method of authentication of a transform; None where they are not known here."""
    number = _PLAIN_CIPHERS.get(transform.value(1))
    known = next((one for one in HASHES if one.hash == transform.value(2)), None)
    if transform.identifier != KEY_IKE or number is None or known is None:
        return None
    bits = transform.value(14) or (128 if number == ENCR_AES_CBC else 0)
    return Suite(number, bits, known.integrity, known.prf, transform.value(4)), transform.value(3)


def esp_suite(transform: Transform) -> Suite | None:
    """The algorithms of a transform; None where they are not known here or it is for another mode."""
    number = _PLAIN_ESP.get(transform.identifier)
    known = next((one for one in HASHES if one.check == transform.value(5)), None)
    if number is None or transform.value(4) != UDP_TRANSPORT:
        return None
    bits = transform.value(6) or (128 if number == ENCR_AES_CBC else 0)
    if number == ENCR_AES_GCM_16:
        return Suite(number, bits or 128)
    return Suite(number, bits, known.integrity) if known is not None else None


def ike_seconds(transform: Transform) -> int:
    """How long keys of phase 1 are used, in seconds; 0 if not stated."""
    return transform.value(12) if transform.value(11) == SECONDS else 0


def esp_seconds(transform: Transform) -> int:
    """The same for phase 2 (RFC 2407 §4.5: 28800 by default)."""
    return transform.value(2, 28800) if transform.value(1, SECONDS) == SECONDS else 28800


def choose(allowed: Offer, methods: Sequence[int], proposals: Sequence[Proposal], protocol: int) -> (
    tuple[Proposal, Transform] | None
):  # fmt: skip
    """At the answering end: the first transform that is allowed, in the order of who asks."""
    for proposal in proposals:
        for transform in proposal.transforms:
            if proposal.protocol == protocol and _is_allowed(allowed, methods, transform, protocol):
                return proposal, transform
    return None


def _is_allowed(allowed: Offer, methods: Sequence[int], transform: Transform, protocol: int) -> bool:
    if protocol == ESP:
        suite = esp_suite(transform)
        checks = (*allowed.integrity, 0)
        return (
            suite is not None
            and (suite.encryption, suite.key_bits) in allowed.encryption
            and (suite.integrity in checks)
            and transform.value(3) in (0, *allowed.groups)
        )
    found = ike_suite(transform)
    if found is None:
        return False
    suite, method = found
    known = (suite.encryption, suite.key_bits) in allowed.encryption and suite.integrity in allowed.integrity
    return known and suite.group in allowed.groups and method in methods
