"""What is encrypted to a device: by the RFC's vectors, by an independent reading of the RFC, and under attack."""

from __future__ import annotations

import base64
import json

import pytest
from cryptography.hazmat.primitives.asymmetric.x25519 import X25519PrivateKey, X25519PublicKey
from cryptography.hazmat.primitives.ciphers.aead import AESGCM
from cryptography.hazmat.primitives.hashes import SHA256
from cryptography.hazmat.primitives.kdf.hkdf import HKDF, HKDFExpand
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat, PublicFormat
from hypothesis import given
from hypothesis import strategies as st

from zesty_burrow.core.credentials import NamePassword
from zesty_burrow.core.scope import Scope
from zesty_burrow.core.secret import Secret
from zesty_burrow.errors import BurrowError, InputError, Malformed
from zesty_burrow.fleet.bundle import LABEL, Bundle, open_bundle, seal_bundle
from zesty_burrow.fleet.keys import ADMINISTRATOR, DEVICE, LETTERS, OwnKeys, make_secret, read_key
from zesty_burrow.lab import story
from zesty_burrow.lab.kit import place_profile
from zesty_burrow.profiles.text import write_profile

LISBON = place_profile(story.PLACES[0])
DEVICE_KEYS, OTHER, ADMINISTRATOR_KEYS = (OwnKeys(make_secret()) for _ in range(3))
OWN = DEVICE_KEYS.public(DEVICE)
BUNDLE = Bundle(
    7,
    "curlew",
    "2026-11-28T10:00:00Z",
    {LISBON.name: write_profile(LISBON)},
    ((Scope("Quillwort Relay"), NamePassword("tidewrack_heron", Secret("kelp-Forest_42"))),),
)
SEALED = seal_bundle(BUNDLE, OWN, ADMINISTRATOR_KEYS)


# HPKE in base mode, read from RFC 9180 §4.1, §5.1 and §5.2 for these tests alone.

KEM = b"KEM" + (32).to_bytes(2)


def suite_of(aead):
    return b"HPKE" + (32).to_bytes(2) + (1).to_bytes(2) + aead.to_bytes(2)


def extract(salt, suite, label, ikm):
    return HKDF.extract(SHA256(), salt or bytes(32), b"HPKE-v1" + suite + label + ikm)


def expand(prk, suite, label, info, length):
    labelled = length.to_bytes(2) + b"HPKE-v1" + suite + label + info
    return HKDFExpand(SHA256(), length, labelled).derive(prk)


def context_of(shared, public, enc, info, aead, size):
    """Key and nonce."""
    prk = extract(b"", KEM, b"eae_prk", shared)
    secret = expand(prk, KEM, b"shared_secret", enc + public, 32)
    suite = suite_of(aead)
    schedule = b"\0" + extract(b"", suite, b"psk_id_hash", b"") + extract(b"", suite, b"info_hash", info)
    prk = extract(secret, suite, b"secret", b"")
    return expand(prk, suite, b"key", schedule, size), expand(prk, suite, b"base_nonce", schedule, 12)


def raw(key):
    return key.public_bytes(Encoding.Raw, PublicFormat.Raw)


def test_the_reading_of_the_rfc():
    """RFC 9180 appendix A.1.1.1, sequence number 0."""
    secret = "4612c550263fc8ad58375df3f557aac531d26850903e55a9f23f21d8534e8ac8"
    own = X25519PrivateKey.from_private_bytes(bytes.fromhex(secret))
    enc = bytes.fromhex("37fda3567bdbd628e88668c3c8d7e97d1d1253b6d4ea6d44c150f741f1bf4431")
    shared = own.exchange(X25519PublicKey.from_public_bytes(enc))
    info = bytes.fromhex("4f6465206f6e2061204772656369616e2055726e")
    key, nonce = context_of(shared, raw(own.public_key()), enc, info, 1, 16)
    assert key.hex() == "4531685d41d65f03dc48f6b8302c05b0" and nonce.hex() == "56d890e5accaaf011cff4b7d"
    ct = "f938558b5d72f1a23810b4be2ab4f84331acc02fc97babc53a52ae8218a355a96d8770ac83d07bea87e13c512a"
    assert AESGCM(key).decrypt(nonce, bytes.fromhex(ct), b"Count-0") == b"Beauty is truth, truth beauty"


def bound(document):
    octets = read_key(document["administrator"], ADMINISTRATOR).octets, read_key(document["device"], DEVICE).octets
    return LABEL + octets[0] + octets[1] + document["number"].to_bytes(8)


def test_an_independent_reader_opens_a_bundle():
    """By that reading: AES-256-GCM is AEAD 2; ``info`` binds administrator, device and number."""
    document = json.loads(SEALED)
    sealed = base64.b64decode(document["sealed"])
    enc, ct = sealed[:32], sealed[32:]
    shared = DEVICE_KEYS.agreement.exchange(X25519PublicKey.from_public_bytes(enc))
    key, nonce = context_of(shared, OWN.octets[:32], enc, bound(document), 2, 32)
    content = json.loads(AESGCM(key).decrypt(nonce, ct, b""))
    assert content["device"] == "curlew" and list(content["profiles"]) == [LISBON.name]
    assert content["credentials"][0]["value"]["password"] == "kelp-Forest_42"


def test_an_independent_writer_is_understood():
    document = json.loads(SEALED)
    ephemeral = X25519PrivateKey.generate()
    shared = ephemeral.exchange(X25519PublicKey.from_public_bytes(OWN.octets[:32]))
    enc = raw(ephemeral.public_key())
    key, nonce = context_of(shared, OWN.octets[:32], enc, bound(document), 2, 32)
    content = {"device": "curlew", "made_at": "", "profiles": {}, "credentials": []}
    sealed = enc + AESGCM(key).encrypt(nonce, json.dumps(content).encode(), b"")
    signature = ADMINISTRATOR_KEYS.sign(bound(document) + sealed)
    both = {"sealed": base64.b64encode(sealed).decode(), "signature": base64.b64encode(signature).decode()}
    assert open_bundle(json.dumps({**document, **both}).encode(), DEVICE_KEYS).device == "curlew"


