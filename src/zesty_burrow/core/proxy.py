"""Proxies on the way to a gateway: HTTP CONNECT (RFC 9110 §9.3.6) and SOCKS version 5 (RFC 1928, RFC 1929), no I/O.

A client says what is to be sent first, takes what comes, and tells when the connection is the gateway's.
"""

from __future__ import annotations

import base64
import ipaddress
import re
from typing import Protocol

from zesty_burrow.core.credentials import ProxyPassword
from zesty_burrow.core.net import Endpoint
from zesty_burrow.errors import Malformed, ProxyFailed
from zesty_burrow.records import dataclass

MAX_HEAD = 16 << 10
_STATUS = re.compile(rb"HTTP/1\.[01] (\d{3})(?: ([^\r\n]*))?\r?\n")
VERSION, CONNECT, UDP_ASSOCIATE, IPV4, NAME, IPV6 = 5, 1, 3, 1, 3, 4
LONGEST_HEADER = 22
NO_SIGN_IN, BY_PASSWORD, NOTHING = 0x00, 0x02, 0xFF
REPLIES = {
    1: "it has failed",
    2: "its rules do not allow this connection",
    3: "the network cannot be reached",
    4: "the gateway cannot be reached",
    5: "the gateway refused the connection",
    6: "the packet's time to live ran out on the way",
    7: "it does not know this command",
    8: "it does not know this kind of address",
}
"""RFC 1928 §6."""


class ProxyClient(Protocol):
    """One connection through a proxy. ``is_open``: what comes and goes from here on is the gateway's."""

    is_open: bool

    def hello(self) -> bytes:
        """Octets to send when the connection opens."""

    def feed(self, data: bytes) -> tuple[bytes, bytes]:
        """What is to be answered, and what of the data is the gateway's already. Raises :class:`ProxyFailed`."""


@dataclass(frozen=True, slots=True)
class ProxyRoute:
    """To ``target`` by a proxy; ``kind``, ``where``: what a profile calls it; ``own``: what it wants to be told."""

    kind: str
    where: str
    proxy: Endpoint
    target: Endpoint
    own: ProxyPassword | None = None

    def client(self) -> ProxyClient:
        return (HttpProxy if self.kind == "http" else Socks5Proxy)(self.where, self.target, self.own)

    def association(self) -> Socks5Proxy:
        """For datagrams, by SOCKS 5 alone (RFC 1928 §7). From where they will come is not told: an address translator
        on the way would make it wrong.
        """
        unknown = ipaddress.IPv6Address(0) if ":" in self.proxy[0] else ipaddress.IPv4Address(0)
        return Socks5Proxy(self.where, (str(unknown), 0), self.own, UDP_ASSOCIATE)


class HttpProxy:
    """``own``: name and password, which HTTP's Basic sends as they are."""

    def __init__(self, where: str, target: Endpoint, own: ProxyPassword | None) -> None:
        self.is_open = False
        self._where, self._target, self._own = where, target, own
        self._kept = b""

    def hello(self) -> bytes:
        host, port = self._target
        authority = f"[{host}]:{port}" if ":" in host else f"{host}:{port}"
        lines = [f"CONNECT {authority} HTTP/1.1", f"Host: {authority}"]
        if self._own is not None:
            pair = self._own.name.encode() + b":" + self._own.password.octets()
            lines.append(f"Proxy-Authorization: Basic {base64.b64encode(pair).decode('ascii')}")
        return ("\r\n".join(lines) + "\r\n\r\n").encode()

    def feed(self, data: bytes) -> tuple[bytes, bytes]:
        """Any 2xx opens the connection; what follows its head is the gateway's."""
        self._kept += data
        head, end, rest = self._kept.partition(b"\r\n\r\n")
        if not end:
            if len(self._kept) > MAX_HEAD:
                raise ProxyFailed(f"the proxy {self._where} sends too much", why="there is no end of its answer's head")
            return b"", b""
        status = _STATUS.match(head + b"\r\n")
        if status is None:
            raise ProxyFailed(f"the proxy {self._where} does not speak HTTP", why="its answer has no status line")
        code = int(status.group(1))
        if code == 407:
            raise refused_sign_in(self._where, self._own)
        if not 200 <= code < 300:
            words = (status.group(2) or b"").decode("latin-1").strip()
            raise ProxyFailed(f"the proxy {self._where} opens no connection", why=f"HTTP status {code} {words}".strip())
        self.is_open, self._kept = True, b""
        return b"", rest


