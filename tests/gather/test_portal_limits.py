"""A portal that drips, that says "go on" without end, or whose words would steer a terminal: held in bounds of time."""

from __future__ import annotations

import socket
import ssl
import threading
import time

import pytest
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat
from cryptography.x509.oid import ExtendedKeyUsageOID

from corpus import material as m
from zesty_burrow.core.credentials import NamePassword
from zesty_burrow.core.secret import Secret
from zesty_burrow.errors import BurrowError, OutsideError, SignInRefused
from zesty_burrow.gather import portal

ACCOUNT = NamePassword("heron", Secret("kelp"))
BODY = b'{"format": 1, "token": "abc"}'
WHOLE = b"HTTP/1.1 200 OK\r\nContent-Length: %d\r\n\r\n%s" % (len(BODY), BODY)
STEERING = b'{"format": 1, "error": {"message": "\\u001b]0;owned\\u0007no", "ask": "\\u001b[2Jthe \\u202edesk"}}'


def drip(send, data, ended):
    """An octet now and then."""
    for octet in data:
        if ended.wait(0.05):
            return
        send(bytes([octet]))


def without_end(send, data, ended):
    while not ended.wait(0.01):
        send(data)


ANSWERS = {
    "headers": lambda send, ended: drip(send, WHOLE[:20] + b"X-A: " + b"a" * 4000, ended),
    "body": lambda send, ended: (
        send(b"HTTP/1.1 200 OK\r\nContent-Length: 9000\r\n\r\n"),
        drip(send, b" " * 9000, ended),
    ),
    "continue": lambda send, ended: without_end(send, b"HTTP/1.1 100 Continue\r\n\r\n", ended),
    "silence": lambda send, ended: ended.wait(20),
    "words": lambda send, ended: send(b"HTTP/1.1 401 No\r\nContent-Length: %d\r\n\r\n%s" % (len(STEERING), STEERING)),
    "slow but whole": lambda send, ended: drip(send, WHOLE, ended),
}


@pytest.fixture
def serve(tmp_path):
    """A portal on loopback that answers one call in its own way; its address and authority."""
    key = ec.generate_private_key(ec.SECP256R1())
    certificate = m.pem(m.issue(m.AUTHORITY, key, "localhost", purposes=(ExtendedKeyUsageOID.SERVER_AUTH,)))
    pem = key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())
    (tmp_path / "own.pem").write_bytes(certificate + pem)
    (tmp_path / "ca.pem").write_bytes(m.CA)
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(tmp_path / "own.pem")
    ended = threading.Event()
    listener = socket.create_server(("127.0.0.1", 0))
    listener.settimeout(10)

    def run(answer):
        with listener.accept()[0] as plain, context.wrap_socket(plain, server_side=True) as opened:
            # All of the request: what is not read when a connection is closed takes the answer with it.
            asked = b""
            while not asked.endswith(b"}") and (part := opened.recv(65536)):
                asked += part
            try:
                answer(opened.sendall, ended)
            except OSError:
                return  # the client has gone

    threads = []

    def start(answer):
        threads.append(threading.Thread(target=run, args=(answer,)))
        threads[-1].start()
        return portal.PortalClient(f"https://localhost:{listener.getsockname()[1]}/", tmp_path / "ca.pem")

    yield start
    ended.set()
    for thread in threads:
        thread.join()
    listener.close()


@pytest.mark.parametrize("title", ["headers", "body", "continue", "silence"])
def test_it_ends(serve, monkeypatch, title):
    """In bounded time, with an error that says so."""
    monkeypatch.setattr(portal, "MAX_CALL_SECONDS", 1.0)
    client = serve(ANSWERS[title])
    began = time.monotonic()
    with pytest.raises(OutsideError) as caught:
        client.sign_in(ACCOUNT)
    assert time.monotonic() - began < 8
    assert caught.value.slug in ("portal-unreachable", "portal-malformed") and caught.value.why


def test_one_that_is_only_slow(serve, monkeypatch):
    """What comes within the time is taken."""
    client = serve(ANSWERS["slow but whole"])
    client.sign_in(ACCOUNT)


def test_its_words_steer_nothing(serve):
    """What it says and whom to ask are shown without what could steer a terminal."""
    with pytest.raises(SignInRefused) as caught:
        serve(ANSWERS["words"]).sign_in(ACCOUNT)
    problem: BurrowError = caught.value
    shown = f"{problem.what} {problem.why} {problem.next_step}"
    assert shown.isprintable() and "owned" in shown and "desk" in shown
