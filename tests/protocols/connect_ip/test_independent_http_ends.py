"""Other ends of CONNECT-IP, written with the libraries' own calls alone: without our code for HTTP, capsules or TLS."""

from __future__ import annotations

import base64
import ssl
import subprocess
from ipaddress import ip_network

import h2.config
import h2.connection
import h2.events
import h2.settings
import h11
import pytest
from aioquic.h3.connection import H3Connection, Setting
from aioquic.h3.events import DatagramReceived, DataReceived, HeadersReceived
from aioquic.quic.configuration import QuicConfiguration
from aioquic.quic.connection import QuicConnection
from aioquic.quic.events import HandshakeCompleted
from cryptography.hazmat.primitives.serialization import Encoding

from http_ends import (
    HERE,
    KEY,
    NAME,
    PASSWORD,
    PEM,
    THERE,
    Wire,
    a_config,
    a_profile,
    a_session,
    certificate,
    client_key,
    ip4,
    pem_of,
)
from zesty_burrow.core.profile import Traffic
from zesty_burrow.protocols.session import StepDone, Up

BASIC = "Basic " + base64.b64encode(f"{NAME}:{PASSWORD}".encode()).decode()
ROUTES = bytes.fromhex("03 0a 04 00000000 ffffffff 00")
ASSIGNED = bytes.fromhex("01 1a 01 04 0a42010a 20 02 06 20010db8006600000000000000000010 80")
ASKED = bytes.fromhex("02 1a 01 04 00000000 20 02 06 00000000000000000000000000000000 80")
BEHIND = bytes.fromhex("03 0a 04 0a630100 0a6301ff 00")
PATH = "/.well-known/masque/ip/*/*/"


def datagram_capsule(packet):
    assert len(packet) < 60
    return bytes([0, len(packet) + 1, 0]) + packet


class Tls:
    """Python's own TLS over buffers, as a server or a client."""

    def __init__(self, tmp_path, alpn, *, server):
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER if server else ssl.PROTOCOL_TLS_CLIENT)
        context.set_alpn_protocols([alpn])
        context.keylog_filename = str(tmp_path / "keys")
        if server:
            (tmp_path / "chain.pem").write_bytes(certificate().public_bytes(Encoding.PEM) + pem_of(KEY))
            context.load_cert_chain(tmp_path / "chain.pem")
        else:
            context.load_verify_locations(cadata=PEM)
        self.incoming, self.outgoing = ssl.MemoryBIO(), ssl.MemoryBIO()
        name = None if server else "lisbon.quillwort.example"
        self.tls = context.wrap_bio(self.incoming, self.outgoing, server_side=server, server_hostname=name)
        self.done = False

    def feed(self, data):
        """What it says, in the clear."""
        self.incoming.write(data)
        try:
            if not self.done:
                self.tls.do_handshake()
                self.done = True
            found = b""
            while True:
                found += self.tls.read(1 << 16)
        except ssl.SSLWantReadError:
            return found if self.done else b""


class PlainH2Server:
    """Takes one extended CONNECT and speaks capsules by hand."""

    def __init__(self):
        config = h2.config.H2Configuration(client_side=False, header_encoding="utf-8")
        self.h2 = h2.connection.H2Connection(config)
        self.h2.local_settings = h2.settings.Settings(
            client=False, initial_values={h2.settings.SettingCodes.ENABLE_CONNECT_PROTOCOL: 1}
        )
        self.h2.initiate_connection()
        self.headers, self.content, self.stream = {}, b"", None

    def feed(self, data):
        for event in self.h2.receive_data(data):
            if isinstance(event, h2.events.RequestReceived):
                self.headers, self.stream = dict(event.headers), event.stream_id
                self.h2.send_headers(self.stream, [(":status", "200"), ("capsule-protocol", "?1")])
                self.h2.send_data(self.stream, ROUTES)
            elif isinstance(event, h2.events.DataReceived):
                self.content += event.data
                self.h2.acknowledge_received_data(event.flow_controlled_length, event.stream_id)
                if event.data.endswith(ASKED):
                    self.h2.send_data(self.stream, ASSIGNED)

    def say(self, data):
        self.h2.send_data(self.stream, data)

    def out(self):
        return self.h2.data_to_send()


