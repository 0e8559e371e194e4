"""ICMP echo requests that carry a token (RFC 792, RFC 4443 §4.1)."""

from __future__ import annotations

TOKEN_OCTETS = 12
ECHO_REQUEST, ECHO_REPLY = {4: 8, 6: 128}, {4: 0, 6: 129}
INBOUND_MARK = b"observatory-inbound "
"""Before the caller's word, where the observatory connects back."""
MARK = b"observe "
"""Before the token, so that other echo requests are not remembered."""


def echo_request(version: int, token: bytes, identifier: int = 0) -> bytes:
    """The ICMP message, with the token as text; an ICMPv6 checksum is the kernel's task (RFC 3542 §3.1)."""
    body = MARK + token.hex().encode()
    head = bytes([ECHO_REQUEST[version], 0, 0, 0]) + identifier.to_bytes(2) + b"\0\1"
    if version == 6:
        return head + body
    return head[:2] + _checksum(head + body).to_bytes(2) + head[4:] + body


def _checksum(data: bytes) -> int:
    """RFC 1071; ``data`` has an even number of octets."""
    total = sum(int.from_bytes(data[at : at + 2]) for at in range(0, len(data), 2))
    while total >> 16:
        total = (total & 0xFFFF) + (total >> 16)
    return ~total & 0xFFFF


def read_echo_request_untrusted(data: bytes, version: int) -> str:
    """The token in a stranger's echo request, as a raw socket gives it; empty for anything else."""
    if version == 4:
        # A raw socket of IPv4 gives the header too (RFC 791 §3.1).
        size = 4 * (data[0] & 0x0F) if data else 0
        data = data[size:] if size >= 20 else b""
    text = data[8:]
    wanted = len(MARK) + 2 * TOKEN_OCTETS
    if len(text) != wanted or data[0] != ECHO_REQUEST[version] or not text.startswith(MARK):
        return ""
    token = text[len(MARK) :].decode("ascii", "replace")
    return token if all(letter in "0123456789abcdef" for letter in token) else ""


def is_reply(data: bytes, version: int, token: bytes) -> bool:
    """Whether an ICMP message, without an IP header, answers the request with this token."""
    return len(data) > 8 and data[0] == ECHO_REPLY[version] and data[8:] == MARK + token.hex().encode()
