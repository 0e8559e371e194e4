"""What a gateway says of resolvers: suffixes (RFC 8598) and encrypted resolvers (ENCDNS_IP4, ENCDNS_IP6, RFC 9464).

An ENCDNS attribute holds a service priority (16 bits), the number of addresses and the length of the name (an octet
each), the addresses, the name that the resolver's certificate must bear, and service parameters as in a SVCB record
(RFC 9460 §2.2, RFC 9461 §4 and §5). Certificate digests (ENCDNS_DIGEST_INFO) are not asked for.
"""

from __future__ import annotations

import ipaddress
from collections.abc import Mapping

from zesty_burrow.core.cursor import Cursor
from zesty_burrow.core.net import Address
from zesty_burrow.errors import Malformed
from zesty_burrow.records import dataclass

MANDATORY, ALPN, PORT, IPV4_HINT, IPV6_HINT, DOH_PATH = 0, 1, 3, 4, 6, 7
"""Service parameter keys (RFC 9460 §14.3.2; dohpath RFC 9461 §5)."""

TRANSPORTS: Mapping[str, tuple[str, int]] = {
    "dot": ("DNS over TLS", 853),
    "doq": ("DNS over QUIC", 853),
    "h2": ("DNS over HTTPS", 443),
    "h3": ("DNS over HTTP/3", 443),
}
"""Protocol identifiers (ALPN), what they are called, and their port where none is given (RFC 7858, 9250, 8484)."""


@dataclass(frozen=True, slots=True)
class EncryptedResolver:
    """One announcement: a lower ``priority`` comes first; ``port`` 0: each transport's own.

    ``name`` is what the resolver's certificate must be for; ``path`` is the URI template of DNS over HTTPS.
    """

    priority: int
    name: str
    addresses: tuple[Address, ...]
    transports: tuple[str, ...]
    port: int = 0
    path: str = ""

    def __str__(self) -> str:
        """For people: its name, each transport with its port, its addresses."""
        ways = " or ".join(
            f"{TRANSPORTS[transport][0]} (port {self.port or TRANSPORTS[transport][1]})"
            for transport in self.transports
        )
        return f"{self.name} by {ways} at {', '.join(map(str, self.addresses))}"

    def encode(self) -> bytes:
        """The attribute's value; its addresses are of one family."""
        name = self.name.encode("ascii")
        protocols = b"".join(bytes([len(transport)]) + transport.encode() for transport in self.transports)
        parameters = [(ALPN, protocols)]
        if self.port:
            parameters.append((PORT, self.port.to_bytes(2)))
        if self.path:
            parameters.append((DOH_PATH, self.path.encode()))
        return b"".join(
            (
                self.priority.to_bytes(2),
                bytes((len(self.addresses), len(name))),
                *(address.packed for address in self.addresses),
                name,
                *(key.to_bytes(2) + len(value).to_bytes(2) + value for key, value in parameters),
            )
        )


def read_encrypted_resolver(value: bytes, version: int) -> EncryptedResolver | None:
    """One attribute for addresses of IP ``version``; None where it may not be used.

    That is: malformed; priority 0 (an alias: RFC 9464 §3.1 has none); without name, address or a transport that is
    known; with address hints, or with a parameter that must be known and is not (RFC 9460 §8).
    """
    cursor = Cursor(value, "ENCDNS_IP4" if version == 4 else "ENCDNS_IP6")
    try:
        priority, count, length = cursor.u16(), cursor.u8(), cursor.u8()
        size = 4 if version == 4 else 16
        addresses = tuple(ipaddress.ip_address(cursor.take(size)) for _ in range(count))
        name = domain_name(cursor.take(length))
        parameters = _parameters(cursor)
        transports = tuple(protocol for protocol in _protocols(parameters.get(ALPN, b"")) if protocol in TRANSPORTS)
        port = Cursor(parameters[PORT], "port").u16() if PORT in parameters else 0
        path = parameters.get(DOH_PATH, b"").decode()
    except (Malformed, UnicodeDecodeError):
        return None
    must = parameters.get(MANDATORY, b"")
    needed = {int.from_bytes(must[at : at + 2]) for at in range(0, len(must), 2)}
    usable = tuple(
        address for address in addresses if not (address.is_multicast or address.is_unspecified or address.is_loopback)
    )
    barred = parameters.keys() & {IPV4_HINT, IPV6_HINT} or needed - {ALPN, PORT, DOH_PATH} or not path.isprintable()
    if not (priority and name and usable and transports) or barred:
        return None
    return EncryptedResolver(priority, name, usable, transports, port, path)


def _parameters(cursor: Cursor) -> dict[int, bytes]:
    """Service parameters; their keys rise strictly (RFC 9460 §2.2)."""
    found: dict[int, bytes] = {}
    last = -1
    while cursor.remaining:
        key = cursor.u16()
        if key <= last:
            raise cursor.fail("its service parameters are out of order")
        found[key], last = cursor.take(cursor.u16()), key
    return found


def _protocols(value: bytes) -> list[str]:
    """Protocol identifiers, each behind its length (RFC 9460 §7.1.1)."""
    cursor = Cursor(value, "alpn")
    found = []
    while cursor.remaining:
        found.append(cursor.take(cursor.u8()).decode("ascii", "replace"))
    return found


def domain_name(value: bytes) -> str:
    """A stranger's domain name, lower case, without the last dot; empty where it may not stand (blanks, line ends)."""
    text = value.decode("ascii", "replace").strip().rstrip(".").lower()
    labels = text.split(".")
    good = len(text) <= 253 and all(
        0 < len(label) <= 63 and all(letter.isascii() and (letter.isalnum() or letter in "-_") for letter in label)
        for label in labels
    )
    return text if good else ""