class PlainH11Server:
    """Switches protocols, and speaks capsules by hand."""

    def __init__(self):
        self.h11, self.going = h11.Connection(h11.SERVER), b""
        self.headers, self.content, self.switched = {}, b"", False

    def feed(self, data):
        if not self.switched:
            self.h11.receive_data(data)
            event = self.h11.next_event()
            if not isinstance(event, h11.Request):
                return
            self.headers = {name.decode(): value.decode() for name, value in event.headers}
            self.headers[":path"], self.headers[":method"] = event.target.decode(), event.method.decode()
            headers = [("connection", "Upgrade"), ("upgrade", "connect-ip"), ("capsule-protocol", "?1")]
            self.going += self.h11.send(h11.InformationalResponse(status_code=101, headers=headers)) + ROUTES
            self.switched = True
            return
        self.content += data
        if data.endswith(ASKED):
            self.going += ASSIGNED

    def say(self, data):
        self.going += data

    def out(self):
        going, self.going = self.going, b""
        return going


def run_against(session, tls, http):
    """Both until nothing moves."""
    events = []
    for _ in range(60):
        moved = False
        for one in session.send(1.0):
            plain = tls.feed(one.data)
            if plain:
                http.feed(plain)
            moved = True
        if tls.done and (data := http.out()):
            tls.tls.write(data)
        if back := tls.outgoing.read():
            session.receive(back, THERE, 1.0)
            moved = True
        while (event := session.next_event()) is not None:
            events.append(event)
        if not moved:
            return events
    raise AssertionError("it does not come to an end")


@pytest.mark.parametrize(
    ("version", "alpn", "server"), [("2", "h2", PlainH2Server), ("1.1", "http/1.1", PlainH11Server)]
)
def test_our_client(tmp_path, version, alpn, server):
    """The request is as RFC 9484 §4.2 and §4.4 have it; capsules are the octets that were expected; and packets go."""
    behind = Traffic(behind=(ip_network("10.99.1.0/25"), ip_network("10.99.1.128/25")))
    session = a_session(a_profile(http_versions=(version,), traffic=behind))
    session.start(1.0)
    tls, http = Tls(tmp_path, alpn, server=True), server()
    events = run_against(session, tls, http)
    assert [str(one.step) for one in events if isinstance(one, StepDone)] == ["reach", "negotiate", "prove", "sign in"]
    up = next(one for one in events if isinstance(one, Up))
    assert [str(one) for one in up.network.addresses] == ["10.66.1.10/32", "2001:db8:66::10/128"]
    expected = {
        ":method": "CONNECT",
        ":protocol": "connect-ip",
        ":scheme": "https",
        ":authority": "lisbon.quillwort.example",
    }
    if version == "1.1":
        expected = {
            ":method": "GET",
            "host": "lisbon.quillwort.example",
            "connection": "Upgrade",
            "upgrade": "connect-ip",
        }
    assert http.headers == {**expected, ":path": PATH, "capsule-protocol": "?1", "authorization": BASIC}
    assert http.content == BEHIND + ASKED
    up.channel.put(ip4(b"out"), 1.0)
    run_against(session, tls, http)
    assert http.content == BEHIND + ASKED + datagram_capsule(ip4(b"out"))
    http.say(datagram_capsule(ip4(b"in")))
    run_against(session, tls, http)
    assert up.channel.take() == [ip4(b"in")]


