"""How a side proves itself without EAP: certificate, pre-shared key, raw public key (RFC 7296 §2.15, RFC 7670)."""

from __future__ import annotations

import hmac
from collections.abc import Callable, Mapping, Sequence
from datetime import UTC, datetime

from cryptography import x509
from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives.serialization import (
    Encoding,
    PublicFormat,
    load_der_public_key,
)

from zesty_burrow.core.certificates import trust
from zesty_burrow.core.certificates.names import same_name
from zesty_burrow.core.certificates.wrapped import name_of_der_untrusted
from zesty_burrow.core.credentials import ClientKey, Credentials, NamePassword, PreSharedKey, RawKey
from zesty_burrow.core.crypto.private_key import PrivateKey, load_private_key
from zesty_burrow.core.crypto.random_octets import Random
from zesty_burrow.core.crypto.tls_engine import TlsKey
from zesty_burrow.core.eap.password import PasswordPeer
from zesty_burrow.core.eap.peer import Method
from zesty_burrow.core.eap.tls import TlsPeer
from zesty_burrow.core.finding import Severity, finding
from zesty_burrow.core.identity import Identity, IdType
from zesty_burrow.errors import Malformed, ProgramFault
from zesty_burrow.protocols.gateway_proof import MAX_CERTIFICATES, Proof, against, judged, not_proven, proof_words
from zesty_burrow.protocols.ikev2.initiator.config import BY_EAP, CERTIFICATE, EAP_TLS, SHARED_KEY, InitiatorConfig
from zesty_burrow.protocols.ikev2.machine.negotiation import check_gateway, same_identity, shown_identity
from zesty_burrow.protocols.ikev2.wire import signatures
from zesty_burrow.protocols.ikev2.wire.keys import shared_key_auth
from zesty_burrow.protocols.ikev2.wire.message import find, find_all
from zesty_burrow.protocols.ikev2.wire.payloads import Authentication, Certificate, Identification, Payload
from zesty_burrow.protocols.ikev2.wire.registry import AuthMethod, CertEncoding
from zesty_burrow.records import dataclass, field


def public_octets(key: PrivateKey) -> bytes:
    """SubjectPublicKeyInfo, DER (RFC 7670 §3)."""
    return key.public_key().public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo)


def name_password(config: InitiatorConfig) -> NamePassword:
    """What EAP-MSCHAPv2 signs in with."""
    value = config.second() if config.second is not None else config.credentials()
    if not isinstance(value, NamePassword):
        raise ProgramFault("EAP-MSCHAPv2 needs a name and a password")
    return value


def second_identity(config: InitiatorConfig) -> Identity:
    """Who the second round is for: an anonymous one, as EAP asks for the account itself."""
    return Identity(IdType.ID_RFC822_ADDR, f"anonymous@{config.gateway_identity.value}")


def check_name(config: InitiatorConfig, identity: Identification | None) -> None:
    """That the gateway calls itself what the profile says; :class:`GatewayNotProven` otherwise."""
    host, wanted = config.gateway[0], config.gateway_identity
    if identity is None or not same_identity(identity, wanted):
        shown = shown_identity(identity) if identity else "nothing"
        raise not_proven(
            host, [finding("certificate-identity", host, f"it calls itself {shown!r}, not {wanted.value}")]
        )


def eap_method(config: InitiatorConfig, random: Random, by_eap: bool, proven: Callable[[Proof], None]) -> Method:
    """The method that a profile signs in with. ``by_eap``: the gateway's proof inside it is the only one it gives."""
    if config.method != EAP_TLS:
        return PasswordPeer(lambda: name_password(config), random)

    def secret() -> tuple[TlsKey, list[x509.Certificate]]:
        value = config.credentials()
        if not isinstance(value, ClientKey):
            raise ProgramFault("EAP-TLS needs a certificate with its key")
        chain = [x509.load_pem_x509_certificate(pem.encode()) for pem in value.certificates[:MAX_CERTIFICATES]]
        return load_private_key(value.key.octets()), chain

    def judge(chain: Sequence[x509.Certificate]) -> None:
        host = config.gateway[0]
        found = judged(config, chain)
        if serious := against(config, found):
            raise not_proven(host, serious)
        if by_eap:
            proven(Proof(f"{proof_words(chain[0])}, inside EAP-TLS", tuple(found)))

    return TlsPeer(f"@{config.gateway_identity.value}".encode(), secret, judge)


