"""What IKE_SA_INIT leaves for IKE_AUTH: nonces, messages that are signed, and what both sides have announced."""

from __future__ import annotations

from zesty_burrow.protocols.ikev2.machine.intermediate import Intermediate
from zesty_burrow.protocols.ikev2.wire.keys import IkeKeys, signed_octets
from zesty_burrow.records import dataclass, field


@dataclass(slots=True)
class Handshake:
    """One end's record of a handshake.

    ``init_request``, ``init_response``: the messages as they were on the wire. ``spi_in``: the first child SA's, of 4
    octets. ``peer_hashes``: RFC 7427. ``mixing``: whether an additional key is to be mixed in (RFC 8784).
    ``extra_due``: whether a second key exchange comes before IKE_AUTH (RFC 9370).
    """

    nonce_i: bytes = b""
    nonce_r: bytes = b""
    init_request: bytes = b""
    init_response: bytes = b""
    spi_in: bytes = b""
    peer_hashes: frozenset[int] = frozenset()
    mixing: bool = False
    extra_due: bool = False
    intermediate: Intermediate = field(default_factory=Intermediate)

    def initiator_octets(self, keys: IkeKeys, identity: bytes) -> bytes:
        """What the initiator's AUTH covers (RFC 7296 §2.15); ``identity``: the body of IDi."""
        between = self.intermediate.octets
        return signed_octets(keys.suite.prf, self.init_request, self.nonce_r, keys.sk_pi, identity, between)

    def responder_octets(self, keys: IkeKeys, identity: bytes) -> bytes:
        """What the responder's AUTH covers (RFC 7296 §2.15); ``identity``: the body of IDr."""
        between = self.intermediate.octets
        return signed_octets(keys.suite.prf, self.init_response, self.nonce_i, keys.sk_pr, identity, between)
