"""HTTP/2 or HTTP/1.1 in TLS 1.3 over a byte stream: what ALPN (RFC 7301) says decides which."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

from OpenSSL import SSL

from zesty_burrow.core.crypto.tls_engine import TlsEngine
from zesty_burrow.core.net import Endpoint
from zesty_burrow.errors import Malformed
from zesty_burrow.protocols.connect_ip.http.http1 import Http1, Http1Client, Http1Server
from zesty_burrow.protocols.connect_ip.http.http2 import Http2, Http2Client, Http2Server
from zesty_burrow.protocols.connect_ip.http.link import Gone, LinkEvent, Request, Secured
from zesty_burrow.protocols.connect_ip.wire.capsules import MAX_PACKET, write_packet

H2, HTTP1 = "h2", "http/1.1"
"""ALPN names (RFC 9113 §3.1, RFC 7301 §6)."""
WHOLE = 1 << 20
"""Octets that are taken from TLS at a time."""
VERSIONS = {H2: "HTTP/2", HTTP1: "HTTP/1.1"}


class TlsLink:
    """See :class:`HttpLink`. ``make``: the end of HTTP for an ALPN name; empty where none was agreed on."""

    room = MAX_PACKET

    def __init__(self, engine: TlsEngine, make: Callable[[str], Http1 | Http2], *, is_client: bool) -> None:
        self.tls, self._is_client = engine, is_client
        self._make = make
        self._http: Http1 | Http2 | None = None

    @classmethod
    def client(cls, context: SSL.Context, server_name: str, earlier: object = None) -> TlsLink:
        """``earlier``: a session to go on with."""
        session = earlier if isinstance(earlier, SSL.Session) else None
        engine = TlsEngine(context, is_client=True, server_name=server_name, session=session)
        # A server without ALPN speaks HTTP/1.1 (RFC 9113 §3.2: HTTP/2 has to be agreed on).
        return cls(engine, lambda name: Http2Client() if name == H2 else Http1Client(), is_client=True)

    @classmethod
    def server(cls, context: SSL.Context, *, knows_connect: bool = True) -> TlsLink:
        """``knows_connect``: whether its HTTP/2 has extended CONNECT."""
        engine = TlsEngine(context, is_client=False)

        def make(name: str) -> Http1 | Http2:
            return Http2Server(knows_connect=knows_connect) if name == H2 else Http1Server()

        return cls(engine, make, is_client=False)

    @property
    def waiting(self) -> int:
        """Octets that the other side's flow control holds back."""
        return self._http.waiting if self._http is not None else 0

    def start(self, now: float) -> None:
        self.tls.feed(b"")

    @property
    def ticket(self) -> SSL.Session | None:
        """To go on with the session by another connection."""
        return self.tls.session

    def migrate(self, now: float) -> bool:
        """A TCP connection has its addresses for good."""
        return False

    def receive(self, data: bytes, now: float, source: Endpoint | None = None) -> list[LinkEvent]:
        """Take what has come; empty data is the end of the stream."""
        if not data:
            return [Gone("the connection was closed")]
        events: list[LinkEvent] = []
        try:
            was_established = self.tls.established
            self.tls.feed(data)
            if not self.tls.established:
                return []
            if not was_established:
                self._http = self._make(self.tls.protocol)
                version = VERSIONS.get(self.tls.protocol, VERSIONS[HTTP1])
                if not self._is_client:
                    self._http.begin()
                events.append(Secured(tuple(self.tls.chain), self.tls.cipher_suite, self.tls.group, version))
            while self._http is not None and (plain := self.tls.receive(WHOLE)):
                events += self._http.feed(plain)
                if len(plain) < WHOLE:
                    # Nothing more has come.
                    break
        except Malformed as problem:
            return [*events, Gone(f"{problem.what}: {problem.why}", disagrees=self.tls.disagrees)]
        if self.tls.closed:
            events.append(Gone("the peer closed the connection", by_peer=True))
        return events

    def inquire(self) -> None:
        """Ask for nothing but the settings."""
        if self._http is not None:
            self._http.begin()

    @property
    def takes_tunnels(self) -> bool | None:
        return self._http.takes_tunnels if self._http is not None else None

    def request(self, request: Request) -> None:
        if self._http is not None:
            self._http.begin()
            self._http.request(request)

    def answer(self, status: int, headers: Mapping[str, str]) -> None:
        if self._http is not None:
            self._http.answer(status, headers)

    def content(self, data: bytes) -> None:
        if self._http is not None:
            self._http.content(data)

    def packets(self, packets: Sequence[bytes]) -> None:
        self.content(b"".join(map(write_packet, packets)))

    def ping(self) -> bool:
        """Whether an answer will come."""
        return self._http is not None and self._http.ping()

    def close(self) -> None:
        """End the request, and TLS."""
        if self._http is not None:
            self._http.close()
            self.tls.send(self._http.out())
            self.tls.close()
            self._http = None

    def out(self, now: float) -> list[tuple[bytes, Endpoint | None]]:
        """What is to be sent now."""
        if self._http is not None:
            self.tls.send(self._http.out())
        data = self.tls.out()
        return [(data, None)] if data else []

    def next_timer(self) -> float | None:
        """A byte stream has no timers of its own."""
        return None

    def handle_timer(self, now: float) -> list[LinkEvent]:
        return []
