"""MS-CHAP-V2: the arithmetic of RFC 2759 §8 and the session key of RFC 3079 §3."""

from __future__ import annotations

import hashlib
import hmac
from typing import NamedTuple

from zesty_burrow.core.eap.digests import des_encrypt, md4

_SERVER_TO_CLIENT = b"Magic server to client signing constant"
_PAD = b"Pad to make it do more than one iteration"
_THIS_IS_THE_MASTER_KEY = b"This is the MPPE Master Key"
_CLIENT_SENDS = b"On the client side, this is the send key; on the server side, it is the receive key."
_CLIENT_RECEIVES = b"On the client side, this is the receive key; on the server side, it is the send key."


def _sha1(*parts: bytes) -> bytes:
    return hashlib.sha1(b"".join(parts), usedforsecurity=False).digest()


def challenge_hash(peer_challenge: bytes, authenticator_challenge: bytes, name: bytes) -> bytes:
    """RFC 2759 §8.2: 8 octets; ``name`` without its domain (§4: "DOMAIN\\\\name")."""
    return _sha1(peer_challenge, authenticator_challenge, name.rpartition(b"\\")[2])[:8]


class Hashes(NamedTuple):
    """Of a password: what stands for it in every step."""

    once: bytes
    twice: bytes

    @classmethod
    def of(cls, password: str) -> Hashes:
        """RFC 2759 §8.3, §8.4: MD4 over the password as UTF-16, little-endian; and MD4 over that."""
        once = md4(password.encode("utf-16-le"))
        return cls(once, md4(once))

    def __repr__(self) -> str:
        return "Hashes(…)"


def nt_response(authenticator_challenge: bytes, peer_challenge: bytes, name: bytes, hashes: Hashes) -> bytes:
    """RFC 2759 §8.1 and §8.5: 24 octets."""
    challenge = challenge_hash(peer_challenge, authenticator_challenge, name)
    padded = hashes.once + bytes(5)
    return b"".join(des_encrypt(padded[at : at + 7], challenge) for at in (0, 7, 14))


def authenticator_response(
    hashes: Hashes, response: bytes, peer_challenge: bytes, authenticator_challenge: bytes, name: bytes
) -> str:
    """RFC 2759 §8.7: "S=" and 40 upper-case hexadecimal digits."""
    digest = _sha1(hashes.twice, response, _SERVER_TO_CLIENT)
    challenge = challenge_hash(peer_challenge, authenticator_challenge, name)
    return "S=" + _sha1(digest, challenge, _PAD).hex().upper()


def same_response(expected: str, received: str) -> bool:
    """Compare authenticator responses in constant time."""
    return hmac.compare_digest(expected.encode(), received.encode())


def session_key(hashes: Hashes, response: bytes) -> bytes:
    """The 64-octet MSK: the gateway's receive key, its send key (RFC 3079 §3.3, §3.4), 32 zero octets.

    RFC 2548 §2.4.2 and §2.4.3 name the keys from the gateway's side; RFC 3748 §7.10 asks for 64 octets.
    """
    master = _sha1(hashes.twice, response, _THIS_IS_THE_MASTER_KEY)[:16]
    pads = bytes(40), b"\xf2" * 40
    halves = [_sha1(master, pads[0], text, pads[1])[:16] for text in (_CLIENT_SENDS, _CLIENT_RECEIVES)]
    return halves[0] + halves[1] + bytes(32)
