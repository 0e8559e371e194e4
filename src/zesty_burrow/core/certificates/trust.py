"""Certificates and keys: path, names, dates, usage, strength (RFC 5280 §6.1 without policies, RFC 4945)."""

from __future__ import annotations

import functools
import hashlib
import ipaddress
from collections.abc import Iterator, Sequence
from datetime import datetime
from itertools import pairwise

from cryptography import x509
from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives.asymmetric import ec, ed448, ed25519, rsa
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat
from cryptography.x509.oid import ExtendedKeyUsageOID, ExtensionOID

from zesty_burrow.core.certificates.names import breaks_constraints, name_matches, not_understood, same_name
from zesty_burrow.core.certificates.revocation import Revocations, has_lists, revocation_findings, verify_signature
from zesty_burrow.core.certificates.validity import validity_findings
from zesty_burrow.core.finding import Finding, Severity, finding
from zesty_burrow.core.identity import Identity, IdType
from zesty_burrow.errors import Malformed, printable

MAX_PATH = 8
MAX_STEPS = 100
KNOWN = 256
"""Certificates of which name and key are kept as they were worked out."""
IPSEC_IKE = x509.ObjectIdentifier("1.3.6.1.5.5.7.3.17")
KNOWN_EXTENSIONS = frozenset(
    {
        ExtensionOID.BASIC_CONSTRAINTS,
        ExtensionOID.KEY_USAGE,
        ExtensionOID.EXTENDED_KEY_USAGE,
        ExtensionOID.SUBJECT_ALTERNATIVE_NAME,
        ExtensionOID.SUBJECT_KEY_IDENTIFIER,
        ExtensionOID.AUTHORITY_KEY_IDENTIFIER,
        ExtensionOID.NAME_CONSTRAINTS,
        ExtensionOID.CRL_DISTRIBUTION_POINTS,
    }
)


CANNOT_BE_READ = (
    ValueError,
    TypeError,
    UnsupportedAlgorithm,
    x509.InvalidVersion,
    x509.UnsupportedGeneralNameType,
    x509.DuplicateExtension,
)
"""What the library raises for a certificate that it cannot read; ``InvalidVersion`` is no ``ValueError``."""


def load_certificate_untrusted(der: bytes) -> x509.Certificate:
    """A stranger's DER certificate; raises only :class:`Malformed`, also for parts that are read later."""
    try:
        certificate = x509.load_der_x509_certificate(der)
        _ = list(certificate.extensions), certificate.public_key(), certificate.subject, certificate.issuer
    except CANNOT_BE_READ:
        raise Malformed("a certificate is malformed", why="it is not an X.509 certificate that can be read") from None
    return certificate


def load_pem_certificates_untrusted(text: bytes) -> list[x509.Certificate]:
    """All certificates in a stranger's PEM text; raises only :class:`Malformed`."""
    try:
        found = x509.load_pem_x509_certificates(text)
    except CANNOT_BE_READ:
        raise Malformed("a PEM text is malformed", why="it holds no certificate that can be read") from None
    return [load_certificate_untrusted(entry.public_bytes(Encoding.DER)) for entry in found]


@functools.lru_cache(maxsize=KNOWN)
def public_key_hash(certificate: x509.Certificate) -> bytes:
    """SHA-1 over the SubjectPublicKeyInfo, as CERTREQ carries it (RFC 7296 §3.7)."""
    info = certificate.public_key().public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo)
    return hashlib.sha1(info, usedforsecurity=False).digest()


@functools.lru_cache(maxsize=KNOWN)
def subject_name(certificate: x509.Certificate) -> str:
    """The subject as RFC 4514 text, for people."""
    return printable(certificate.subject.rfc4514_string()) or "a certificate without subject"


def _extension(certificate: x509.Certificate, kind: type[x509.ExtensionType]) -> x509.ExtensionType | None:
    try:
        return certificate.extensions.get_extension_for_class(kind).value
    except x509.ExtensionNotFound:
        return None