@pytest.mark.parametrize("alpn", ["h2", "http/1.1"])
def test_our_gateway(tmp_path, alpn):
    """A client of the libraries' own is let in, gets its addresses, and its packets arrive."""
    from zesty_burrow.core.crypto.tls_engine import TlsOptions, make_context
    from zesty_burrow.protocols.connect_ip.gateway_session import ConnectIpCaller
    from zesty_burrow.protocols.connect_ip.http.tls_link import TlsLink
    from zesty_burrow.protocols.session import Transport

    context = make_context(TlsOptions(protocols=(alpn,)), KEY, (certificate(),), is_client=False)
    caller = ConnectIpCaller(a_config(), TlsLink.server(context), HERE, Transport.STREAM)
    tls, plain = Tls(tmp_path, alpn, server=False), b""

    def exchange(data=b""):
        nonlocal plain
        if data:
            tls.tls.write(data)
        for _ in range(8):
            caller.receive(tls.outgoing.read() or b"", HERE, 1.0) if tls.outgoing.pending else None
            for one in caller.send(1.0):
                plain += tls.feed(one.data)

    tls.feed(b"")
    exchange()
    assert tls.tls.selected_alpn_protocol() == alpn
    if alpn == "h2":
        client = h2.connection.H2Connection(h2.config.H2Configuration(header_encoding="utf-8"))
        client.initiate_connection()
        exchange(client.data_to_send())
        client.receive_data(plain)
        rows = {":method": "CONNECT", ":protocol": "connect-ip", ":scheme": "https", ":authority": "x", ":path": PATH}
        client.send_headers(1, [*rows.items(), ("capsule-protocol", "?1"), ("authorization", BASIC)])
        client.send_data(1, ASKED + datagram_capsule(ip4(b"out")))
        plain = b""
        exchange(client.data_to_send())
        content = b"".join(one.data for one in client.receive_data(plain) if isinstance(one, h2.events.DataReceived))
    else:
        ask = f"GET {PATH} HTTP/1.1\r\nHost: x\r\nConnection: upgrade\r\nUpgrade: connect-ip\r\nCapsule-Protocol: ?1\r\nAuthorization: {BASIC}\r\n\r\n"
        exchange(ask.encode())
        head, _, content = plain.partition(b"\r\n\r\n")
        assert head.startswith(b"HTTP/1.1 101 ") and b"upgrade: connect-ip" in head.lower()
        plain = b""
        exchange(ASKED + datagram_capsule(ip4(b"out")))
        content += plain
    assert content[:2] == b"\x03\x2c" and content[46:] == ASSIGNED
    assert caller.channel.take() == [ip4(b"out")]


class PlainH3Server:
    """QUIC and HTTP/3 by another library than ours. ``asks``: it wants a certificate of the caller."""

    def __init__(self, tmp_path, odcid, *, asks=False, datagrams=True):
        (tmp_path / "c.pem").write_bytes(certificate().public_bytes(Encoding.PEM))
        (tmp_path / "k.pem").write_bytes(pem_of(KEY))
        made = QuicConfiguration(
            alpn_protocols=["h3"], is_client=False, max_datagram_frame_size=65536 if datagrams else None
        )
        made.load_cert_chain(tmp_path / "c.pem", tmp_path / "k.pem")
        self.quic = QuicConnection(configuration=made, original_destination_connection_id=odcid)
        self.asks, self.datagrams = asks, datagrams
        self.h3 = None
        self.headers, self.content, self.packets, self.stream = {}, b"", [], None

    def receive(self, data, now):
        self.quic.receive_datagram(data, HERE, now)
        if self.asks and self.quic.tls is not None:
            self.quic.tls._request_client_certificate = True
        while (event := self.quic.next_event()) is not None:
            if isinstance(event, HandshakeCompleted):
                self.h3 = H3Connection(self.quic, enable_webtransport=self.datagrams)
            for one in self.h3.handle_event(event) if self.h3 else ():
                if isinstance(one, HeadersReceived):
                    self.headers = {name.decode(): value.decode() for name, value in one.headers}
                    self.stream = one.stream_id
                    self.h3.send_headers(self.stream, [(b":status", b"200"), (b"capsule-protocol", b"?1")])
                    self.h3.send_data(self.stream, ROUTES, end_stream=False)
                elif isinstance(one, DataReceived):
                    self.content += one.data
                    if one.data == ASKED:
                        self.h3.send_data(self.stream, ASSIGNED, end_stream=False)
                elif isinstance(one, DatagramReceived):
                    self.packets.append(one.data)


