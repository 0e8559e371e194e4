"""Every way to sign in and to prove oneself, back to back: what is accepted, what is not, and what is never told."""

from __future__ import annotations

import contextlib
import hmac
from dataclasses import replace
from datetime import UTC, datetime

import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec, ed448, ed25519, rsa
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat
from cryptography.x509 import load_der_x509_certificate
from cryptography.x509.oid import ExtendedKeyUsageOID
from hypothesis import given
from hypothesis import strategies as st

from support import AUTHORITY, HOST, KEY, PASSWORD, Wire, initiator_config, responder_config
from zesty_burrow.core.credentials import AdditionalKey, ClientKey, NamePassword, PreSharedKey, RawKey
from zesty_burrow.core.eap.tls import TlsPeer, TlsServer
from zesty_burrow.core.identity import Identity, IdType
from zesty_burrow.core.profile import Gateway, Profile, SignIn
from zesty_burrow.core.scope import CredentialsKind
from zesty_burrow.core.secret import Secret
from zesty_burrow.errors import GatewayNotProven, Malformed, NoAgreement, SignInRefused
from zesty_burrow.lab.authority import issue, make_authority
from zesty_burrow.protocols.ikev2.events import ChildEstablished, Closed, Proven, SignedIn, SignInLimit
from zesty_burrow.protocols.ikev2.from_profile import initiator_config as initiator_of
from zesty_burrow.protocols.ikev2.machine.authentication import Callers, identity_of, public_octets
from zesty_burrow.protocols.ikev2.machine.ppk import mix
from zesty_burrow.protocols.ikev2.responder import ike_auth as responder
from zesty_burrow.protocols.ikev2.settings import IkeSettings
from zesty_burrow.protocols.ikev2.wire import signatures
from zesty_burrow.protocols.ikev2.wire.message import build_clear, parse_message_untrusted
from zesty_burrow.protocols.ikev2.wire.payloads import Authentication
from zesty_burrow.protocols.ikev2.wire.registry import AuthMethod, ExchangeType, NotifyType
from zesty_burrow.protocols.session import SessionRequest

HERON = "heron.tidewrack.example"
KEYS = {
    "RSA": rsa.generate_private_key(public_exponent=65537, key_size=2048),
    "ECDSA 256": ec.generate_private_key(ec.SECP256R1()),
    "ECDSA 384": ec.generate_private_key(ec.SECP384R1()),
    "ECDSA 521": ec.generate_private_key(ec.SECP521R1()),
    "Ed25519": ed25519.Ed25519PrivateKey.generate(),
    "Ed448": ed448.Ed448PrivateKey.generate(),
}
SHARED = PreSharedKey(Secret(b"razorbills dive at dusk"))
OWN = Identity(IdType.ID_KEY_ID, "heron")


def now():
    return datetime.now(UTC)


def pem_of(key):
    return Secret(key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption()))


def client_key(kind, authority=AUTHORITY, **changes):
    """A client certificate of the provider's authority, as credentials."""
    der = issue(authority, KEYS[kind], HERON, **{"purposes": (ExtendedKeyUsageOID.CLIENT_AUTH,), **changes})
    certificate = load_der_x509_certificate(der).public_bytes(Encoding.PEM).decode()
    return ClientKey(pem_of(KEYS[kind]), (certificate,))


def callers(**changes):
    return Callers(**{"anchors": (AUTHORITY.certificate,), "wall_time": now, **changes})


def by_certificate(secret, identity=None, gateway=None):
    caller = initiator_config(
        method="certificate", credentials=lambda: secret, own_identity=identity or identity_of(secret)
    )
    return Wire(caller, gateway or responder_config(callers=callers())).connect()


def stands(wire):
    """Both ends have the same child SA, and the steps came in their order."""
    kinds = [type(event) for event in wire.events]
    assert wire.error is None, wire.error
    assert kinds.index(Proven) < kinds.index(SignedIn) < kinds.index(ChildEstablished)
    theirs = next(event for event in wire.gateway_events if isinstance(event, ChildEstablished))
    assert wire.told(ChildEstablished).keys == theirs.keys


@pytest.mark.parametrize("kind", KEYS)
def test_a_client_certificate(kind):
    """RSA, ECDSA on three curves, EdDSA (RFC 7427, RFC 8420)."""
    wire = by_certificate(client_key(kind))
    stands(wire)
    responder = next(iter(wire.gateway.responders.values()))
    assert HERON in responder.account


