"""HTTP/2 (RFC 9113) with extended CONNECT (RFC 8441): capsules in DATA frames of one stream."""

from __future__ import annotations

from collections.abc import Mapping

from h2.config import H2Configuration
from h2.connection import H2Connection
from h2.errors import ErrorCodes
from h2.events import (
    ConnectionTerminated,
    DataReceived,
    Event,
    PingAckReceived,
    RemoteSettingsChanged,
    RequestReceived,
    ResponseReceived,
    StreamEnded,
    StreamReset,
)
from h2.exceptions import H2Error
from h2.settings import SettingCodes, Settings
from hyperframe.frame import DataFrame

from zesty_burrow.errors import Malformed
from zesty_burrow.protocols.connect_ip.http.link import (
    CAPSULES,
    UPGRADE,
    Alive,
    Answered,
    Asked,
    Content,
    Gone,
    LinkEvent,
    Request,
)

# For a log that nobody reads the library writes every frame's octets out in hexadecimal digits.
DataFrame._body_repr = lambda self: ""  # type: ignore[method-assign]
WINDOW = 16 << 20
"""Octets on the way: what 1 Gbit/s and 130 ms hold."""
FRAME = 1 << 20
PING = b"are here"
STREAM = 1


class Http2:
    """What both ends have. ``waiting``: octets that flow control holds back."""

    def __init__(self, more: Mapping[SettingCodes, int], *, is_client: bool) -> None:
        config = H2Configuration(client_side=is_client, header_encoding="latin-1", validate_inbound_headers=True)
        self._h2 = H2Connection(config)
        initial = {SettingCodes.INITIAL_WINDOW_SIZE: WINDOW, SettingCodes.MAX_FRAME_SIZE: FRAME, **more}
        self._h2.local_settings = Settings(client=is_client, initial_values=initial)
        self._h2.max_inbound_frame_size = FRAME
        self._going = bytearray()
        self._stream = 0

    @property
    def waiting(self) -> int:
        """Octets that flow control holds back."""
        return len(self._going)

    @property
    def takes_tunnels(self) -> bool | None:
        """Only a server says so."""
        return None

    def begin(self) -> None:
        self._h2.initiate_connection()
        self._h2.increment_flow_control_window(WINDOW)

    def request(self, request: Request) -> None:
        """Ask for the tunnel: a client alone does."""

    def answer(self, status: int, headers: Mapping[str, str]) -> None:
        """Answer the request: a server alone does."""

    def content(self, data: bytes) -> None:
        """Send capsules, as far as the other side takes them."""
        if self._going:
            self._going += data
        elif len(data) > (sent := self._send(data)):
            self._going += memoryview(data)[sent:]

    def _send(self, data: bytes) -> int:
        """How many octets flow control has let through, or the stream's end has made nobody's."""
        done = 0
        while done < len(data) and self._stream:
            try:
                window = self._h2.local_flow_control_window(self._stream)
                size = min(window, self._h2.max_outbound_frame_size, len(data) - done)
                if size <= 0:
                    return done
                self._h2.send_data(self._stream, data if size == len(data) else data[done : done + size])
            except H2Error:
                return len(data)
            done += size
        return done if self._stream else len(data)

    def ping(self) -> bool:
        """RFC 9113 §6.7."""
        self._h2.ping(PING)
        return True

    def close(self) -> None:
        """End the stream and the connection."""
        try:
            if self._stream:
                self._h2.end_stream(self._stream)
            self._h2.close_connection()
        except H2Error:
            # It is over already.
            self._stream = 0

    def out(self) -> bytes:
        """What is to be sent."""
        return self._h2.data_to_send()

    def feed(self, data: bytes) -> list[LinkEvent]:
        """Take what has come. Raises ``Malformed``."""
        try:
            events = self._h2.receive_data(data)
            found: list[LinkEvent] = []
            for event in events:
                if isinstance(event, DataReceived):
                    self._h2.acknowledge_received_data(event.flow_controlled_length, event.stream_id)
                    if event.stream_id == self._stream:
                        found.append(Content(event.data))
                else:
                    found += self._on(event)
            if self._going:
                del self._going[: self._send(bytes(self._going))]
        except H2Error as problem:
            why = str(problem) or type(problem).__name__
            raise Malformed("HTTP/2 of the other side is malformed", why=why) from None
        return found

    def _on(self, event: Event) -> list[LinkEvent]:
        if isinstance(event, PingAckReceived):
            return [Alive()]
        if isinstance(event, StreamEnded | StreamReset) and event.stream_id == self._stream:
            self._stream = 0
            code = f" with code {_code(event.error_code)}" if isinstance(event, StreamReset) else ""
            return [Gone(f"the peer ended the request{code}", by_peer=not code)]
        if isinstance(event, ConnectionTerminated):
            return [Gone(f"the peer ended the connection with code {_code(event.error_code)}", by_peer=True)]
        return []


