"""HTTP/1.1 (RFC 9112): the connection is upgraded and then carries capsules alone (RFC 9484 §4.2, §4.3)."""

from __future__ import annotations

from collections.abc import Mapping

import h11

from zesty_burrow.errors import Malformed
from zesty_burrow.protocols.connect_ip.http.link import (
    CAPSULES,
    UPGRADE,
    Answered,
    Asked,
    Content,
    Gone,
    LinkEvent,
    Request,
)

SWITCHING = 101
MAX_HEAD = 32 << 10


class Http1:
    """What both ends have: parsing until the connection is upgraded, and octets as they are from then on."""

    waiting = 0
    takes_tunnels = True
    """Nothing tells beforehand: an answer does (RFC 9110 §7.8)."""

    def __init__(self, role: type[h11.CLIENT] | type[h11.SERVER]) -> None:
        self._h11 = h11.Connection(role, max_incomplete_event_size=MAX_HEAD)
        self._out = bytearray()
        self._is_open = False

    def begin(self) -> None:
        """Nothing: the request comes first."""

    def request(self, request: Request) -> None:
        """Ask for the tunnel: a client alone does."""

    def answer(self, status: int, headers: Mapping[str, str]) -> None:
        """Answer the request: a server alone does."""

    def content(self, data: bytes) -> None:
        if self._is_open:
            self._out += data

    def ping(self) -> bool:
        """HTTP/1.1 has no question that is answered."""
        return False

    def close(self) -> None:
        """The end of the connection is the end of the request."""
        self._is_open = False

    def out(self) -> bytes:
        """What is to be sent."""
        data = bytes(self._out)
        self._out.clear()
        return data

    def feed(self, data: bytes) -> list[LinkEvent]:
        """Take what has come. Raises ``Malformed``."""
        if self._is_open:
            return [Content(data)] if data else []
        try:
            self._h11.receive_data(data)
            return self._read()
        except h11.RemoteProtocolError as problem:
            raise Malformed("HTTP/1.1 of the other side is malformed", why=str(problem)) from None

    def _read(self) -> list[LinkEvent]:
        raise NotImplementedError

    def _rest(self) -> list[LinkEvent]:
        """What has come behind the upgrade."""
        self._is_open = True
        rest, _ = self._h11.trailing_data
        return [Content(rest)] if rest else []


class Http1Client(Http1):
    def __init__(self) -> None:
        super().__init__(h11.CLIENT)
        self._asked = False

    def request(self, request: Request) -> None:
        """RFC 9484 §4.2."""
        headers = [("host", request.authority), ("connection", "Upgrade"), ("upgrade", UPGRADE), CAPSULES]
        asked = h11.Request(method="GET", target=request.path, headers=[*headers, *request.headers.items()])
        self._out += self._h11.send(asked) or b""
        self._out += self._h11.send(h11.EndOfMessage()) or b""
        self._asked = True

    def _read(self) -> list[LinkEvent]:
        while self._asked:
            event = self._h11.next_event()
            if isinstance(event, h11.InformationalResponse | h11.Response):
                headers = {name.decode("latin-1"): value.decode("latin-1") for name, value in event.headers}
                if event.status_code == SWITCHING:
                    if headers.get("upgrade", "").lower() != UPGRADE:
                        return [Gone("it switches to another protocol than the one that was asked for")]
                    return [Answered(SWITCHING, headers), *self._rest()]
                if isinstance(event, h11.Response):
                    # Without an upgrade no other status is a tunnel (RFC 9484 §4.3).
                    return [Answered(event.status_code if event.status_code >= 300 else 400, headers)]
            elif event is h11.NEED_DATA or event is h11.PAUSED or isinstance(event, h11.ConnectionClosed):
                break
        return []


class Http1Server(Http1):
    def __init__(self) -> None:
        super().__init__(h11.SERVER)

    def answer(self, status: int, headers: Mapping[str, str]) -> None:
        """101 upgrades; whatever else ends the connection."""
        if 200 <= status < 300:
            shown = [("connection", "Upgrade"), ("upgrade", UPGRADE), CAPSULES, *headers.items()]
            self._out += self._h11.send(h11.InformationalResponse(status_code=SWITCHING, headers=shown)) or b""
            self._is_open = True
            return
        shown = [("content-length", "0"), ("connection", "close"), *headers.items()]
        self._out += self._h11.send(h11.Response(status_code=status, headers=shown)) or b""
        self._out += self._h11.send(h11.EndOfMessage()) or b""

    def _read(self) -> list[LinkEvent]:
        events: list[LinkEvent] = []
        while True:
            event = self._h11.next_event()
            if isinstance(event, h11.Request):
                headers = {name.decode("latin-1"): value.decode("latin-1") for name, value in event.headers}
                wanted = headers.pop("upgrade", "").lower()
                asked = Request(headers.pop("host", ""), event.target.decode("latin-1"), headers)
                events.append(Asked(asked, wanted, "CONNECT" if event.method == b"GET" and wanted else "OTHER"))
            elif event is h11.PAUSED:
                # Behind the request, before it is answered: nobody may send anything yet (RFC 9484 §4.2).
                rest, _ = self._h11.trailing_data
                return [*events, *([Content(rest)] if rest else [])]
            elif event is h11.NEED_DATA or isinstance(event, h11.ConnectionClosed):
                return events