@pytest.mark.parametrize("method", ["basic", "certificate"])
def test_our_client_over_http3(tmp_path, method):
    """RFC 9220, RFC 9297: packets are HTTP Datagrams of the request's stream, in both directions; certificates too."""
    own = client_key() if method == "certificate" else None
    session = a_session(a_profile(method, transport="udp"), own=own)
    session.start(1.0)
    server, events, now = None, [], 1.0

    def exchange():
        nonlocal server, now
        for _ in range(40):
            moved = False
            for one in session.send(now):
                if server is None:
                    server = PlainH3Server(tmp_path, one.data[6 : 6 + one.data[5]], asks=method == "certificate")
                server.receive(one.data, now)
                moved = True
            for data, _ in server.quic.datagrams_to_send(now):
                session.receive(data, THERE, now)
                moved = True
            while (event := session.next_event()) is not None:
                events.append(event)
            now += 0.01
            if not moved:
                return

    exchange()
    up = next((one for one in events if isinstance(one, Up)), None)
    assert up is not None, events
    assert server.h3.received_settings[Setting.H3_DATAGRAM] == 1
    assert server.headers[":protocol"] == "connect-ip" and server.headers[":path"] == PATH
    assert server.headers.get("authorization") == (BASIC if method == "basic" else None)
    shown = server.quic.tls._peer_certificate
    assert (shown is not None) == (method == "certificate")
    assert server.content == ASKED
    up.channel.put(ip4(b"out"), now)
    exchange()
    assert server.packets == [b"\0" + ip4(b"out")]
    server.h3.send_datagram(server.stream, b"\0" + ip4(b"in"))
    exchange()
    assert up.channel.take() == [ip4(b"in")]


def test_tshark_reads_what_we_say(tmp_path):
    """HTTP/2 in TLS, decrypted with the key log that the program exports: frames, pseudo-headers, flow of the tunnel."""
    from scapy.layers.inet import IP, TCP
    from scapy.utils import PcapWriter

    wire = Wire(alpn=("h2",))
    wire.up.channel.put(ip4(b"out"), wire.now)
    wire.run()
    wire.session.close(wire.now)
    wire.run()
    (tmp_path / "keys").write_text(wire.session.exported_keys())
    numbers = [1000, 5000]
    with PcapWriter(str(tmp_path / "it.pcap"), linktype=101) as writer:
        ends = [(HERE, THERE), (THERE, HERE)]

        def put(side, flags, data=b""):
            (src, sport), (dst, dport) = ends[side]
            writer.write(
                IP(src=src, dst=dst)
                / TCP(sport=sport, dport=dport, flags=flags, seq=numbers[side], ack=numbers[1 - side])
                / data
            )
            numbers[side] += len(data) + (1 if "S" in flags else 0)

        put(0, "S")
        put(1, "SA")
        put(0, "A")
        # In the order in which they were said: a flight of ours, then the answers to it.
        said, answered = list(wire.said), list(wire.answered)
        while said or answered:
            for side, rows in ((0, said), (1, answered)):
                if rows:
                    data = rows.pop(0)
                    for at in range(0, len(data), 1400):
                        put(side, "PA", data[at : at + 1400])
    found = subprocess.run(
        ["tshark", "-r", tmp_path / "it.pcap", "-o", f"tls.keylog_file:{tmp_path / 'keys'}", "-Y", "http2", "-V",
         "-d", "tcp.port==443,tls"],
        capture_output=True, text=True, check=True,
    ).stdout  # fmt: skip
    for expected in ("Header: :protocol: connect-ip", "Header: capsule-protocol: ?1", "Header: :status: 200 OK",
                     "Settings - Extended CONNECT", "Type: DATA", "Type: GOAWAY"):  # fmt: skip
        assert expected in found, expected
    assert "Malformed" not in found