def date_findings(certificate: x509.Certificate, now: datetime, *, soon: bool = True) -> list[Finding]:
    """Expired, not yet valid, or close to its end. ``now`` has a time zone."""
    begins, ends = certificate.not_valid_before_utc, certificate.not_valid_after_utc
    return validity_findings(subject_name(certificate), begins, ends, now, soon=soon)


def strength_findings(certificate: x509.Certificate, *, anchor: bool = False) -> list[Finding]:
    """Key size and signature hash (RFC 8247 §3.2, §4). An anchor's own signature proves nothing and is not judged."""
    name = subject_name(certificate)
    key = certificate.public_key()
    findings = []
    if isinstance(key, rsa.RSAPublicKey) and key.key_size < 2048:
        findings.append(finding("certificate-weak", name, f"RSA key of {key.key_size} bits"))
    if not isinstance(
        key, rsa.RSAPublicKey | ec.EllipticCurvePublicKey | ed25519.Ed25519PublicKey | ed448.Ed448PublicKey
    ):
        findings.append(finding("certificate-weak", name, "a kind of key that is not used for IKE"))
    try:
        algorithm = certificate.signature_hash_algorithm
    except UnsupportedAlgorithm:
        return [*findings, finding("certificate-weak", name, "signed with an unknown algorithm")]
    if not anchor and algorithm is not None and algorithm.name in {"md5", "sha1"}:
        findings.append(finding("certificate-weak", name, f"signed with {algorithm.name.upper()}"))
    return findings


def usage_findings(certificate: x509.Certificate, *, over_tls: bool = False) -> list[Finding]:
    """What RFC 4945 §5.1.3.2 and §5.1.3.12 ask of a gateway's own certificate.

    id-kp-serverAuth is taken beside the two purposes of RFC 4945, since public authorities issue nothing else. A server
    of TLS needs it (RFC 5280 §4.2.1.12).
    """
    name = subject_name(certificate)
    usage = _extension(certificate, x509.KeyUsage)
    if isinstance(usage, x509.KeyUsage) and not (usage.digital_signature or usage.content_commitment):
        return [finding("certificate-usage", name, "its key usage does not allow signatures")]
    purposes = _extension(certificate, x509.ExtendedKeyUsage)
    good = {ExtendedKeyUsageOID.ANY_EXTENDED_KEY_USAGE, ExtendedKeyUsageOID.SERVER_AUTH}
    good |= set() if over_tls else {IPSEC_IKE}
    if isinstance(purposes, x509.ExtendedKeyUsage) and not good & set(purposes):
        return [finding("certificate-usage", name, "its extended key usage does not allow a gateway")]
    return []


def client_findings(certificate: x509.Certificate) -> list[Finding]:
    """What is asked of this side's own certificate: it may sign, and if purposes are named one of them fits."""
    purposes = _extension(certificate, x509.ExtendedKeyUsage)
    if isinstance(purposes, x509.ExtendedKeyUsage) and ExtendedKeyUsageOID.CLIENT_AUTH in purposes:
        purposes = None
    if purposes is None:
        usage = _extension(certificate, x509.KeyUsage)
        signs = not isinstance(usage, x509.KeyUsage) or usage.digital_signature or usage.content_commitment
        name = subject_name(certificate)
        return [] if signs else [finding("certificate-usage", name, "its key usage does not allow signatures")]
    return usage_findings(certificate)


def names_hosts(certificate: x509.Certificate) -> bool:
    """Whether a certificate names hosts or addresses."""
    names = _extension(certificate, x509.SubjectAlternativeName)
    return isinstance(names, x509.SubjectAlternativeName) and any(
        isinstance(name, x509.DNSName | x509.IPAddress) for name in names
    )


def issuer_findings(issuer: x509.Certificate, below: int) -> list[Finding]:
    """What RFC 5280 §6.1.4 asks of a certificate that issued another one; ``below``: intermediates beneath it."""
    name = subject_name(issuer)
    constraints = _extension(issuer, x509.BasicConstraints)
    if not isinstance(constraints, x509.BasicConstraints) or not constraints.ca:
        return [finding("certificate-usage", name, "it may not issue certificates")]
    if constraints.path_length is not None and below > constraints.path_length:
        return [finding("certificate-usage", name, f"it allows {constraints.path_length} authorities below itself")]
    usage = _extension(issuer, x509.KeyUsage)
    if isinstance(usage, x509.KeyUsage) and not usage.key_cert_sign:
        return [finding("certificate-usage", name, "its key usage does not allow issuing certificates")]
    return []


