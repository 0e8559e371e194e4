"""Revocation lists (RFC 5280 §5, §6.3): complete lists by the authority that issued the certificate.

Delta lists, indirect lists and lists for some reasons only are not taken: what they would say stays unknown.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from cryptography import x509
from cryptography.exceptions import InvalidSignature, UnsupportedAlgorithm
from cryptography.hazmat.primitives.asymmetric import dsa, ec, ed448, ed25519, padding, rsa
from cryptography.x509.oid import CRLEntryExtensionOID, ExtensionOID

from zesty_burrow.core.certificates.names import same_name
from zesty_burrow.core.certificates.validity import list_age_problem
from zesty_burrow.core.finding import Finding, finding
from zesty_burrow.errors import Malformed, printable

UNDERSTOOD = frozenset(
    {
        ExtensionOID.CRL_NUMBER,
        ExtensionOID.AUTHORITY_KEY_IDENTIFIER,
        ExtensionOID.ISSUING_DISTRIBUTION_POINT,
        ExtensionOID.FRESHEST_CRL,
        ExtensionOID.ISSUER_ALTERNATIVE_NAME,
    }
)
Revocations = x509.CertificateRevocationList


def load_revocation_list_untrusted(data: bytes) -> Revocations:
    """A stranger's list, PEM or DER; raises only :class:`Malformed`, also for parts that are read later."""
    load = x509.load_pem_x509_crl if b"-----BEGIN X509 CRL" in data else x509.load_der_x509_crl
    try:
        revocations = load(data)
        _ = (
            list(revocations.extensions),
            revocations.issuer,
            revocations.next_update_utc,
            revocations.last_update_utc,
            len(revocations),
        )
    except (
        ValueError,
        TypeError,
        UnsupportedAlgorithm,
        x509.InvalidVersion,
        x509.DuplicateExtension,
        x509.UnsupportedGeneralNameType,
    ):
        raise Malformed("a revocation list is malformed", why="it is not an X.509 CRL that can be read") from None
    return revocations


def verify_signature(public_key: object, signed: x509.Certificate | Revocations) -> bool:
    """Whether a certificate or list was signed with the private half of a key."""
    octets = signed.tbs_certificate_bytes if isinstance(signed, x509.Certificate) else signed.tbs_certlist_bytes
    try:
        if isinstance(public_key, rsa.RSAPublicKey):
            scheme, algorithm = signed.signature_algorithm_parameters, signed.signature_hash_algorithm
            if algorithm is None or not isinstance(scheme, padding.PKCS1v15 | padding.PSS):
                return False
            public_key.verify(signed.signature, octets, scheme, algorithm)
        elif isinstance(public_key, ec.EllipticCurvePublicKey):
            scheme = signed.signature_algorithm_parameters
            if not isinstance(scheme, ec.ECDSA):
                return False
            public_key.verify(signed.signature, octets, scheme)
        elif isinstance(public_key, ed25519.Ed25519PublicKey | ed448.Ed448PublicKey):
            public_key.verify(signed.signature, octets)
        elif isinstance(public_key, dsa.DSAPublicKey):
            if signed.signature_hash_algorithm is None:
                return False
            public_key.verify(signed.signature, octets, signed.signature_hash_algorithm)
        else:
            return False
    except (InvalidSignature, UnsupportedAlgorithm, ValueError, TypeError):
        return False
    return True


def may_sign_lists(issuer: x509.Certificate) -> bool:
    """RFC 5280 §4.2.1.3: the key usage, if there is one, allows signing lists."""
    try:
        return issuer.extensions.get_extension_for_class(x509.KeyUsage).value.crl_sign
    except x509.ExtensionNotFound:
        return True


def age_problem(revocations: Revocations, now: datetime) -> str:
    """Why a list does not tell that a certificate is good today; its entries count nevertheless (RFC 5280 §6.3.3)."""
    return list_age_problem(revocations.last_update_utc, revocations.next_update_utc, now)


def signature_problem(revocations: Revocations, signers: Sequence[x509.Certificate]) -> str:
    """Why a list is not an authority's own word, for people; empty where it is. ``signers``: who may have issued it."""
    for extension in revocations.extensions:
        if extension.critical and extension.oid not in UNDERSTOOD:
            return f"its critical extension {extension.oid.dotted_string} is not understood"
    named = [signer for signer in signers if same_name(signer.subject, revocations.issuer) and may_sign_lists(signer)]
    if not any(verify_signature(one.public_key(), revocations) for one in named):
        return "no authority that is known here has signed it"
    return ""


