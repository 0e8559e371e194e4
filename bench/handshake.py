"""A whole negotiation, both ends in one process, against the bare cost of its cryptography."""

from __future__ import annotations

import os
import sys
import time
from collections.abc import Iterator
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives.asymmetric.x25519 import X25519PrivateKey
from cryptography.hazmat.primitives.ciphers.aead import AESGCM

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

from support import AUTHORITY, CALLER, GATEWAY, HOST, PASSWORD, initiator_config, responder_config
from zesty_burrow.core.eap import mschapv2
from zesty_burrow.core.ike import auth
from zesty_burrow.core.ike.events import ChildEstablished
from zesty_burrow.core.ike.gateway import Gateway
from zesty_burrow.core.ike.initiator import Initiator
from zesty_burrow.lab.authority import issue, make_key

AUTH_MESSAGES = 6


def negotiate(caller, gateway_config) -> float:
    """From the first datagram to the child SA."""
    gateway = Gateway(gateway_config, os.urandom, GATEWAY[0])
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
    made = auth.sign(key, b"o" * 400)
    leaf = x509.load_der_x509_certificate(certificate)
    auth.verify(leaf.public_key(), made, b"o" * 400)
    leaf.verify_directly_issued_by(AUTHORITY.certificate)
    for _ in range(2):
        response = mschapv2.nt_response(b"c" * 16, b"p" * 16, b"tidewrack_heron", PASSWORD)
        mschapv2.authenticator_response(PASSWORD, response, b"p" * 16, b"c" * 16, b"tidewrack_heron")
        mschapv2.session_key(PASSWORD, response)
    aead = AESGCM(b"k" * 32)
    for _ in range(2 * AUTH_MESSAGES):
        aead.decrypt(b"n" * 12, aead.encrypt(b"n" * 12, b"m" * 300, b"a" * 32), b"a" * 32)
    return time.perf_counter() - began


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
