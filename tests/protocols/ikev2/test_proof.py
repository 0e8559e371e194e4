"""A gateway that does not prove who it is gets nothing: no name, no password."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec, padding, rsa
from cryptography.hazmat.primitives.asymmetric.utils import decode_dss_signature
from cryptography.hazmat.primitives.serialization import Encoding
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID

from support import AUTHORITY, CERTIFICATE, HOST, KEY, Wire, initiator_config, responder_config
from zesty_burrow.core.certificates import trust
from zesty_burrow.core.identity import Identity, IdType
from zesty_burrow.errors import GatewayNotProven, Malformed
from zesty_burrow.lab.authority import issue, make_authority, make_key
from zesty_burrow.protocols.ikev2.events import ChildEstablished, Proven
from zesty_burrow.protocols.ikev2.wire import signatures
from zesty_burrow.protocols.ikev2.wire.payloads import Authentication
from zesty_burrow.protocols.ikev2.wire.registry import AuthMethod

NOW = datetime.now(UTC)
OTHER_AUTHORITY = make_authority("Somebody Else")


def special(key=KEY, *, signer=AUTHORITY, names=(HOST,), extensions=(), digest=hashes.SHA256(), days=(-1, 90)):
    """A gateway's certificate with anything about it changed."""
    builder = (
        x509.CertificateBuilder()
        .subject_name(x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, HOST)]))
        .issuer_name(signer.certificate.subject)
        .public_key(key.public_key())
        .serial_number(7)
        .not_valid_before(NOW + timedelta(days=days[0]))
        .not_valid_after(NOW + timedelta(days=days[1]))
    )
    if names:
        builder = builder.add_extension(x509.SubjectAlternativeName([x509.DNSName(name) for name in names]), False)
    for extension, critical in extensions:
        builder = builder.add_extension(extension, critical)
    return builder.sign(signer.key, digest).public_bytes(Encoding.DER)


def usage(**on):
    names = (
        "digital_signature", "content_commitment", "key_encipherment", "data_encipherment", "key_agreement",
        "key_cert_sign", "crl_sign", "encipher_only", "decipher_only",
    )  # fmt: skip
    return x509.KeyUsage(**{name: on.get(name, False) for name in names})


WEAK_KEY = rsa.generate_private_key(65537, 1024)
LEAF_AS_ISSUER = type(AUTHORITY)(x509.load_der_x509_certificate(CERTIFICATE), KEY)

FAULTS = {
    "expired": ({"certificates": (special(days=(-90, -1)),)}, "certificate-expired"),
    "not yet valid": ({"certificates": (special(days=(1, 90)),)}, "certificate-not-yet-valid"),
    "another name": ({"certificates": (special(names=("parked.quillwort.example",)),)}, "certificate-wrong-name"),
    "name in the subject alone": ({"certificates": (special(names=()),)}, "certificate-wrong-name"),
    "a wildcard for a whole country": ({"certificates": (special(names=("*.example",)),)}, "certificate-wrong-name"),
    "an unknown authority": ({"certificates": (special(signer=OTHER_AUTHORITY),)}, "certificate-untrusted"),
    "issued by a gateway": (
        {"certificates": (special(signer=LEAF_AS_ISSUER), CERTIFICATE)}, "certificate-usage"),
    "no signing allowed": (
        {"certificates": (special(extensions=[(usage(key_encipherment=True), True)]),)}, "certificate-usage"),
    "a caller's certificate": (
        {"certificates": (special(extensions=[(x509.ExtendedKeyUsage([ExtendedKeyUsageOID.CLIENT_AUTH]), False)]),)},
        "certificate-usage"),
    "an unknown critical extension": (
        {"certificates": (special(extensions=[(x509.UnrecognizedExtension(
            x509.ObjectIdentifier("1.2.3.4"), b"\x05\0"), True)]),)}, "certificate-usage"),
    "a key of 1024 bits": ({"certificates": (special(WEAK_KEY),), "key": WEAK_KEY}, "certificate-weak"),
    "another's certificate": ({"key": make_key("ecdsa")}, "certificate-signature"),
    "no certificate": ({"certificates": ()}, "certificate-missing"),
    "a broken certificate": ({"certificates": (CERTIFICATE[:-40],)}, "certificate-missing"),
    "another identity": ({"identity": Identity.of("tallinn.quillwort.example")}, "certificate-identity"),
}  # fmt: skip


@pytest.mark.parametrize("fault", FAULTS)
def test_nothing_is_sent_to_an_unproven_gateway(fault):
    """Each fault has its code; the credentials were never asked for, and nothing follows the proof that failed."""
    changes, slug = FAULTS[fault]
    asked = []
    wire = Wire(
        initiator_config(credentials=lambda: asked.append("credentials")), responder_config(**changes)
    ).connect()
    assert isinstance(wire.error, GatewayNotProven)
    assert wire.error.slug == slug
    assert wire.error.exit_code == 7
    assert "no credentials were sent" in str(wire.error)
    assert wire.error.next_step
    assert asked == []
    assert len([one for one in wire.seen if one[0]]) == 2
    assert wire.told(Proven) is None