def test_there_and_back():
    """Everything comes back; nothing of it can be read on the way."""
    opened = open_bundle(SEALED, DEVICE_KEYS)
    assert opened.administrator == ADMINISTRATOR_KEYS.public(ADMINISTRATOR)
    assert (opened.number, opened.device, opened.made_at) == (7, "curlew", BUNDLE.made_at)
    assert dict(opened.texts) == dict(BUNDLE.texts) and opened.credentials == BUNDLE.credentials
    assert [one.name for one in opened.profiles] == [LISBON.name]
    for secret in (b"kelp-Forest_42", b"tidewrack", b"lisbon"):
        assert secret not in SEALED
    assert "kelp" not in repr(opened) and "octets" not in repr(DEVICE_KEYS)


def test_for_another_device():
    with pytest.raises(InputError) as told:
        open_bundle(SEALED, OTHER)
    assert told.value.slug == "bundle-for-another" and OTHER.public(DEVICE).code in told.value.why


def changed(**values):
    return json.dumps({**json.loads(SEALED), **values}).encode()


@pytest.mark.parametrize(
    ("data", "why"),
    [
        (changed(number=8), "was not made by the key"),
        (changed(administrator=OTHER.public(ADMINISTRATOR).text), "was not made by the key"),
        (changed(signature=base64.b64encode(bytes(64)).decode()), "was not made by the key"),
        (changed(sealed=base64.b64encode(bytes(80)).decode()), "was not made by the key"),
        (changed(number=0), "its number"),
        (changed(number=True), "its number"),
        (changed(number="7"), "its number"),
        (changed(sealed="not base64!"), "sealed is not in base64"),
        (changed(format=2), "this program knows 1"),
        (changed(device="device-key 9 AAAA"), "its form is '9'"),
        (changed(administrator="somebody"), "begins with 'administrator-key'"),
        (b"[" * 100_000, "an administrator has made"),
        (b'{"zesty-burrow": "bundle", "format": 1}', "administrator is missing"),
        (b"{}" + b" " * (5 << 20), "longer than 4 MiB"),
    ],
)
def test_what_is_refused(data, why):
    with pytest.raises(Malformed) as told:
        open_bundle(data, DEVICE_KEYS)
    assert why in told.value.why


@given(at=st.integers(0, len(SEALED) - 1), octet=st.integers(0, 255))
def test_an_octet_that_was_changed(at, octet):
    """Either it is refused, or nothing was changed in what it says."""
    data = bytearray(SEALED)
    data[at] = octet
    try:
        opened = open_bundle(bytes(data), DEVICE_KEYS)
    except BurrowError:
        return
    assert opened.texts == BUNDLE.texts and opened.credentials == BUNDLE.credentials and opened.number == 7


PLAIN = st.recursive(st.none() | st.booleans() | st.integers() | st.text(max_size=5), lambda s: st.lists(s, max_size=3))


@given(
    content=st.fixed_dictionaries(
        {},
        optional=dict.fromkeys(("device", "made_at"), PLAIN)
        | {"profiles": PLAIN | st.dictionaries(st.text(max_size=3), PLAIN, max_size=2)}
        | {"credentials": PLAIN | st.lists(st.dictionaries(st.text(max_size=6), PLAIN, max_size=3), max_size=2)},
    )
    | PLAIN
)
def test_arbitrary_content(content):
    """Well signed and well encrypted nonsense of an administrator's: an error of ours, and no other."""
    document = json.loads(SEALED)
    ephemeral = X25519PrivateKey.generate()
    shared = ephemeral.exchange(X25519PublicKey.from_public_bytes(OWN.octets[:32]))
    enc = raw(ephemeral.public_key())
    key, nonce = context_of(shared, OWN.octets[:32], enc, bound(document), 2, 32)
    sealed = enc + AESGCM(key).encrypt(nonce, json.dumps(content).encode(), b"")
    signature = ADMINISTRATOR_KEYS.sign(bound(document) + sealed)
    both = {"sealed": base64.b64encode(sealed).decode(), "signature": base64.b64encode(signature).decode()}
    try:
        opened = open_bundle(json.dumps({**document, **both}).encode(), DEVICE_KEYS)
    except BurrowError:
        return
    assert set(opened.texts) == {one.name for one in opened.profiles}


def test_keys_as_text():
    """One line, which comes back; the code has only letters that are taken for no others."""
    for own in (OWN, ADMINISTRATOR_KEYS.public(ADMINISTRATOR)):
        assert read_key(own.text, own.kind) == own and "\n" not in own.text
        assert len(own.code) == 24 and set(own.code.replace("-", "")) <= set(LETTERS)
    assert not set("IO01") & set(LETTERS) and len(set(LETTERS)) == 32
    assert OTHER.public(DEVICE).code != OWN.code
    stored = DEVICE_KEYS.agreement.private_bytes(Encoding.Raw, PrivateFormat.Raw, NoEncryption())
    assert stored not in OWN.octets


@given(
    st.text(max_size=300) | st.binary(max_size=99).map(lambda octets: f"{DEVICE} 1 {base64.b64encode(octets).decode()}")
)
def test_keys_that_are_none(text):
    for kind in (DEVICE, ADMINISTRATOR):
        try:
            assert read_key(text, kind).kind == kind
        except Malformed as problem:
            assert problem.why