def _code(code: int | None) -> str:
    try:
        return ErrorCodes(code or 0).name
    except ValueError:
        return str(code)


class Http2Client(Http2):
    """Waits until the other side says that it knows extended CONNECT, then asks."""

    def __init__(self) -> None:
        super().__init__({SettingCodes.ENABLE_PUSH: 0}, is_client=True)
        self._request: Request | None = None
        self._greeted = False

    def request(self, request: Request) -> None:
        """RFC 9484 §4.4."""
        self._request = request
        self._ask()

    @property
    def takes_tunnels(self) -> bool | None:
        """What the server's settings say (RFC 8441 §3)."""
        return self._h2.remote_settings.enable_connect_protocol == 1 if self._greeted else None

    def _ask(self) -> list[LinkEvent]:
        if self._request is None or not self._greeted or self._stream:
            return []
        if self._h2.remote_settings.enable_connect_protocol != 1:
            # RFC 8441 §3.
            return [Gone("its HTTP/2 has no extended CONNECT")]
        asked, self._request, self._stream = self._request, None, STREAM
        pseudo = [(":method", "CONNECT"), (":protocol", UPGRADE), (":scheme", "https"), (":authority", asked.authority)]
        self._h2.send_headers(STREAM, [*pseudo, (":path", asked.path), CAPSULES, *asked.headers.items()])
        return []

    def _on(self, event: Event) -> list[LinkEvent]:
        if isinstance(event, RemoteSettingsChanged):
            self._greeted = True
            return self._ask()
        if isinstance(event, ResponseReceived):
            headers = {str(name): str(value) for name, value in event.headers or []}
            status = headers.pop(":status", "")
            return [Answered(int(status) if status.isdigit() else 0, headers)]
        return super()._on(event)


class Http2Server(Http2):
    """One request of a connection becomes the tunnel; others are answered with an error by who asks for ``answer``."""

    def __init__(self, *, knows_connect: bool = True) -> None:
        super().__init__({SettingCodes.ENABLE_CONNECT_PROTOCOL: int(knows_connect)}, is_client=False)

    def answer(self, status: int, headers: Mapping[str, str]) -> None:
        """2xx makes the stream the tunnel."""
        is_tunnel = 200 <= status < 300
        rows = [(":status", str(status)), *([CAPSULES] if is_tunnel else []), *headers.items()]
        self._h2.send_headers(self._stream, rows, end_stream=not is_tunnel)
        if not is_tunnel:
            self._stream = 0

    def _on(self, event: Event) -> list[LinkEvent]:
        if isinstance(event, RequestReceived):
            if self._stream:
                self._h2.reset_stream(event.stream_id, ErrorCodes.REFUSED_STREAM)
                return []
            self._stream = event.stream_id
            headers = {str(name): str(value) for name, value in event.headers or []}
            asked = Request(headers.pop(":authority", ""), headers.pop(":path", ""), headers)
            return [Asked(asked, headers.pop(":protocol", ""), headers.pop(":method", ""))]
        return super()._on(event)