@pytest.mark.parametrize(
    ("secret", "identity"),
    [
        (client_key("RSA", make_authority("Somebody Else")), None),
        (client_key("RSA", start_days=-90, end_days=-1), None),
        (client_key("RSA", purposes=(ExtendedKeyUsageOID.CODE_SIGNING,)), None),
        (client_key("RSA"), Identity.of("curlew.tidewrack.example")),
        (client_key("RSA"), Identity(IdType.ID_IPV4_ADDR, "192.0.2.1")),
        (ClientKey(pem_of(KEYS["ECDSA 256"]), client_key("ECDSA 384").certificates), None),
    ],
)
def test_a_client_certificate_that_is_refused(secret, identity):
    """Unknown authority, expired, another purpose, another name, another key: refused, and nothing stands."""
    wire = by_certificate(secret, identity)
    assert isinstance(wire.error, SignInRefused)
    assert wire.told(SignedIn) is None


def test_the_subject_as_identity():
    """ID_DER_ASN1_DN must be the certificate's own subject (RFC 4945 §3.1.5)."""
    secret = client_key("ECDSA 256")
    subject = load_der_x509_certificate(issue(AUTHORITY, KEYS["ECDSA 256"], HERON)).subject.rfc4514_string()
    stands(by_certificate(secret, Identity(IdType.ID_DER_ASN1_DN, subject)))


def by_shared_key(ours=SHARED, theirs=SHARED.key.octets(), identity=OWN):
    caller = initiator_config(
        method="pre-shared-key",
        proof="pre-shared-key",
        credentials=lambda: ours,
        gateway_key=lambda: ours,
        own_identity=identity,
        anchors=(),
    )
    known = {b"heron": theirs}
    return Wire(caller, responder_config(callers=callers(shared_key_of=known.get))).connect()


def test_a_pre_shared_key():
    """Both sides prove themselves with it; the key itself is in no message."""
    wire = by_shared_key()
    stands(wire)
    assert not any(SHARED.key.octets() in data for _, _, data in wire.seen)
    assert "by the pre-shared key" in wire.told(Proven).subject


@pytest.mark.parametrize(
    "wire",
    [
        lambda: by_shared_key(theirs=b"another key"),
        lambda: by_shared_key(identity=Identity(IdType.ID_KEY_ID, "curlew")),
    ],
)
def test_a_pre_shared_key_that_is_refused(wire):
    ended = wire()
    assert isinstance(ended.error, SignInRefused)
    assert ended.told(Proven) is None


def test_a_gateway_that_does_not_know_the_shared_key():
    """It lets us in without knowing the key: an impostor, and nothing more is sent to it."""
    caller = initiator_config(
        method="pre-shared-key",
        proof="pre-shared-key",
        credentials=lambda: SHARED,
        gateway_key=lambda: PreSharedKey(Secret(b"the real gateway's")),
        own_identity=OWN,
    )
    wire = Wire(caller, responder_config(callers=callers(shared_key_of=lambda _: SHARED.key.octets()))).connect()
    assert isinstance(wire.error, GatewayNotProven)
    assert wire.error.slug == "shared-key-wrong"
    assert wire.told(ChildEstablished) is None


def test_a_shared_key_from_the_gateway_and_a_password_from_us():
    """RFC 7296 §2.16: the gateway by its key, this side by EAP."""
    caller = initiator_config(proof="pre-shared-key", gateway_key=lambda: SHARED, anchors=())
    wire = Wire(caller, responder_config(proof="pre-shared-key", shared_key=SHARED.key.octets())).connect()
    stands(wire)
    other = Wire(caller, responder_config(proof="pre-shared-key", shared_key=b"another")).connect()
    assert other.error.slug == "shared-key-wrong"


def by_raw_key(gateway_keys=(public_octets(KEY),), known=None, kind="Ed25519"):
    secret = RawKey(pem_of(KEYS[kind]))
    caller = initiator_config(
        method="raw-public-key",
        proof="raw-public-key",
        credentials=lambda: secret,
        gateway_keys=gateway_keys,
        own_identity=OWN,
        anchors=(),
    )
    keys = {public_octets(KEYS[kind]): "heron"} if known is None else known
    return Wire(caller, responder_config(callers=callers(keys=keys))).connect()


@pytest.mark.parametrize("kind", KEYS)
def test_raw_public_keys(kind):
    """RFC 7670: both sides by bare keys that the other one knows."""
    wire = by_raw_key(kind=kind)
    stands(wire)
    assert "raw public key" in wire.told(Proven).subject