def test_a_proven_gateway_is_asked_for_with_the_name_of_the_profile_only():
    """The identity that goes out before the proof is anonymous; the account's name does not occur in the clear."""
    wire = Wire().connect()
    assert wire.told(ChildEstablished)
    assert wire.initiator.auth.own_id.data == b"anonymous@" + HOST.encode()
    assert not any(b"tidewrack_heron" in data for _, _, data in wire.seen)


def test_an_intermediate_authority():
    """RFC 4945 §3.3.8: intermediates come in further CERT payloads; the path ends at the profile's authority."""
    middle_key = ec.generate_private_key(ec.SECP256R1())
    root = make_authority("Quillwort Root")
    wide = x509.CertificateBuilder(
        root.certificate.issuer, root.certificate.subject, root.key.public_key(), 1,
        NOW - timedelta(1), NOW + timedelta(9),
    ).add_extension(x509.BasicConstraints(True, 1), True).sign(root.key, hashes.SHA256())  # fmt: skip
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "Quillwort Middle")])
    middle = (
        x509.CertificateBuilder(wide.subject, name, middle_key.public_key(), 2, NOW - timedelta(1), NOW + timedelta(9))
        .add_extension(x509.BasicConstraints(True, 0), True)
        .sign(root.key, hashes.SHA256())
    )
    leaf = special(signer=type(AUTHORITY)(middle, middle_key))
    chain = (leaf, middle.public_bytes(Encoding.DER))
    wire = Wire(initiator_config(anchors=(wide,)), responder_config(certificates=chain)).connect()
    assert wire.told(ChildEstablished)
    narrow = Wire(initiator_config(anchors=(root.certificate,)), responder_config(certificates=chain)).connect()
    assert narrow.error.slug == "certificate-usage"
    assert "allows 0 authorities below itself" in str(narrow.error)


def test_a_certificate_that_ends_soon_is_told_but_taken():
    """Thirty days before the end the tunnel still comes up, with a warning."""
    wire = Wire(gateway=responder_config(certificates=(special(days=(-1, 5)),))).connect()
    assert [entry.code.slug for entry in wire.told(Proven).findings] == ["certificate-expires-soon"]
    assert wire.told(ChildEstablished)


@pytest.mark.parametrize(
    ("pattern", "name", "holds"),
    [
        ("lisbon.quillwort.example", "LISBON.quillwort.example", True),
        ("*.quillwort.example", "lisbon.quillwort.example", True),
        ("*.quillwort.example", "a.lisbon.quillwort.example", False),
        ("*.quillwort.example", "quillwort.example", False),
        ("lisbon.quillwort.example", "lisbon.quillwort.example.", True),
        ("lis*.quillwort.example", "lisbon.quillwort.example", False),
    ],
)
def test_names(pattern, name, holds):
    """RFC 6125 §6.4: case does not matter, a wildcard is a whole first label."""
    certificate = x509.load_der_x509_certificate(special(names=(pattern,)))
    assert trust.holds_name(certificate, Identity(IdType.ID_FQDN, name)) is holds


def test_an_address_as_identity():
    """RFC 4945 §3.1.1: an address must stand in the certificate as an address."""
    certificate = x509.load_der_x509_certificate(special(names=("198.51.100.18",)))
    assert not trust.holds_name(certificate, Identity.of("198.51.100.18"))


@pytest.mark.parametrize("kind", ["rsa", "ecdsa"])
def test_signatures(kind):
    """RFC 7427: what one key signs holds for that key, those octets, that method, and nothing else."""
    key = make_key(kind)
    made = signatures.sign(key, b"octets")
    signatures.verify(key.public_key(), made, b"octets")
    wrong = [
        (key.public_key(), made, b"other octets"),
        (make_key(kind).public_key(), made, b"octets"),
        (make_key("ecdsa" if kind == "rsa" else "rsa").public_key(), made, b"octets"),
        (key.public_key(), Authentication(AuthMethod.RSA_DIGITAL_SIGNATURE, made.data), b"octets"),
        (key.public_key(), Authentication(AuthMethod.SHARED_KEY_MIC, made.data), b"octets"),
        (key.public_key(), Authentication(made.method, b""), b"octets"),
        (key.public_key(), Authentication(made.method, made.data[:20]), b"octets"),
        (key.public_key(), Authentication(AuthMethod.ECDSA_SHA256_P256, made.data), b"octets"),
    ]
    for arguments in wrong:
        with pytest.raises(Malformed):
            signatures.verify(*arguments)


def rsa_identifier(digest):
    """RFC 7427 §A.1: sha256WithRSAEncryption and its sisters."""
    last = {"sha256": 11, "sha384": 12, "sha512": 13}[digest.name]
    return bytes.fromhex("300d06092a864886f70d0101") + bytes([last, 5, 0])


