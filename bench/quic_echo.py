"""The QUIC library by itself: datagrams a second that one end sends and gets back, both ends in processes of their own.

Run as a program it is the far end: it says on which port it listens, and ends with its standard input.
"""

from __future__ import annotations

import select
import socket
import subprocess
import sys
import time

from qh3.quic.configuration import QuicConfiguration
from qh3.quic.connection import QuicConnection
from qh3.quic.events import DatagramFrameReceived, HandshakeCompleted

from zesty_burrow.lab.authority import make_authority, make_key
from zesty_burrow.protocols.connect_ip.http.quic_link import quic_configuration

PAYLOAD = 1452
BATCH = 32


def _own(is_client: bool) -> QuicConfiguration:
    if is_client:
        return quic_configuration(PAYLOAD, is_client=True, server_name="far.example")
    from cryptography import x509
    from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat

    from zesty_burrow.lab.authority import issue

    key = make_key("ecdsa")
    shown = x509.load_der_x509_certificate(issue(make_authority("Echo"), key, "far.example"))
    pem = key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())
    return quic_configuration(PAYLOAD, pem, shown.public_bytes(Encoding.PEM), is_client=False)


def _exchange(here: socket.socket, quic: QuicConnection, timeout: float) -> None:
    """Send what there is, take what has come."""
    for data, to in quic.datagrams_to_send(time.monotonic()):
        here.sendto(data, to)
    due = quic.get_timer()
    wait = timeout if due is None else max(min(timeout, due - time.monotonic()), 0)
    if select.select([here], [], [], wait)[0]:
        while True:
            try:
                data, source = here.recvfrom(65535)
            except BlockingIOError:
                break
            quic.receive_datagram(data, source, time.monotonic())
    if due is not None and time.monotonic() >= due:
        quic.handle_timer(time.monotonic())


def far_end() -> None:
    """Give everything back."""
    here = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    here.bind(("127.0.0.1", 0))
    print(here.getsockname()[1], flush=True)
    first, source = here.recvfrom(65535)
    here.setblocking(False)
    quic = QuicConnection(configuration=_own(False), original_destination_connection_id=first[6 : 6 + first[5]])
    quic.receive_datagram(first, source, time.monotonic())
    while sys.stdin not in select.select([sys.stdin], [], [], 0)[0]:
        while (event := quic.next_event()) is not None:
            if isinstance(event, DatagramFrameReceived):
                quic.send_datagram_frame(event.data)
        _exchange(here, quic, 0.2)


def echo(size: int, seconds: float) -> float:
    """Datagrams of so many octets that come back in a second."""
    words = [sys.executable, "-m", "bench.quic_echo"]
    far = subprocess.Popen(words, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
    assert far.stdout is not None and far.stdin is not None
    peer = ("127.0.0.1", int(far.stdout.readline()))
    here = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    here.bind(("127.0.0.1", 0))
    here.setblocking(False)
    quic = QuicConnection(configuration=_own(True))
    quic.connect(peer, time.monotonic())
    up, back, waiting, began = False, 0, 0, 0.0
    while not up or time.monotonic() - began < seconds:
        while (event := quic.next_event()) is not None:
            if isinstance(event, HandshakeCompleted):
                up, began = True, time.monotonic()
            elif isinstance(event, DatagramFrameReceived):
                back, waiting = back + 1, waiting - 1
        while up and waiting < BATCH:
            quic.send_datagram_frame(bytes(size))
            waiting += 1
        _exchange(here, quic, 0.01)
        if waiting >= BATCH and time.monotonic() - began > 0.05 and not back:
            waiting = 0
    taken = back / (time.monotonic() - began)
    far.stdin.close()
    far.terminate()
    far.wait()
    here.close()
    return taken


if __name__ == "__main__":
    far_end()
