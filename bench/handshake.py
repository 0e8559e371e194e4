"""A whole negotiation, both ends in one process, against the bare cost of its cryptography."""

from __future__ import annotations

import hmac
import os
import sys
import time
from collections.abc import Iterator
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives.asymmetric.x25519 import X25519PrivateKey
from cryptography.hazmat.primitives.ciphers.aead import AESGCM
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat
from cryptography.x509.oid import ExtendedKeyUsageOID

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

from support import AUTHORITY, CALLER, GATEWAY, HOST, PASSWORD, initiator_config, responder_config
from zesty_burrow.core.credentials import ClientKey, PreSharedKey
from zesty_burrow.core.eap import mschapv2
from zesty_burrow.core.secret import Secret
from zesty_burrow.lab.authority import issue, make_key
from zesty_burrow.protocols.ikev2.events import ChildEstablished
from zesty_burrow.protocols.ikev2.initiator.config import InitiatorConfig
from zesty_burrow.protocols.ikev2.initiator.initiator import Initiator
from zesty_burrow.protocols.ikev2.machine.authentication import Callers, identity_of
from zesty_burrow.protocols.ikev2.responder.gateway import IkeGateway
from zesty_burrow.protocols.ikev2.responder.table import ResponderConfig
from zesty_burrow.protocols.ikev2.wire import signatures

AUTH_MESSAGES = 6
PRF_CALLS = 34
"""Of both ends: SKEYSEED, the keys of IKE SA and child SA, AUTH and what it covers (RFC 7296 §2.13 to §2.17)."""


def negotiate(caller, gateway_config) -> float:
    """From the first datagram to the child SA."""
    gateway = IkeGateway(gateway_config, os.urandom, GATEWAY[0])
    began = time.perf_counter()
    initiator = Initiator(caller, os.urandom)
    initiator.start(0.0)
    up = False
    while not up:
        for datagram in initiator.send(0.0):
            gateway.receive(datagram.data, CALLER, 0.0, datagram.destination[1])
        for datagram in gateway.send(0.0):
            initiator.receive(datagram.data, (GATEWAY[0], datagram.local_port), 0.0)
        while (event := initiator.next_event()) is not None:
            up = up or isinstance(event, ChildEstablished)
    return time.perf_counter() - began


def bare(key, certificate: bytes) -> float:
    """The same cryptography with nothing around it: both ends' key agreement, signature, path, sign-in, sealing."""
    began = time.perf_counter()
    one, two = X25519PrivateKey.generate(), X25519PrivateKey.generate()
    one.exchange(two.public_key())
    two.exchange(one.public_key())
    made = signatures.sign(key, b"o" * 400)
    leaf = x509.load_der_x509_certificate(certificate)
    signatures.verify(leaf.public_key(), made, b"o" * 400)
    leaf.verify_directly_issued_by(AUTHORITY.certificate)
    for _ in range(2):
        hashes = mschapv2.Hashes.of(PASSWORD)
        response = mschapv2.nt_response(b"c" * 16, b"p" * 16, b"tidewrack_heron", hashes)
        mschapv2.authenticator_response(hashes, response, b"p" * 16, b"c" * 16, b"tidewrack_heron")
        mschapv2.session_key(hashes, response)
    for _ in range(PRF_CALLS):
        hmac.digest(b"k" * 32, b"m" * 64, "sha256")
    aead = AESGCM(b"k" * 32)
    for _ in range(2 * AUTH_MESSAGES):
        aead.decrypt(b"n" * 12, aead.encrypt(b"n" * 12, b"m" * 300, b"a" * 32), b"a" * 32)
    return time.perf_counter() - began


def sign_ins() -> dict[str, tuple[InitiatorConfig, ResponderConfig]]:
    """Each way to sign in, and ML-KEM besides, at an ECDSA gateway."""
    key = make_key("ecdsa")
    own = make_key("ecdsa")
    certificate = issue(AUTHORITY, key, HOST)
    client = issue(AUTHORITY, own, "heron.tidewrack.example", purposes=(ExtendedKeyUsageOID.CLIENT_AUTH,))
    pem = own.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())
    by_key = ClientKey(Secret(pem), (x509.load_der_x509_certificate(client).public_bytes(Encoding.PEM).decode(),))
    shared = PreSharedKey(Secret(b"razorbills dive at dusk"))
    callers = Callers(lambda _: shared.key.octets(), (AUTHORITY.certificate,), {}, lambda: datetime.now(UTC))
    gateway = responder_config(key=key, certificates=(certificate,), callers=callers)
    caller = initiator_config()
    identity = identity_of(by_key)
    hybrid = tuple(replace(offer, extra=(36,)) for offer in caller.ike_offers)
    return {
        "password": (caller, gateway),
        "certificate": (
            replace(caller, method="certificate", credentials=lambda: by_key, own_identity=identity),
            gateway,
        ),
        "pre-shared key": (
            replace(
                caller,
                method="pre-shared-key",
                proof="pre-shared-key",
                credentials=lambda: shared,
                gateway_key=lambda: shared,
            ),
            gateway,
        ),
        "EAP-TLS": (replace(caller, method="eap-tls", credentials=lambda: by_key), gateway),
        "two rounds": (
            replace(
                caller,
                method="certificate+eap-mschapv2",
                credentials=lambda: by_key,
                second=caller.credentials,
                own_identity=identity,
            ),
            gateway,
        ),
        "password, ML-KEM": (replace(caller, ike_offers=hybrid), replace(gateway, ike_offers=hybrid)),
    }


def measure(rounds: int) -> Iterator[tuple[str, list[float], list[float], str]]:
    """RSA and ECDSA gateways."""
    for kind in ("rsa", "ecdsa"):
        key = make_key(kind)
        certificate = issue(AUTHORITY, key, HOST)
        caller, config = initiator_config(), responder_config(key=key, certificates=(certificate,))
        negotiate(caller, config)
        ours, base = [], []
        for _ in range(rounds * 5):
            base.append(bare(key, certificate))
            ours.append(negotiate(caller, config))
        yield f"negotiation, both ends, {kind.upper()} gateway", ours, base, "its bare cryptography"
    kinds = sign_ins()
    for name, (caller, config) in kinds.items():
        ours, base = [], []
        for _ in range(rounds * 3):
            base.append(negotiate(*kinds["password"]))
            ours.append(negotiate(caller, config))
        yield f"negotiation, signing in by {name}", ours, base, "the same by password"
