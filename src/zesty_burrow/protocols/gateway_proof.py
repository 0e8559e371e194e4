"""How a gateway's certificates are judged against a profile, whatever the protocol: the same findings and errors."""

from __future__ import annotations

import functools
from collections.abc import Sequence
from datetime import datetime
from typing import Protocol

from cryptography import x509

from zesty_burrow.core.certificates import trust
from zesty_burrow.core.certificates.revocation import Revocations, load_revocation_list_untrusted
from zesty_burrow.core.finding import Finding, Severity, finding
from zesty_burrow.core.identity import Identity
from zesty_burrow.core.profile import PEM_MARK, Profile
from zesty_burrow.errors import GatewayNotProven, Malformed, ProfileInvalid
from zesty_burrow.records import dataclass

MAX_CERTIFICATES = 8
"""Of one side, its own included."""


class TrustRules(Protocol):
    """What a gateway's certificates are held against."""

    @property
    def gateway_identity(self) -> Identity:
        """Who it must prove to be."""

    @property
    def anchors(self) -> tuple[x509.Certificate, ...]:
        """The authorities that are trusted."""

    @property
    def wall_time(self) -> datetime:
        """What dates are judged by."""

    @property
    def revocation_lists(self) -> tuple[Revocations, ...]:
        """Those that are known."""

    @property
    def over_tls(self) -> bool:
        """Whether the certificate has to be one for a server of TLS."""

    @property
    def need_status(self) -> bool:
        """Whether a certificate of which it is not known whether it was revoked is refused."""


@dataclass(frozen=True, slots=True)
class GatewayTrust:
    """The rules as one value; see :class:`TrustRules`."""

    gateway_identity: Identity
    anchors: tuple[x509.Certificate, ...]
    wall_time: datetime
    revocation_lists: tuple[Revocations, ...] = ()
    need_status: bool = False
    over_tls: bool = True

    @classmethod
    def of(cls, profile: Profile, wall_time: datetime, *, over_tls: bool = True) -> GatewayTrust:
        """A profile's. Raises :class:`ProfileInvalid` where it names no authority and needs one."""
        return cls(
            profile.gateway_identity,
            anchors_of(profile, needed=True),
            wall_time,
            revocation_lists_of(profile),
            profile.revocation_status == "required",
            over_tls,
        )


@dataclass(frozen=True, slots=True)
class Proof:
    """Whose certificate it was, and warnings that do not stand against it."""

    subject: str
    findings: tuple[Finding, ...]


def proof_words(certificate: x509.Certificate) -> str:
    """Whose it is, and until when it is valid (RFC 5280 §4.1.2.5), for people."""
    return f"{trust.subject_name(certificate)}, valid until {certificate.not_valid_after_utc:%Y-%m-%d}"


def judged(rules: TrustRules, chain: Sequence[x509.Certificate]) -> list[Finding]:
    """What speaks against a gateway's certificates, its own first."""
    return trust.judge_gateway(
        chain[:MAX_CERTIFICATES],
        rules.anchors,
        rules.gateway_identity,
        rules.wall_time,
        rules.revocation_lists,
        need_status=rules.need_status,
        over_tls=rules.over_tls,
    )


def against(rules: TrustRules, findings: Sequence[Finding]) -> list[Finding]:
    """Those findings that end the negotiation."""
    unknown = "certificate-status-unknown" if rules.need_status else ""
    return [entry for entry in findings if entry.severity is Severity.SERIOUS or entry.code.slug == unknown]


def not_proven(host: str, findings: Sequence[Finding]) -> GatewayNotProven:
    """The error made of findings against a gateway."""
    reasons = [
        f"{entry.code.title.rstrip('.')} ({entry.detail})" if entry.detail else entry.code.title for entry in findings
    ]
    return GatewayNotProven(
        f"the gateway {host} did not prove its identity; no credentials were sent to it",
        why="; ".join(dict.fromkeys(reasons)),
        next_step=findings[0].code.remedy,
        slug=findings[0].code.slug,
    )


def prove_chain(rules: TrustRules, chain: Sequence[x509.Certificate], host: str) -> Proof:
    """A gateway whose possession of its key is shown otherwise, as by TLS; :class:`GatewayNotProven` if it is not."""
    if not chain:
        raise not_proven(host, [finding("certificate-missing", host)])
    found = judged(rules, chain)
    if len(chain) > MAX_CERTIFICATES:
        found.append(finding("certificate-many", host, f"{len(chain)} were sent, {MAX_CERTIFICATES} of them read"))
    if serious := against(rules, found):
        raise not_proven(host, serious)
    return Proof(proof_words(chain[0]), tuple(found))


def anchors_of(profile: Profile, *, needed: bool) -> tuple[x509.Certificate, ...]:
    """The authorities that a profile names; :class:`ProfileInvalid` if they are ``needed`` and missing."""
    found = [certificate for entry in profile.authorities if PEM_MARK in entry for certificate in _certificates(entry)]
    if not found and needed:
        raise ProfileInvalid(
            f"profile {profile.name} has no authority certificate",
            why="without one the gateway cannot prove its identity",
            next_step="Import the kit again with the authority's certificate beside the profile.",
        )
    return tuple(found)


def revocation_lists_of(profile: Profile) -> tuple[Revocations, ...]:
    """The lists that a profile brings."""
    return tuple(load_revocation_list_untrusted(pem.encode()) for pem in profile.revocation_lists)


@functools.lru_cache(maxsize=64)
def _certificates(pem: str) -> tuple[x509.Certificate, ...]:
    """Read once for all the profiles of a provider."""
    return tuple(trust.load_pem_certificates_untrusted(pem.encode()))


def caller_of(chain: Sequence[x509.Certificate], anchors: Sequence[x509.Certificate], wall_time: datetime) -> str:
    """At a gateway: whom a caller's certificates are for; ``Malformed`` with what speaks against them."""
    found = [*trust.client_findings(chain[0])]
    found += trust.judge_path(chain[0], chain[1:MAX_CERTIFICATES], anchors, wall_time)
    serious = [entry.code.slug for entry in found if entry.severity is Severity.SERIOUS]
    if serious:
        raise Malformed("a caller's certificate is refused", why=", ".join(serious))
    return trust.subject_name(chain[0])