def critical_findings(certificate: x509.Certificate) -> list[Finding]:
    """RFC 5280 §4.2: a critical extension that is not understood makes the certificate unusable."""
    unknown = [
        entry.oid.dotted_string
        for entry in certificate.extensions
        if entry.critical and entry.oid not in KNOWN_EXTENSIONS
    ]
    name = subject_name(certificate)
    return [finding("certificate-usage", name, f"critical extension {oid} is not understood") for oid in unknown]


def holds_name(certificate: x509.Certificate, identity: Identity) -> bool:
    """Whether the certificate is valid for an identity (RFC 4945 §3.1; wildcards as RFC 6125 §6.4.3 allows them)."""
    if identity.type == IdType.ID_DER_ASN1_DN:
        try:
            return name_matches(certificate.subject, identity)
        except (ValueError, Malformed):
            return False
    names = _extension(certificate, x509.SubjectAlternativeName)
    if not isinstance(names, x509.SubjectAlternativeName):
        return False
    if identity.type == IdType.ID_FQDN:
        return any(_dns_matches(entry, identity.value) for entry in names.get_values_for_type(x509.DNSName))
    if identity.type == IdType.ID_RFC822_ADDR:
        wanted = identity.value.casefold()
        return any(entry.casefold() == wanted for entry in names.get_values_for_type(x509.RFC822Name))
    if identity.type in (IdType.ID_IPV4_ADDR, IdType.ID_IPV6_ADDR):
        return ipaddress.ip_address(identity.value) in names.get_values_for_type(x509.IPAddress)
    return False


def _dns_matches(pattern: str, name: str) -> bool:
    pattern, name = pattern.casefold().rstrip("."), name.casefold().rstrip(".")
    if pattern.startswith("*."):
        _, dot, parent = name.partition(".")
        return bool(dot) and pattern[2:] == parent and "." in parent
    return pattern == name


def paths(
    leaf: x509.Certificate, others: Sequence[x509.Certificate], anchors: Sequence[x509.Certificate]
) -> Iterator[list[x509.Certificate]]:
    """Chains of valid signatures from ``leaf`` up to one of ``anchors``, leaf first.

    Depth first with a bound on steps, so that a heap of cross-signed certificates costs nothing (RFC 4158 §2.4).
    """
    steps = 0
    candidates = [*anchors, *others]

    def climb(path: list[x509.Certificate]) -> Iterator[list[x509.Certificate]]:
        nonlocal steps
        current = path[-1]
        if current in anchors:
            yield path
            return
        for candidate in candidates if len(path) < MAX_PATH else ():
            steps += 1
            if steps > MAX_STEPS:
                return
            if (
                candidate not in path
                and same_name(candidate.subject, current.issuer)
                and verify_signature(candidate.public_key(), current)
            ):
                yield from climb([*path, candidate])

    yield from climb([leaf])


def find_path(
    leaf: x509.Certificate, others: Sequence[x509.Certificate], anchors: Sequence[x509.Certificate]
) -> list[x509.Certificate] | None:
    """The first chain of valid signatures, or None."""
    return next(paths(leaf, others, anchors), None)


def path_findings(
    path: Sequence[x509.Certificate],
    now: datetime,
    lists: Sequence[Revocations] = (),
    *,
    others: Sequence[x509.Certificate] = (),
    need_status: bool = False,
) -> list[Finding]:
    """What speaks against a chain above its leaf, and the revocation of every link (RFC 5280 §6.1, §6.3)."""
    findings: list[Finding] = []
    below = 0
    for position, issuer in enumerate(path[1:], start=1):
        anchor = position == len(path) - 1
        findings += [*date_findings(issuer, now), *critical_findings(issuer), *strength_findings(issuer, anchor=anchor)]
        if not anchor or _extension(issuer, x509.BasicConstraints) is not None:
            findings += issuer_findings(issuer, below)
        findings += _constraint_findings(issuer, path[:position])
        child = path[position - 1]
        signers = _list_signers(issuer, path, others, now, lists) if lists else []
        findings += revocation_findings(
            child, issuer, lists, now, others=signers, needed=need_status or has_lists(child)
        )
        # RFC 5280 §6.1.4 l: a certificate that an authority has issued to itself does not count.
        below += not same_name(issuer.subject, issuer.issuer)
    return findings