@pytest.mark.parametrize("digest", [hashes.SHA256, hashes.SHA384, hashes.SHA512])
def test_signatures_that_other_gateways_make(digest):
    """RFC 7427 with PKCS #1 v1.5 and ECDSA, RFC 4754 with plain ECDSA: made without our code, accepted by it."""
    key = make_key("rsa")
    identifier = rsa_identifier(digest)
    made = bytes([len(identifier)]) + identifier + key.sign(b"octets", padding.PKCS1v15(), digest())
    signatures.verify(key.public_key(), Authentication(AuthMethod.DIGITAL_SIGNATURE, made), b"octets")
    curve, method = {
        "sha256": (ec.SECP256R1(), AuthMethod.ECDSA_SHA256_P256),
        "sha384": (ec.SECP384R1(), AuthMethod.ECDSA_SHA384_P384),
        "sha512": (ec.SECP521R1(), AuthMethod.ECDSA_SHA512_P521),
    }[digest.name]
    key = ec.generate_private_key(curve)
    signature = key.sign(b"octets", ec.ECDSA(digest()))
    identifier = signatures.ECDSA_SHA2[digest]
    made = bytes([len(identifier)]) + identifier + signature
    signatures.verify(key.public_key(), Authentication(AuthMethod.DIGITAL_SIGNATURE, made), b"octets")
    half = (curve.key_size + 7) // 8
    plain = b"".join(number.to_bytes(half) for number in decode_dss_signature(signature))
    signatures.verify(key.public_key(), Authentication(method, plain), b"octets")
    with pytest.raises(Malformed):
        signatures.verify(key.public_key(), Authentication(method, plain[::-1]), b"octets")


def pss_identifier(digest, salt, null, mask=None):
    """RFC 4055 §3.1, put together by hand: the parameters of the hash NULL or absent, the salt as it comes."""
    numbers = {"sha256": 1, "sha384": 2, "sha512": 3}

    def sequence(content, tag=0x30):
        return bytes([tag, len(content)]) + content

    def algorithm(kind):
        oid = bytes.fromhex("0609608648016503040200")[:-1] + bytes([numbers[kind.name]])
        return sequence(oid + (b"\x05\0" if null else b""))

    mgf = sequence(bytes.fromhex("06092a864886f70d010108") + algorithm(mask or digest))
    parameters = sequence(algorithm(digest), 0xA0) + sequence(mgf, 0xA1)
    parameters += b"" if salt == 20 else sequence(b"\x02\x01" + bytes([salt]), 0xA2)
    return sequence(bytes.fromhex("06092a864886f70d01010a") + sequence(parameters))


@pytest.mark.parametrize("null", [True, False], ids=["NULL", "absent"])
@pytest.mark.parametrize(
    ("digest", "salt"),
    [
        (hashes.SHA256, 32),
        (hashes.SHA384, 48),
        (hashes.SHA512, 64),
        (hashes.SHA512, 32),
        (hashes.SHA512, 20),
        (hashes.SHA256, 0),
    ],
)
def test_rsassa_pss_as_it_is_written(digest, salt, null):
    """RFC 4055 §2.1, RFC 7427 §A.4: parameters are read, not compared; a signature with another salt does not hold."""
    key = make_key("rsa")
    identifier = pss_identifier(digest, salt, null)
    for used, holds in ((salt, True), (salt + 1, False)):
        signature = key.sign(b"octets", padding.PSS(padding.MGF1(digest()), used), digest())
        auth = Authentication(AuthMethod.DIGITAL_SIGNATURE, bytes([len(identifier)]) + identifier + signature)
        if holds:
            signatures.verify(key.public_key(), auth, b"octets")
        else:
            with pytest.raises(Malformed):
                signatures.verify(key.public_key(), auth, b"octets")


def test_the_identifiers_of_rfc_7427():
    """RFC 7427 §A.4: the octets of the appendix; the form whose defaults mean SHA-1 is refused."""
    key = make_key("rsa")
    scheme = padding.PSS(padding.MGF1(hashes.SHA256()), 32)
    appendix = bytes.fromhex(
        "304606092a864886f70d01010a3039a00f300d06096086480165030402010500a11c301a06092a864886f70d010108"
        "300d06096086480165030402010500a203020120a303020101"
    )
    made = bytes([len(appendix)]) + appendix + key.sign(b"octets", scheme, hashes.SHA256())
    signatures.verify(key.public_key(), Authentication(AuthMethod.DIGITAL_SIGNATURE, made), b"octets")
    empty = bytes.fromhex("300d06092a864886f70d01010a3000")
    made = (
        bytes([len(empty)]) + empty + key.sign(b"octets", padding.PSS(padding.MGF1(hashes.SHA1()), 20), hashes.SHA1())
    )
    with pytest.raises(Malformed, match="SHA-2"):
        signatures.verify(key.public_key(), Authentication(AuthMethod.DIGITAL_SIGNATURE, made), b"octets")


def test_find_path_is_bounded():
    """A heap of certificates with the same name and no way up costs a bounded number of steps."""
    others = [x509.load_der_x509_certificate(issue(OTHER_AUTHORITY, KEY, HOST)) for _ in range(30)]
    assert trust.find_path(others[0], others[1:], [AUTHORITY.certificate]) is None