def test_raw_public_keys_that_nobody_knows():
    assert isinstance(by_raw_key(known={}).error, SignInRefused)
    wire = by_raw_key(gateway_keys=(public_octets(KEYS["RSA"]),))
    assert isinstance(wire.error, GatewayNotProven)
    assert wire.error.slug == "raw-key-wrong"


def test_a_gateway_that_takes_no_signature_of_ours():
    """Without RFC 7427 an ECDSA key signs by RFC 4754; RSA with SHA-1 is never made (RFC 8247 §3.2)."""
    none = frozenset()
    made = signatures.sign(KEYS["ECDSA 384"], b"octets", none)
    assert made.method == AuthMethod.ECDSA_SHA384_P384
    signatures.verify(KEYS["ECDSA 384"].public_key(), made, b"octets")
    for kind in ("RSA", "Ed25519", "Ed448"):
        with pytest.raises(Malformed):
            signatures.sign(KEYS[kind], b"octets", none)


@pytest.mark.parametrize("kind", KEYS)
def test_signatures(kind):
    """Made and verified; a changed octet, other content or another key is noticed."""
    made = signatures.sign(KEYS[kind], b"octets")
    signatures.verify(KEYS[kind].public_key(), made, b"octets")
    for key, data, octets in (
        (KEYS[kind], made.data[:-1] + bytes([made.data[-1] ^ 1]), b"octets"),
        (KEYS[kind], made.data, b"other"),
        (KEYS["Ed448" if kind == "RSA" else "RSA"], made.data, b"octets"),
    ):
        with pytest.raises(Malformed):
            signatures.verify(key.public_key(), Authentication(made.method, data), octets)


MIXED = AdditionalKey("tidewrack-2026", Secret(b"kittiwakes nest on ledges"))


def with_additional(ours, required, theirs, needed, method="eap-mschapv2"):
    """Both ends, each with or without an additional key, each needing it or not."""
    changes = {"additional": ours, "additional_required": required}
    if method == "pre-shared-key":
        changes |= {
            "method": method,
            "proof": method,
            "credentials": lambda: SHARED,
            "gateway_key": lambda: SHARED,
            "own_identity": OWN,
        }
    gateway = responder_config(
        callers=callers(shared_key_of=lambda _: SHARED.key.octets()),
        additional_key_of=theirs,
        additional_required=needed,
    )
    return Wire(initiator_config(**changes), gateway).connect()


def known(name):
    return MIXED.key.octets() if name == MIXED.identifier else None


def of_nobody(_):
    return None


@pytest.mark.parametrize("method", ["eap-mschapv2", "pre-shared-key"])
@pytest.mark.parametrize(
    ("ours", "required", "theirs", "needed", "outcome"),
    [
        (None, False, None, False, "plain"),
        (None, False, known, False, "plain"),
        (None, False, known, True, "refused"),
        (MIXED, False, None, False, "plain"),
        (MIXED, True, None, False, "no agreement"),
        (MIXED, True, of_nobody, False, "refused"),
        (MIXED, False, of_nobody, True, "refused"),
        (MIXED, False, of_nobody, False, "plain"),
        (MIXED, False, known, False, "mixed"),
        (MIXED, True, known, True, "mixed"),
    ],
)
def test_an_additional_shared_key(method, ours, required, theirs, needed, outcome):
    """RFC 8784 §3, table 1, row by row, from both ends' point of view."""
    wire = with_additional(ours, required, theirs, needed, method)
    if outcome in ("plain", "mixed"):
        stands(wire)
        responder = next(iter(wire.gateway.responders.values()))
        assert wire.initiator.keys == responder.keys
        bare = with_additional(None, False, None, False, method)
        same = wire.initiator.keys.sk_ei == bare.initiator.keys.sk_ei
        assert same, "the seeds are the same, so are the keys that nothing is mixed into"
        assert (wire.initiator.keys.sk_d == bare.initiator.keys.sk_d) == (outcome == "plain")
        assert (wire.told(ChildEstablished).keys == bare.told(ChildEstablished).keys) == (outcome == "plain")
    else:
        assert isinstance(wire.error, NoAgreement if outcome == "no agreement" else SignInRefused)
        assert wire.told(ChildEstablished) is None


def test_another_additional_key():
    """The same identifier, another key: neither side believes the other."""
    wire = with_additional(MIXED, True, lambda _: b"another", True)
    assert isinstance(wire.error, SignInRefused)