def _list_signers(
    issuer: x509.Certificate,
    path: Sequence[x509.Certificate],
    others: Sequence[x509.Certificate],
    now: datetime,
    lists: Sequence[Revocations],
) -> list[x509.Certificate]:
    """The issuer's further certificates that may have signed its lists: each under the same anchor, not revoked."""
    good = []
    for candidate in others:
        if candidate in (issuer, path[-1]) or not same_name(candidate.subject, issuer.subject):
            continue
        own = find_path(candidate, others, path[-1:])
        if own is None or date_findings(candidate, now, soon=False):
            continue
        told = [
            revocation_finding
            for child, parent in pairwise(own)
            for revocation_finding in revocation_findings(child, parent, lists, now)
        ]
        if all(one.code.slug != "certificate-revoked" for one in told):
            good.append(candidate)
    return good


def _constraint_findings(issuer: x509.Certificate, beneath: Sequence[x509.Certificate]) -> list[Finding]:
    constraints = _extension(issuer, x509.NameConstraints)
    if not isinstance(constraints, x509.NameConstraints):
        return []
    if not_understood(constraints):
        return [finding("certificate-usage", subject_name(issuer), "its name constraints are not understood")]
    for position, certificate in enumerate(beneath):
        if position and same_name(certificate.subject, certificate.issuer):
            continue  # RFC 5280 §6.1.4 b: intermediates that are self-issued are not checked
        wrong = breaks_constraints(certificate, constraints)
        if wrong:
            return [finding("certificate-usage", subject_name(issuer), f"it may not be used for {wrong}")]
    return []


def judge_path(
    leaf: x509.Certificate,
    others: Sequence[x509.Certificate],
    anchors: Sequence[x509.Certificate],
    now: datetime,
    lists: Sequence[Revocations] = (),
    *,
    need_status: bool = False,
) -> list[Finding]:
    """What speaks against trusting a certificate, whatever it is for: of all its paths the best one counts."""
    found = [*date_findings(leaf, now), *critical_findings(leaf), *strength_findings(leaf, anchor=leaf in anchors)]
    best: list[Finding] | None = None
    for path in paths(leaf, others, anchors):
        against = path_findings(path, now, lists, others=[*others, *anchors], need_status=need_status)
        if best is None or _weight(against) < _weight(best):
            best = against
        if not against:
            break
    if best is None:
        issuer = leaf.issuer.rfc4514_string()
        return [*found, finding("certificate-untrusted", subject_name(leaf), f"issued by {issuer}")]
    return found + best


def _weight(findings: Sequence[Finding]) -> tuple[int, int]:
    return sum(entry.severity is Severity.SERIOUS for entry in findings), len(findings)


def judge_gateway(
    certificates: Sequence[x509.Certificate],
    anchors: Sequence[x509.Certificate],
    identity: Identity,
    now: datetime,
    lists: Sequence[Revocations] = (),
    *,
    need_status: bool = False,
    over_tls: bool = False,
) -> list[Finding]:
    """Everything that speaks against a gateway's certificates (its own first); empty where it is proven.

    ``certificate-expires-soon`` and ``certificate-status-unknown`` may be among them: they are warnings, the others are
    serious. ``need_status``: it has to be known whether a certificate was revoked; then the latter is as bad.
    """
    leaf = certificates[0]
    found = usage_findings(leaf, over_tls=over_tls)
    if not holds_name(leaf, identity):
        found.append(finding("certificate-wrong-name", subject_name(leaf), f"it is not valid for {identity.value}"))
    return found + judge_path(leaf, certificates[1:], anchors, now, lists, need_status=need_status)


def is_authority(certificate: x509.Certificate) -> bool:
    """Whether a certificate may issue others."""
    return not issuer_findings(certificate, 0)