def own_proof(secret: Credentials, octets: bytes, prf: int, peer_hashes: frozenset[int]) -> list[Payload]:
    """CERT and AUTH of the side that signs in without EAP. ``peer_hashes``: what RFC 7427 §4 announced."""
    if isinstance(secret, PreSharedKey):
        value = shared_key_auth(prf, secret.key.octets(), octets)
        return [Authentication(AuthMethod.SHARED_KEY_MIC, value)]
    if isinstance(secret, ClientKey):
        key = load_private_key(secret.key.octets())
        ders = [x509.load_pem_x509_certificate(pem.encode()).public_bytes(Encoding.DER) for pem in secret.certificates]
        carried: list[Payload] = [Certificate(CertEncoding.X509_SIGNATURE, der) for der in ders[:MAX_CERTIFICATES]]
    elif isinstance(secret, RawKey):
        key = load_private_key(secret.key.octets())
        carried = [Certificate(CertEncoding.RAW_PUBLIC_KEY, public_octets(key))]
    else:
        raise ProgramFault("these credentials need EAP")
    return [*carried, signatures.sign(key, octets, peer_hashes)]


def check_proof(
    config: InitiatorConfig,
    payloads: Sequence[Payload],
    identity: Identification | None,
    octets: bytes,
    prf: int,
) -> Proof:
    """The gateway's proof in the way that the profile asks for; :class:`GatewayNotProven` without it."""
    if config.proof in (CERTIFICATE, BY_EAP):
        return check_gateway(config, payloads, identity, octets)
    host = config.gateway[0]
    auth = find(payloads, Authentication)
    if auth is None or identity is None:
        raise not_proven(host, [finding("certificate-missing", host)])
    if not same_identity(identity, config.gateway_identity):
        detail = f"it calls itself {shown_identity(identity)!r}, not {config.gateway_identity.value}"
        raise not_proven(host, [finding("certificate-identity", host, detail)])
    if config.proof == SHARED_KEY:
        if config.gateway_key is None:
            raise ProgramFault("the pre-shared key is missing")
        expected = shared_key_auth(prf, config.gateway_key().key.octets(), octets)
        if auth.method != AuthMethod.SHARED_KEY_MIC or not hmac.compare_digest(auth.data, expected):
            raise not_proven(host, [finding("shared-key-wrong", host)])
        return Proof(f"{config.gateway_identity.value}, by the pre-shared key", ())
    return _check_raw_key(config, payloads, auth, octets)


def _check_raw_key(config: InitiatorConfig, payloads: Sequence[Payload], auth: Authentication, octets: bytes) -> Proof:
    """RFC 7670 §3: the key itself, which must be one that the profile names."""
    host = config.gateway[0]
    carried = [one.data for one in find_all(payloads, Certificate) if one.encoding == CertEncoding.RAW_PUBLIC_KEY]
    shown = [data for data in carried if data in config.gateway_keys] or ([] if carried else list(config.gateway_keys))
    for data in shown:
        try:
            signatures.verify(load_der_public_key(data), auth, octets)
        except (Malformed, ValueError, UnsupportedAlgorithm):
            continue
        return Proof(f"{config.gateway_identity.value}, by its raw public key", ())
    detail = "it showed another key" if carried and not shown else "its signature does not fit"
    raise not_proven(host, [finding("raw-key-wrong", host, detail)])