def test_the_mixing():
    """RFC 8784 §3: SK_d, SK_pi and SK_pr alone, each by prf(PPK, key | 0x01) where one block is enough."""
    keys = with_additional(None, False, None, False).initiator.keys
    mixed = mix(keys, b"ppk")
    for name in ("sk_d", "sk_pi", "sk_pr"):
        assert getattr(mixed, name) == hmac.digest(b"ppk", getattr(keys, name) + b"\x01", "sha256")
    for name in ("sk_ai", "sk_ar", "sk_ei", "sk_er"):
        assert getattr(mixed, name) == getattr(keys, name)


# EAP-TLS (RFC 5216, RFC 9190), alone (RFC 5998), and two rounds (RFC 4739).


def by_tls(secret=None, gateway=None, **changes):
    config = initiator_config(method="eap-tls", credentials=lambda: secret or client_key("ECDSA 256"), **changes)
    return Wire(config, gateway or responder_config(callers=callers())).connect()


@pytest.mark.parametrize("kind", ["RSA", "ECDSA 256", "ECDSA 384", "Ed25519"])
@pytest.mark.parametrize("proof", ["certificate", "eap"])
def test_eap_tls(kind, proof):
    """Both sides by certificate inside TLS 1.3; the gateway by IKE's signature as well, or by EAP alone."""
    wire = by_tls(client_key(kind), proof=proof)
    stands(wire)
    assert HERON in next(iter(wire.gateway.responders.values())).account
    assert ("inside EAP-TLS" in wire.told(Proven).subject) is (proof == "eap")
    wire.initiator.rekey(wire.now)
    wire.run(until=wire.now + 5)
    assert wire.initiator.child.keys == next(iter(wire.gateway.responders.values())).child.keys


def test_eap_tls_with_intermediate_certificates():
    """Long chains go in pieces inside EAP."""
    root, between = make_authority("Tidewrack Survey"), make_authority("Tidewrack Devices")
    middle = (
        x509.CertificateBuilder()
        .subject_name(between.certificate.subject)
        .issuer_name(root.certificate.subject)
        .public_key(between.key.public_key())
        .serial_number(7)
        .not_valid_before(root.certificate.not_valid_before_utc)
        .not_valid_after(root.certificate.not_valid_after_utc)
        .add_extension(x509.BasicConstraints(ca=True, path_length=0), critical=True)
        .add_extension(
            x509.UnrecognizedExtension(x509.ObjectIdentifier("1.3.6.1.4.1.32473.1"), bytes(3000)), critical=False
        )
        .sign(root.key, hashes.SHA256())
    )
    der = issue(between, KEYS["RSA"], HERON, purposes=(ExtendedKeyUsageOID.CLIENT_AUTH,))
    chain = tuple(one.public_bytes(Encoding.PEM).decode() for one in (load_der_x509_certificate(der), middle))
    anchor = (
        x509.CertificateBuilder()
        .subject_name(root.certificate.subject)
        .issuer_name(root.certificate.subject)
        .public_key(root.key.public_key())
        .serial_number(8)
        .not_valid_before(root.certificate.not_valid_before_utc)
        .not_valid_after(root.certificate.not_valid_after_utc)
        .add_extension(x509.BasicConstraints(ca=True, path_length=None), critical=True)
        .sign(root.key, hashes.SHA256())
    )
    gateway = responder_config(callers=callers(anchors=(anchor,)))
    stands(by_tls(ClientKey(pem_of(KEYS["RSA"]), chain), gateway))


@pytest.mark.parametrize(
    "secret",
    [
        client_key("RSA", make_authority("Somebody Else")),
        client_key("RSA", start_days=-90, end_days=-1),
        client_key("RSA", purposes=(ExtendedKeyUsageOID.CODE_SIGNING,)),
    ],
)
def test_eap_tls_refused(secret):
    """Unknown authority, expired, another purpose: refused, nothing stands."""
    wire = by_tls(secret)
    assert isinstance(wire.error, SignInRefused)
    assert wire.told(SignedIn) is None