def has_lists(certificate: x509.Certificate) -> bool:
    """Whether the authority says that it publishes lists for a certificate (RFC 5280 §4.2.1.13)."""
    try:
        certificate.extensions.get_extension_for_class(x509.CRLDistributionPoints)
    except x509.ExtensionNotFound:
        return False
    return True


def _covers(revocations: Revocations, certificate: x509.Certificate) -> bool:
    """Whether a list is a complete one that speaks of such a certificate (RFC 5280 §6.3.3 b)."""
    if not same_name(revocations.issuer, certificate.issuer):
        return False
    try:
        scope = revocations.extensions.get_extension_for_class(x509.IssuingDistributionPoint).value
    except x509.ExtensionNotFound:
        return True
    if scope.indirect_crl or scope.only_some_reasons or scope.only_contains_attribute_certs:
        return False
    issuing = _is_issuing(certificate)
    if (scope.only_contains_user_certs and issuing) or (scope.only_contains_ca_certs and not issuing):
        return False
    return _same_point(scope, certificate)


def _is_issuing(certificate: x509.Certificate) -> bool:
    try:
        return certificate.extensions.get_extension_for_class(x509.BasicConstraints).value.ca
    except x509.ExtensionNotFound:
        return False


def _same_point(scope: x509.IssuingDistributionPoint, certificate: x509.Certificate) -> bool:
    """RFC 5280 §6.3.3 b 2: a list for one distribution point covers the certificates that name this point."""
    if not scope.full_name and not scope.relative_name:
        return True
    own = _full_names(scope.full_name, scope.relative_name, certificate.issuer)
    try:
        points = certificate.extensions.get_extension_for_class(x509.CRLDistributionPoints).value
    except x509.ExtensionNotFound:
        return False
    return any(
        own & _full_names(point.full_name, point.relative_name, certificate.issuer)
        for point in points
        if not point.reasons and not point.crl_issuer
    )


def _full_names(
    full: list[x509.GeneralName] | None, relative: x509.RelativeDistinguishedName | None, issuer: x509.Name
) -> set[str]:
    if relative is not None:
        return {x509.Name([*issuer.rdns, relative]).rfc4514_string()}
    return {one.value.rfc4514_string() if isinstance(one, x509.DirectoryName) else str(one.value) for one in full or ()}


def revocation_findings(
    certificate: x509.Certificate,
    issuer: x509.Certificate,
    lists: Sequence[Revocations],
    now: datetime,
    *,
    others: Sequence[x509.Certificate] = (),
    needed: bool = False,
) -> list[Finding]:
    """Whether the issuer has revoked a certificate.

    ``needed``: not being told is worth a finding (RFC 5280 §6.3); it is one in any case where the issuer has lists
    here.

    An entry that the issuer has signed counts whatever its list's age; that a certificate is *not* on a list counts
    only while the list is current (§6.3.3). ``others`` are further certificates of the issuer, for a list that was
    signed with another key of its own; they must have been found good before.
    """
    name = printable(certificate.subject.rfc4514_string())
    signers = [issuer, *others]
    covering = [one for one in lists if _covers(one, certificate)]
    signed = [one for one in covering if not signature_problem(one, signers)]
    for entry in signed:
        row = _row_of(entry, certificate.serial_number)
        if row is None:
            if _unknown_entries(entry):
                return [finding("certificate-status-unknown", name, "its list has an entry that is not understood")]
            continue
        return [finding("certificate-revoked", name, f"on {row.revocation_date_utc:%Y-%m-%d}")]
    if any(not age_problem(entry, now) for entry in signed):
        return []
    if not covering and not needed:
        return []
    why = age_problem(signed[0], now) if signed else "no list of its issuer can be relied on"
    return [finding("certificate-status-unknown", name, why)]


def _row_of(revocations: Revocations, serial: int) -> x509.RevokedCertificate | None:
    """The entry of a certificate; the library's own look-up does not know of negative serial numbers."""
    if serial >= 0:
        return revocations.get_revoked_certificate_by_serial_number(serial)
    return next((row for row in revocations if row.serial_number == serial), None)


def _unknown_entries(revocations: Revocations) -> bool:
    """RFC 5280 §5.3: a critical entry extension that is not understood makes the list useless."""
    known = {CRLEntryExtensionOID.CRL_REASON, CRLEntryExtensionOID.INVALIDITY_DATE}
    return any(extension.critical and extension.oid not in known for row in revocations for extension in row.extensions)
