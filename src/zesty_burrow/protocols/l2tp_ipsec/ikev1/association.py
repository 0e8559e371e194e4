"""An ISAKMP SA that is established: messages of phase 2 and notifications under its keys (RFC 2409 §5.5, §5.7)."""

from __future__ import annotations

import hmac
from collections.abc import Sequence

from zesty_burrow.errors import Malformed
from zesty_burrow.protocols.l2tp_ipsec.ikev1.keys import IkeKeys
from zesty_burrow.protocols.l2tp_ipsec.ikev1.message import (
    Exchange,
    Header,
    Kind,
    Payload,
    read_payloads,
    write_message,
    write_payloads,
)

KEPT_VECTORS = 64


class Association:
    """``is_initiator``: this side asked for it; ``last``: phase 1's last block; ``expires``: when it is renewed."""

    def __init__(
        self, keys: IkeKeys, cookies: tuple[bytes, bytes], last: bytes, *, is_initiator: bool, expires: float
    ) -> None:
        self.keys, self.cookies, self.is_initiator, self.expires = keys, cookies, is_initiator, expires
        self._last, self._cipher = last, keys.cipher()
        self._vectors: dict[int, bytes] = {}

    def seal(self, exchange: Exchange, message_id: int, payloads: Sequence[Payload]) -> bytes:
        """A message under the keys; its hash is among the payloads."""
        header = Header(self.cookies, exchange, message_id, encrypted=True)
        body = self._cipher.seal(self._vector(message_id), write_payloads(payloads))
        self._chain(message_id, body)
        return write_message(header, payloads[0].kind, body)

    def open(self, header: Header, first: int, sealed: bytes) -> tuple[list[Payload], bytes]:
        """The payloads, and their octets behind the first payload, which has to be a hash of them."""
        plaintext = self._cipher.open(self._vector(header.message_id), sealed)
        payloads, end = read_payloads(first, plaintext, padded=True)
        if not payloads or payloads[0].kind != Kind.HASH:
            raise Malformed("an ISAKMP message is malformed", why="it does not begin with a hash")
        return payloads, plaintext[4 + len(payloads[0].body) : end]

    def accept(self, header: Header, sealed: bytes) -> None:
        """The message was authentic: the exchange goes on from its last block."""
        self._chain(header.message_id, sealed)

    def _vector(self, message_id: int) -> bytes:
        return self._vectors.get(message_id) or self.keys.vector_of(self._last, message_id)

    def _chain(self, message_id: int, sealed: bytes) -> None:
        if len(self._vectors) >= KEPT_VECTORS:
            del self._vectors[next(iter(self._vectors))]
        self._vectors[message_id] = sealed[-self._cipher.block :]

    def forget(self, message_id: int) -> None:
        self._vectors.pop(message_id, None)

    def hash_of(self, *parts: bytes) -> bytes:
        """HASH(1), HASH(2), HASH(3) and that of notifications: under SKEYID_a."""
        return self.keys.prf(self.keys.skeyid_a, b"".join(parts))

    def inform(self, message_id: int, payload: Payload) -> bytes:
        """A notification or deletion (RFC 2409 §5.7)."""
        number = message_id.to_bytes(4)
        check = Payload(Kind.HASH, self.hash_of(number, write_payloads([payload])))
        message = self.seal(Exchange.INFORMATIONAL, message_id, [check, payload])
        self.forget(message_id)
        return message

    def informed(self, header: Header, first: int, sealed: bytes) -> list[Payload]:
        """What a peer tells. Raises :class:`Malformed` where it is not authentic."""
        payloads, behind = self.open(header, first, sealed)
        check_hash(payloads[0].body, self.hash_of(header.message_id.to_bytes(4), behind))
        return payloads[1:]


def check_hash(came: bytes, expected: bytes) -> None:
    """Raises :class:`Malformed` where they differ."""
    if not hmac.compare_digest(came, expected):
        raise Malformed("an ISAKMP message is not authentic", why="its hash does not hold")