@pytest.mark.parametrize(
    ("changes", "code"),
    [
        ({"end_days": -1.0, "start_days": -90}, "certificate-expired"),
        ({"name": "parked.quillwort.example"}, "certificate-wrong-name"),
        ({"authority": make_authority("Somebody Else")}, "certificate-untrusted"),
    ],
)
def test_a_gateway_that_does_not_prove_itself_inside_eap_tls(changes, code):
    """RFC 5998: its certificate is judged before ours is shown; ours never goes out."""
    told = []
    name = changes.pop("name", HOST)
    der = issue(changes.pop("authority", AUTHORITY), KEY, name, **changes)

    def caller(chain):
        told.append(chain)
        return "nobody"

    gateway = responder_config(callers=callers(), certificates=(der,))
    original = responder.caller_of
    responder.caller_of = lambda chain, *_: caller(chain)
    try:
        wire = by_tls(gateway=gateway, proof="eap")
    finally:
        responder.caller_of = original
    assert isinstance(wire.error, GatewayNotProven)
    assert wire.error.slug == code
    assert told == []
    assert wire.told(Proven) is None


def test_a_gateway_that_knows_nothing_of_eap_alone():
    """RFC 5998 §3: it sends its signature as ever, which is judged; the rest is the same."""
    gateway = responder_config(callers=callers())
    wire = Wire(initiator_config(method="eap-tls", proof="eap", credentials=lambda: client_key("RSA")), gateway)
    original = responder.CallerAuth.on_first_auth

    def deaf(self, message, now):
        keep, responder.notifications = responder.notifications, lambda _: {}
        try:
            return original(self, message, now)
        finally:
            responder.notifications = keep

    responder.CallerAuth.on_first_auth = deaf
    try:
        wire.connect()
    finally:
        responder.CallerAuth.on_first_auth = original
    stands(wire)
    assert "inside EAP-TLS" not in wire.told(Proven).subject


def test_an_imposter_calls_itself_another_name():
    """By EAP alone the name in IDr still has to be the profile's."""
    gateway = responder_config(callers=callers(), identity=Identity.of("parked.quillwort.example"))
    wire = by_tls(gateway=gateway, proof="eap")
    assert wire.error.slug == "certificate-identity"


def two_rounds(gateway=None, secret=None, password=None, **changes):
    known = password or NamePassword("tidewrack_heron", Secret(PASSWORD))
    own = secret or client_key("ECDSA 256")
    config = initiator_config(
        method="certificate+eap-mschapv2",
        credentials=lambda: own,
        second=lambda: known,
        own_identity=identity_of(own),
        **changes,
    )
    return Wire(config, gateway or responder_config(callers=callers(), second_round=True)).connect()


def test_two_rounds():
    """RFC 4739: certificate, then password; the gateway has both before it grants anything."""
    wire = two_rounds()
    stands(wire)
    assert next(iter(wire.gateway.responders.values())).account == "tidewrack_heron"


@pytest.mark.parametrize(
    ("secret", "password"),
    [
        (client_key("RSA", make_authority("Somebody Else")), None),
        (None, NamePassword("tidewrack_heron", Secret("another"))),
    ],
)
def test_one_bad_round_is_enough(secret, password):
    wire = two_rounds(secret=secret, password=password)
    assert isinstance(wire.error, SignInRefused)
    assert wire.told(SignedIn) is None
    assert wire.told(ChildEstablished) is None


def test_one_round_where_two_are_wanted():
    """A certificate alone does not do; a gateway that knows one round only is told apart from a refusal."""
    wire = by_certificate(client_key("RSA"), gateway=responder_config(callers=callers(), second_round=True))
    assert isinstance(wire.error, SignInRefused)
    wire = two_rounds_at_a_simple_gateway()
    assert isinstance(wire.error, NoAgreement)
    assert "RFC 4739" in wire.error.why


def two_rounds_at_a_simple_gateway():
    """The announcement is taken out of the gateway's first message."""
    own = client_key("RSA")
    config = initiator_config(
        method="certificate+eap-mschapv2", credentials=lambda: own, second=lambda: None, own_identity=identity_of(own)
    )
    wire = Wire(config, responder_config(callers=callers()))

    def tamper(data, to_gateway):
        if to_gateway or data[18] != ExchangeType.IKE_SA_INIT:
            return data
        message = parse_message_untrusted(data)
        rest = [
            one for one in message.payloads if getattr(one, "notification", 0) != NotifyType.MULTIPLE_AUTH_SUPPORTED
        ]
        return build_clear(message.header, rest)

    wire.tamper = tamper
    return wire.connect()


def test_an_additional_key_and_two_rounds():
    """RFC 8784 beside RFC 4739: mixed in once, in the first round."""
    extra = AdditionalKey("winter", Secret(b"x" * 32))
    gateway = responder_config(callers=callers(), second_round=True, additional_key_of=lambda _: b"x" * 32)
    stands(two_rounds(gateway, additional=extra, additional_required=True))