class Socks5Proxy:
    """``command``: CONNECT or UDP ASSOCIATE. ``bound``: the address and port that the proxy names in its answer."""

    def __init__(self, where: str, target: Endpoint, own: ProxyPassword | None, command: int = CONNECT) -> None:
        self.is_open = False
        self.bound: Endpoint = ("", 0)
        self._where, self._target, self._own, self._command = where, target, own, command
        self._kept = b""
        self._step = self._on_method

    def hello(self) -> bytes:
        """RFC 1928 §3: the ways to sign in that are known here."""
        ways = bytes([NO_SIGN_IN, BY_PASSWORD] if self._own is not None else [NO_SIGN_IN])
        return bytes([VERSION, len(ways)]) + ways

    def feed(self, data: bytes) -> tuple[bytes, bytes]:
        """Answer after answer, in whatever pieces they come."""
        self._kept += data
        said = b""
        while not self.is_open:
            before = len(self._kept)
            said += self._step()
            if len(self._kept) == before:
                return said, b""
        rest, self._kept = self._kept, b""
        return said, rest

    def _take(self, count: int) -> bytes:
        """So many octets, or none where not all have come."""
        if len(self._kept) < count:
            return b""
        taken, self._kept = self._kept[:count], self._kept[count:]
        return taken

    def _on_method(self) -> bytes:
        answer = self._take(2)
        if not answer:
            return b""
        self._check_version(answer[0], VERSION)
        if answer[1] == BY_PASSWORD and self._own is not None:
            self._step = self._on_sign_in
            # RFC 1929 §2: each of both has at most 255 octets.
            name, password = self._own.name.encode()[:255], self._own.password.octets()[:255]
            return bytes([1, len(name)]) + name + bytes([len(password)]) + password
        if answer[1] != NO_SIGN_IN:
            raise refused_sign_in(self._where, self._own)
        self._step = self._on_reply
        return self._request()

    def _on_sign_in(self) -> bytes:
        answer = self._take(2)
        if not answer:
            return b""
        self._check_version(answer[0], 1)
        if answer[1]:
            raise refused_sign_in(self._where, self._own)
        self._step = self._on_reply
        return self._request()

    def _request(self) -> bytes:
        host, port = self._target
        return bytes([VERSION, self._command, 0]) + write_address(host, port)

    def _on_reply(self) -> bytes:
        size = _address_size(self._kept, 3)
        if not size or len(self._kept) < 3 + size:
            return b""
        answer = self._take(3 + size)
        self._check_version(answer[0], VERSION)
        if answer[1]:
            why = REPLIES.get(answer[1], f"its answer is number {answer[1]}")
            wanted = "opens no connection" if self._command == CONNECT else "passes no datagrams on"
            raise ProxyFailed(f"the proxy {self._where} {wanted}", why=why)
        self.bound = read_address(answer, 3)[0]
        self.is_open = True
        return b""

    def _check_version(self, told: int, wanted: int) -> None:
        if told != wanted:
            raise ProxyFailed(f"the proxy {self._where} does not speak SOCKS 5", why=f"its answer begins with {told}")


def write_address(host: str, port: int) -> bytes:
    """Kind, address and port (RFC 1928 §5)."""
    address = ipaddress.ip_address(host)
    return bytes([IPV4 if address.version == 4 else IPV6]) + address.packed + port.to_bytes(2)


def _address_size(data: bytes, at: int) -> int:
    """Octets from the kind of an address to the end of its port; 0 where that is not known yet."""
    if len(data) <= at:
        return 0
    kind = data[at]
    if kind == NAME:
        return 1 + 1 + data[at + 1] + 2 if len(data) > at + 1 else 0
    size = {IPV4: 4, IPV6: 16}.get(kind)
    if size is None:
        raise ProxyFailed("the proxy's answer is malformed", why=f"there is no kind of address {kind}")
    return 1 + size + 2


def read_address(data: bytes, at: int) -> tuple[Endpoint, int]:
    """Address and port, and where they end. Raises ``Malformed`` where octets are missing."""
    size = _address_size(data, at)
    end = at + size
    if not size or end > len(data):
        raise Malformed("an address of a proxy is malformed", why="octets are missing")
    port = int.from_bytes(data[end - 2 : end])
    if data[at] == NAME:
        return (data[at + 2 : end - 2].decode("ascii", "replace"), port), end
    return (str(ipaddress.ip_address(data[at + 1 : end - 2])), port), end


def relay_of(proxy: Endpoint, where: str, bound: Endpoint) -> Endpoint:
    """Where datagrams go to (RFC 1928 §6): the port that the proxy names, at its own address.

    Raises :class:`ProxyFailed` where it names another address: nothing else may be reached beside the tunnel.
    """
    host, port = bound
    if not port:
        raise ProxyFailed(f"the proxy {where} passes no datagrams on", why="its answer names no port")
    try:
        named = ipaddress.ip_address(host)
    except ValueError:
        raise ProxyFailed(f"the proxy {where} passes no datagrams on", why="its answer names no address") from None
    if not named.is_unspecified and named != ipaddress.ip_address(proxy[0]):
        raise ProxyFailed(f"the proxy {where} passes no datagrams on", why=f"it wants them at {named}, not at its own")
    return proxy[0], port


def header_size(address: str) -> int:
    """Octets in front of a datagram to or from an address (RFC 1928 §7)."""
    return LONGEST_HEADER if ":" in address else 10


def not_reached(where: str) -> ProxyFailed:
    """The error for a proxy that has never opened anything."""
    why = "it refuses the connection, or ends it without an answer"
    return ProxyFailed(f"the proxy {where} cannot be used", why=why, next_step="Check the proxy's address and port.")


def silent(where: str) -> ProxyFailed:
    """The error for a proxy from which nothing came."""
    step = "Check the proxy's address and port, and that this network leads to it."
    return ProxyFailed(
        f"the proxy {where} does not answer", why="no connection by it came about in time", next_step=step
    )


def wrap_datagram(data: bytes, to: Endpoint) -> bytes:
    """What a proxy is to pass on (RFC 1928 §7), in one piece."""
    return bytes(3) + write_address(*to) + data


def unwrap_datagram(data: bytes) -> tuple[Endpoint, bytes] | None:
    """Who has sent a datagram that a proxy has passed on, and what.

    None for what is malformed, and for a piece of a longer one, which may be left aside (RFC 1928 §7).
    """
    if len(data) < 4 or data[2] or data[3] not in (IPV4, IPV6):
        return None
    try:
        source, end = read_address(data, 3)
    except Malformed:
        return None
    return source, data[end:]


def refused_sign_in(where: str, own: ProxyPassword | None) -> ProxyFailed:
    """The error for a proxy that does not let this side in."""
    why = "name and password are not accepted" if own is not None else "it wants a name and a password"
    step = "Enter them: zesty credentials change LABEL --kind proxy-name-password"
    return ProxyFailed(f"the proxy {where} refused the sign-in", why=why, next_step=step, slug="proxy-sign-in")