@dataclass(frozen=True, slots=True)
class Callers:
    """Whom a gateway lets in without EAP.

    ``shared_key_of``: the key for an identity's octets, or None; ``anchors``: authorities of callers' certificates;
    ``keys``: accounts by raw public keys (DER); ``wall_time``: what their certificates are judged by.
    """

    shared_key_of: Callable[[bytes], bytes | None] = lambda _: None
    anchors: tuple[x509.Certificate, ...] = ()
    keys: Mapping[bytes, str] = field(default_factory=dict)
    wall_time: Callable[[], datetime] = lambda: datetime(2026, 1, 1, tzinfo=UTC)


def check_caller(
    callers: Callers, payloads: Sequence[Payload], identity: Identification, octets: bytes, prf: int
) -> tuple[str, bytes]:
    """The account of a caller that proved itself, and the pre-shared key if it was one.

    Raises :class:`Malformed` with the reason, which the caller is not told.
    """
    auth = find(payloads, Authentication)
    if auth is None:
        raise Malformed("a caller did not prove itself", why="there is no AUTH payload")
    if auth.method == AuthMethod.SHARED_KEY_MIC:
        key = callers.shared_key_of(identity.data)
        if key is None or not hmac.compare_digest(auth.data, shared_key_auth(prf, key, octets)):
            raise Malformed("a caller did not prove itself", why="its identity or pre-shared key is wrong")
        return identity.data.decode("utf-8", "replace"), key
    carried = find_all(payloads, Certificate)[:MAX_CERTIFICATES]
    raw = next((one.data for one in carried if one.encoding == CertEncoding.RAW_PUBLIC_KEY), None)
    if raw is not None:
        account = callers.keys.get(raw)
        if account is None:
            raise Malformed("a caller did not prove itself", why="nobody knows its raw public key")
        signatures.verify(load_der_public_key(raw), auth, octets)
        return account, b""
    shown = [one.data for one in carried if one.encoding == CertEncoding.X509_SIGNATURE]
    chain = [trust.load_certificate_untrusted(data) for data in shown]
    if not chain:
        raise Malformed("a caller did not prove itself", why="it sent no certificate")
    against = [*trust.client_findings(chain[0])]
    against += trust.judge_path(chain[0], chain[1:], callers.anchors, callers.wall_time())
    if not _speaks_for(chain[0], identity):
        against.append(finding("certificate-wrong-name", trust.subject_name(chain[0])))
    serious = [entry.code.slug for entry in against if entry.severity is Severity.SERIOUS]
    if serious:
        raise Malformed("a caller's certificate is refused", why=", ".join(serious))
    signatures.verify(chain[0].public_key(), auth, octets)
    return trust.subject_name(chain[0]), b""


def _speaks_for(certificate: x509.Certificate, told: Identification) -> bool:
    if told.id_type == IdType.ID_DER_ASN1_DN:
        # RFC 4945 §3.1.5, and RFC 5280 §7.1 for what is equal.
        return bool(certificate.subject.rdns) and same_name(certificate.subject, name_of_der_untrusted(told.data))
    if told.id_type not in (IdType.ID_FQDN, IdType.ID_RFC822_ADDR):
        return False
    return trust.holds_name(certificate, Identity(IdType(told.id_type), told.data.decode("utf-8", "replace")))


def identity_of(secret: Credentials) -> Identity | None:
    """Who a certificate says that this side is: a name of it, else its subject (RFC 4945 §3.1)."""
    if not isinstance(secret, ClientKey):
        return None
    certificate = x509.load_pem_x509_certificate(secret.certificates[0].encode())
    try:
        names = certificate.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
    except x509.ExtensionNotFound:
        names = None
    if names is not None:
        for mail in names.get_values_for_type(x509.RFC822Name):
            return Identity(IdType.ID_RFC822_ADDR, mail)
        for name in names.get_values_for_type(x509.DNSName):
            return Identity(IdType.ID_FQDN, name)
    return Identity(IdType.ID_DER_ASN1_DN, certificate.subject.rfc4514_string())
