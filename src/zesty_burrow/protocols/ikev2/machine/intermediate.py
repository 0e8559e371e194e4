"""Between IKE_SA_INIT and IKE_AUTH: a second key exchange, which the AUTH payloads cover (RFC 9242, RFC 9370)."""

from __future__ import annotations

from collections.abc import Sequence

from zesty_burrow.core.crypto.integrity import prf
from zesty_burrow.protocols.ikev2.machine.ike_sa import IkeSa
from zesty_burrow.protocols.ikev2.wire.keys import IkeKeys
from zesty_burrow.protocols.ikev2.wire.message import Header, Message, chain, octets_between, octets_between_of
from zesty_burrow.protocols.ikev2.wire.payloads import Payload


class Intermediate:
    """IntAuth as it grows: a value for each side's messages, and the number of the first IKE_AUTH message."""

    def __init__(self) -> None:
        self._of_initiator = b""
        self._of_responder = b""
        self._auth_id = 0

    @property
    def octets(self) -> bytes:
        """IntAuth; empty where there was no such exchange."""
        if not self._auth_id:
            return b""
        return self._of_initiator + self._of_responder + self._auth_id.to_bytes(4)

    def note_own(self, keys: IkeKeys, header: Header, payloads: Sequence[Payload], *, initiator: bool) -> None:
        """A message that this side sends, under the keys from before the exchange."""
        self._note(keys, header, octets_between(header, *chain(payloads)), initiator=initiator)

    def note_peer(self, keys: IkeKeys, sa: IkeSa, message: Message, *, initiator: bool) -> None:
        """A message that has come; its parts, if it had any, are put together."""
        octets = octets_between_of(message, sa.plaintext(message))
        self._note(keys, message.header, octets, initiator=initiator)

    def _note(self, keys: IkeKeys, header: Header, octets: bytes, *, initiator: bool) -> None:
        if initiator:
            self._of_initiator = prf(keys.suite.prf, keys.sk_pi, self._of_initiator + octets)
        else:
            self._of_responder = prf(keys.suite.prf, keys.sk_pr, self._of_responder + octets)
        self._auth_id = header.message_id + 1
