"""HTTP/3 (RFC 9114, RFC 9220) in QUIC: packets in DATAGRAM frames (RFC 9221, RFC 9297), capsules in a stream.

The protocol is the library's. It does not tell which key exchange the server has chosen of those that it offers, so the
weaker of these counts.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress

from cryptography import x509

from zesty_burrow.extras import extra
from zesty_burrow.records import dataclass, replace

with extra("http3"):
    from qh3.h3.connection import H3Connection, Setting
    from qh3.h3.events import DatagramReceived, DataReceived, H3Event, HeadersReceived, StreamReset
    from qh3.quic.configuration import QuicConfiguration
    from qh3.quic.connection import QuicConnection, QuicConnectionError
    from qh3.quic.events import (
        ConnectionIdIssued,
        ConnectionTerminated,
        HandshakeCompleted,
        PingAcknowledged,
        QuicEvent,
    )
    from qh3.tls import CipherSuite, SessionTicket

from zesty_burrow.core.net import Endpoint
from zesty_burrow.core.packets.varint import write_varint
from zesty_burrow.protocols.connect_ip.http.link import (
    CAPSULES,
    UPGRADE,
    Alive,
    Answered,
    Asked,
    Content,
    Gone,
    LinkEvent,
    Payload,
    Request,
    Secured,
)
from zesty_burrow.protocols.connect_ip.wire.capsules import MAX_PACKET, write_packet

H3 = "h3"
VERSION = "HTTP/3"
KEY_EXCHANGE, KEY_EXCHANGES = "x25519", "x25519 or X25519MLKEM768"
"""The weaker of those that the library offers keys for; and both."""
DATAGRAM_ROOM = 45
"""Octets in front of and behind a packet: short header, frame type and length, stream and context, tag."""
CONNECTION_ID = 8
FULL = 128 << 10
"""Octets that wait for congestion control at most before nothing more is taken."""
PEER_TIMEOUT = 30.0
NO_ERROR, DATAGRAM_ERROR = 0x100, 0x33
"""RFC 9114 §8.1, RFC 9297 §5.2."""
CONNECT_PROTOCOL = 0x08
"""SETTINGS_ENABLE_CONNECT_PROTOCOL (RFC 9220 §5)."""
_NOBODY: Endpoint = ("", 0)


@dataclass(frozen=True, slots=True)
class Ticket:
    """An earlier session, with the certificates that were shown at its beginning."""

    session: SessionTicket
    chain: tuple[x509.Certificate, ...]


def quic_configuration(
    payload: int,
    key: bytes = b"",
    certificates: bytes = b"",
    *,
    is_client: bool,
    cipher_suites: Sequence[str] = (),
    server_name: str = "",
) -> QuicConfiguration:
    """``payload``: octets of UDP that the path takes; ``key``, ``certificates``: PEM, this side's own first.

    ``cipher_suites``: IANA's names, in order of preference.
    """
    made = QuicConfiguration(
        alpn_protocols=[H3],
        connection_id_length=CONNECTION_ID,
        is_client=is_client,
        idle_timeout=PEER_TIMEOUT,
        max_datagram_size=payload,
        max_datagram_frame_size=MAX_PACKET,
        server_name=server_name or None,
        verify_hostname=False,
    )
    # Certificates are this program's to judge; ssl.CERT_NONE.
    made.verify_mode = 0
    known = {name.replace("TLS_", ""): number for name, number in CipherSuite.__members__.items()}
    wanted = [known[name.replace("TLS_", "")] for name in cipher_suites if name.replace("TLS_", "") in known]
    made.cipher_suites = wanted or None
    if key:
        made.load_cert_chain(certificates, key)
    return made


class _H3(H3Connection):
    """``knows_connect``: whether extended CONNECT is announced (RFC 9220 §3)."""

    def __init__(self, quic: QuicConnection, *, knows_connect: bool) -> None:
        self._knows_connect = knows_connect
        super().__init__(quic)

    def _get_local_settings(self) -> dict[int, int]:
        made = {**super()._get_local_settings(), CONNECT_PROTOCOL: int(self._knows_connect)}
        if self._quic.configuration.max_datagram_frame_size is None:
            # RFC 9297 §2.1.1: not without the transport parameter.
            del made[Setting.H3_DATAGRAM]
        return made


class QuicLink:
    """See :class:`HttpLink`. ``peer``: where the other side is at present.

    Once the peer has ended the connection, the library reports it after a few round trips (RFC 9000 §10.2.2);
    what is sent until then is dropped.
    """

    room = MAX_PACKET

    def __init__(self, quic: QuicConnection, payload: int, *, is_client: bool, knows_connect: bool = True) -> None:
        self.quic, self.peer = quic, _NOBODY
        self._payload, self._is_client, self._knows_connect = payload, is_client, knows_connect
        self._h3: H3Connection | None = None
        self._request: Request | None = None
        self._stream: int | None = None
        self._handed = 0
        self._pings = 0
        self._broken = ""
        self._known_chain: tuple[x509.Certificate, ...] = ()
        self._tickets: list[SessionTicket] = []
        self._identifiers: list[bytes] = []

    @classmethod
    def client(cls, configuration: QuicConfiguration, peer: Endpoint, earlier: Ticket | None = None) -> QuicLink:
        """``earlier``: a session to go on with; nothing is sent before its handshake is complete (RFC 8446 §8)."""
        own = replace(configuration, session_ticket=earlier.session) if earlier else configuration
        tickets: list[SessionTicket] = []
        made = cls(
            QuicConnection(configuration=own, session_ticket_handler=tickets.append),
            configuration.max_datagram_size,
            is_client=True,
        )
        made.peer, made._tickets = peer, tickets
        made._known_chain = earlier.chain if earlier else ()
        return made

    @property
    def waiting(self) -> int:
        """Octets that congestion control holds back, if so many that nothing should be added."""
        return self._handed if self._handed > FULL else 0

    @property
    def ticket(self) -> Ticket | None:
        """To go on with this session later."""
        return Ticket(self._tickets[-1], self._known_chain) if self._tickets else None

    def start(self, now: float) -> None:
        self.quic.connect(self.peer, now)

    def receive(self, data: bytes, now: float, source: Endpoint | None = None) -> list[LinkEvent]:
        with self._breaking():
            self.quic.receive_datagram(data, source or self.peer, now)
        return self._events()

    def receive_burst(self, octets: bytes, size: int, now: float, source: Endpoint | None = None) -> list[LinkEvent]:
        """Take many datagrams of ``size`` octets, of which the last may be shorter."""
        with self._breaking():
            self.quic.receive_gro_buffer(octets, size, source or self.peer, now)
        return self._events()

    @contextmanager
    def _breaking(self) -> Iterator[None]:
        """An error of the library ends the connection: the next events report it."""
        try:
            yield
        except QuicConnectionError as problem:
            self._broken = self._broken or str(problem)

    def take_identifiers(self) -> list[bytes]:
        """Connection IDs that this side has given out since the last time."""
        taken, self._identifiers = self._identifiers, []
        return taken

    def migrate(self, now: float) -> bool:
        """Go on from another address (RFC 9000 §9): by another connection ID, and with a question."""
        if self._h3 is None:
            return False
        with suppress(QuicConnectionError):
            self.quic.change_connection_id()
        return self.ping()

    def _events(self) -> list[LinkEvent]:
        events: list[LinkEvent] = []
        while (event := self.quic.next_event()) is not None:
            events += self._on_quic(event)
        if self._broken:
            return [*events, Gone(self._broken)]
        if self._request is not None:
            events += self._ask()
        return events

    def _on_quic(self, event: QuicEvent) -> list[LinkEvent]:
        if isinstance(event, HandshakeCompleted):
            self._h3 = _H3(self.quic, knows_connect=self._knows_connect and not self._is_client)
            return [self._secured()]
        if isinstance(event, ConnectionTerminated):
            words = event.reason_phrase.strip() or f"code {event.error_code:#x}"
            orderly = event.error_code in (0, NO_ERROR)
            return [Gone(f"the peer ended the connection: {words}", by_peer=orderly)]
        if isinstance(event, PingAcknowledged):
            return [Alive()]
        if isinstance(event, ConnectionIdIssued):
            self._identifiers.append(event.connection_id)
        if self._h3 is None:
            return []
        events: list[LinkEvent] = []
        for one in self._h3.handle_event(event):
            events += self._on_http(one)
        return events

    def _secured(self) -> Secured:
        shown = [self.quic.get_peercert(), *self.quic.get_issuercerts()]
        loaded = [x509.load_der_x509_certificate(one.public_bytes()) for one in shown if one is not None]
        chain = tuple(one for position, one in enumerate(loaded) if one not in loaded[:position])
        self._known_chain = chain or self._known_chain
        cipher = self.quic.get_cipher()
        name = f"TLS_{CipherSuite(cipher).name.replace('TLS_', '')}" if cipher is not None else ""
        return Secured(self._known_chain, name, KEY_EXCHANGE, VERSION, KEY_EXCHANGES)

    def _on_http(self, event: H3Event) -> list[LinkEvent]:
        if isinstance(event, DatagramReceived):
            return [Payload(event.data)] if self._stream == 4 * event.flow_id else []
        if isinstance(event, HeadersReceived) and self._is_client:
            headers = {name.decode("latin-1"): value.decode("latin-1") for name, value in event.headers}
            status = headers.pop(":status", "")
            events: list[LinkEvent] = [Answered(int(status) if status.isdigit() else 0, headers)]
            return [*events, *(self._ended() if event.stream_ended else [])]
        if isinstance(event, HeadersReceived):
            return self._on_request(event)
        if isinstance(event, DataReceived) and event.stream_id == self._stream:
            return [*([Content(event.data)] if event.data else []), *(self._ended() if event.stream_ended else [])]
        if isinstance(event, StreamReset) and event.stream_id == self._stream:
            return [Gone(f"the peer ended the request with code {event.error_code:#x}")]
        return []

    def _ended(self) -> list[LinkEvent]:
        return [Gone("the peer ended the request", by_peer=True)]

    def _on_request(self, event: HeadersReceived) -> list[LinkEvent]:
        if self._stream is not None and self._h3 is not None:
            with suppress(QuicConnectionError):
                self._h3.send_headers(event.stream_id, [(b":status", b"429")], end_stream=True)
            return []
        self._stream = event.stream_id
        headers = {name.decode("latin-1"): value.decode("latin-1") for name, value in event.headers}
        asked = Request(headers.pop(":authority", ""), headers.pop(":path", ""), headers)
        return [Asked(asked, headers.pop(":protocol", ""), headers.pop(":method", ""))]

    def inquire(self) -> None:
        """The settings come by themselves."""

    @property
    def takes_tunnels(self) -> bool | None:
        """What the server's settings say (RFC 9220 §3)."""
        settings = self._h3.received_settings if self._h3 is not None else None
        return settings.get(CONNECT_PROTOCOL) == 1 if settings is not None else None

    def request(self, request: Request) -> None:
        """Ask for the tunnel, once the other side's settings are known."""
        self._request = request

    def _ask(self) -> list[LinkEvent]:
        h3, asked = self._h3, self._request
        if h3 is None or asked is None or h3.received_settings is None:
            return []
        if h3.received_settings.get(CONNECT_PROTOCOL) != 1:
            return [Gone("its HTTP/3 has no extended CONNECT")]
        self._request = None
        pseudo = {":method": "CONNECT", ":protocol": UPGRADE, ":scheme": "https", ":authority": asked.authority}
        rows = [*pseudo.items(), (":path", asked.path), CAPSULES, *asked.headers.items()]
        with suppress(QuicConnectionError):
            self._stream = self.quic.get_next_available_stream_id()
            h3.send_headers(self._stream, [(name.encode(), value.encode()) for name, value in rows])
        return []

    def answer(self, status: int, headers: Mapping[str, str]) -> None:
        is_tunnel = 200 <= status < 300
        rows = [(":status", str(status)), *([CAPSULES] if is_tunnel else []), *headers.items()]
        if self._h3 is not None and self._stream is not None:
            encoded = [(name.encode(), value.encode()) for name, value in rows]
            with suppress(QuicConnectionError):
                self._h3.send_headers(self._stream, encoded, end_stream=not is_tunnel)
            if not is_tunnel:
                self._stream = None

    def content(self, data: bytes) -> None:
        if self._h3 is not None and self._stream is not None:
            with suppress(QuicConnectionError):
                self._h3.send_data(self._stream, data, end_stream=False)
                self._handed += len(data)

    @property
    def _takes_datagrams(self) -> bool:
        settings = self._h3.received_settings if self._h3 is not None else None
        return settings is not None and settings.get(int(Setting.H3_DATAGRAM)) == 1

    def packets(self, packets: Sequence[bytes]) -> None:
        """Each in a DATAGRAM frame; in a capsule if it does not fit or the peer takes no such frames."""
        if self._stream is None:
            return
        begin = write_varint(self._stream // 4) + b"\0"
        most = self._payload - DATAGRAM_ROOM if self._takes_datagrams else 0
        with suppress(QuicConnectionError):
            for packet in packets:
                if len(packet) <= most:
                    self.quic.send_datagram_frame(begin + packet)
                    self._handed += len(packet)
                else:
                    self.content(write_packet(packet))

    def ping(self) -> bool:
        """RFC 9000 §10.1.2."""
        self._pings += 1
        try:
            self.quic.send_ping(self._pings)
        except QuicConnectionError:
            return False
        return True

    def close(self) -> None:
        """End the request and the connection."""
        with suppress(QuicConnectionError):
            if self._h3 is not None and self._stream is not None:
                self._h3.send_data(self._stream, b"", end_stream=True)
            self.quic.close(error_code=NO_ERROR)
        self._stream = None

    def out(self, now: float) -> list[tuple[bytes, Endpoint | None]]:
        """Datagrams to send now, and where to."""
        made: list[tuple[bytes, tuple[str, int]]] = []
        with self._breaking():
            # An error here is reported by ``handle_timer``, which is due at once.
            made = self.quic.datagrams_to_send(now) if not self._broken else []
        sent = sum(len(data) for data, _ in made)
        # What is held back is not told by the library: an estimate, which a quiet moment puts right.
        self._handed = max(self._handed - sent, 0) if sent else self._handed
        return [(data, (str(to[0]), int(to[1]))) for data, to in made]

    def next_timer(self) -> float | None:
        """When to call ``handle_timer``."""
        return 0.0 if self._broken else self.quic.get_timer()

    def handle_timer(self, now: float) -> list[LinkEvent]:
        due = self.quic.get_timer()
        with self._breaking():
            if due is not None and now >= due:
                self.quic.handle_timer(now)
        return self._events()