def test_a_sign_in_that_has_to_be_repeated():
    """RFC 4478: the gateway says so with its grant, and ends what is not repeated in time; one without a limit does not."""
    wire = Wire(initiator_config(child_seconds=1e9), responder_config(sign_in_seconds=300)).connect()
    assert [event.seconds for event in wire.events if isinstance(event, SignInLimit)] == [300]
    wire.run(until=wire.now + 290)
    assert not wire.closed
    wire.run(until=wire.now + 20)
    closed = wire.told(Closed)
    assert closed.by_peer
    assert wire.gateway.responders == {}
    plain = Wire(initiator_config(child_seconds=1e9), responder_config()).connect()
    plain.run(until=plain.now + 4000)
    assert plain.told(SignInLimit) is None
    assert not plain.closed


@pytest.mark.parametrize(
    ("method", "said"),
    [("eap-tls", f"anonymous@{HOST}"), ("certificate", HERON), ("certificate+eap-mschapv2", HERON)],
)
def test_who_we_say_that_we_are(method, said):
    """Before the gateway's proof a profile with EAP-TLS does not tell the certificate's name; its own word counts."""
    profile = Profile(
        "office",
        Gateway((HOST,)),
        sign_in=SignIn(method=method),
        authorities=(AUTHORITY.certificate.public_bytes(Encoding.PEM).decode(),),
    )
    secrets = {
        CredentialsKind.CLIENT_KEY: client_key("RSA"),
        CredentialsKind.NAME_PASSWORD: NamePassword("tidewrack_heron", Secret(PASSWORD)),
    }

    def identity_of_profile(one):
        return initiator_of(one, SessionRequest("198.51.100.18", secrets, now(), 5.0)).own_identity.value

    assert identity_of_profile(profile) == said
    own = replace(profile, settings=IkeSettings(own_identity=Identity.of("me.example")))
    assert identity_of_profile(own) == "me.example"


def tls_pair(judge=lambda chain: None):
    """Both ends of EAP-TLS without IKE around them."""
    secret = client_key("ECDSA 256")
    chain = [x509.load_pem_x509_certificate(pem.encode()) for pem in secret.certificates]
    peer = TlsPeer(b"@x", lambda: (KEYS["ECDSA 256"], chain), judge)
    der = issue(AUTHORITY, KEY, HOST)
    server = TlsServer(KEY, [load_der_x509_certificate(der)], lambda shown: "heron")
    return peer, server


def talk(peer, server, spoil=lambda number, data: data):
    request, number = server.start(1), 0
    while not isinstance(request, bool):
        number += 1
        request = server.take(spoil(number, peer.take(request)), number)
        assert number < 60
    return request


def test_eap_tls_keys_are_the_exporters():
    """RFC 9190 §2.3: MSK = the first 64 octets; the same at both ends, another each time."""
    first, second = tls_pair(), tls_pair()
    assert talk(*first) is True
    assert talk(*second) is True
    assert first[0].key == first[1].key
    assert len(first[0].key) == 64
    assert first[0].key != second[0].key


@pytest.mark.parametrize("number", range(1, 6))
def test_eap_tls_on_a_bad_wire(number):
    """A changed packet never ends in success, nor in anything but the documented error."""
    peer, server = tls_pair()
    touched = []

    def spoil(at, data):
        if at != number or len(data) <= 8:
            return data
        touched.append(at)
        return data[:-1] + bytes([data[-1] ^ 1])

    try:
        ended = talk(peer, server, spoil)
    except Malformed:
        assert touched
        return
    assert ended is not bool(touched)
    assert peer.confirmed is not bool(touched)


@given(st.lists(st.binary(max_size=60), max_size=6))
def test_strangers_tls(packets):
    for make in (lambda: tls_pair()[0], lambda: tls_pair()[1]):
        machine = make()
        with contextlib.suppress(Malformed):
            for data in packets:
                machine.take(data) if isinstance(machine, TlsPeer) else machine.take(data, 1)
        assert machine.key == b""


def test_eap_tls_never_keeps_more_than_it_says():
    """RFC 5216 §2.1.5: an announced length is bounded, and held to."""
    peer, _ = tls_pair()
    with pytest.raises(Malformed, match="are the most"):
        peer.take(b"\xe0" + (1 << 30).to_bytes(4) + b"x")
    peer, _ = tls_pair()
    peer.take(b"\xe0" + (10).to_bytes(4) + b"12345")
    with pytest.raises(Malformed, match="announced"):
        peer.take(b"\x40" + b"123456")
