"""ESP with AES-GCM (RFC 4303, RFC 4106) on cryptography alone: enough to see who seals with which key."""

from __future__ import annotations

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM


def seal(spi, key, sequence, packet):
    """Tunnel mode; ``key``: 32 octets and the salt of 4."""
    head = spi + sequence.to_bytes(4)
    iv = sequence.to_bytes(8)
    pad = -(len(packet) + 2) % 4
    plain = packet + bytes(range(1, pad + 1)) + bytes([pad, 4])
    return head + iv + AESGCM(key[:32]).encrypt(key[32:] + iv, plain, head)


def opens(key, data):
    """Whether a datagram was sealed with that key."""
    try:
        AESGCM(key[:32]).decrypt(key[32:] + data[8:16], data[16:], data[:8])
    except InvalidTag:
        return False
    return True
