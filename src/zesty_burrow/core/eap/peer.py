"""This side of EAP with EAP-MSCHAPv2 (IANA method type 26): answers requests, ends with the session key.

The machine asks for the credentials only when the gateway asks for a name or a response, which the initiator
lets happen only after the gateway has proven itself. It verifies the gateway's authenticator response.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from enum import Enum, auto

from zesty_burrow.core.credentials import NamePassword
from zesty_burrow.core.cursor import Cursor
from zesty_burrow.core.eap import mschapv2
from zesty_burrow.core.eap.packet import EapCode, EapPacket, EapType
from zesty_burrow.core.protection import Random
from zesty_burrow.errors import Malformed

CHALLENGE, RESPONSE, SUCCESS, FAILURE = 1, 2, 3, 4
MAX_ROUNDS = 20


class PeerState(Enum):
    """Where the sign-in stands."""

    WAITING = auto()
    RESPONDED = auto()
    CONFIRMED = auto()
    DONE = auto()
    REFUSED = auto()


@dataclass(frozen=True, slots=True)
class Refusal:
    """Why the sign-in ended: the method's error code (RFC 2759 §6) and the gateway's own words."""

    code: int
    words: str


class EapPeer:
    """``receive`` takes the gateway's packets one by one; ``msk`` is set once the gateway confirmed."""

    def __init__(self, credentials: Callable[[], NamePassword], random: Random) -> None:
        self._ask = credentials
        self._random = random
        self._credentials: NamePassword | None = None
        self._rounds = 0
        self._expected = ""
        self._key: bytes = b""
        self.state = PeerState.WAITING
        self.refusal: Refusal | None = None

    @property
    def msk(self) -> bytes:
        """The session key; empty until the gateway's response was verified and Success came."""
        return self._key if self.state is PeerState.DONE else b""

    def receive(self, packet: EapPacket) -> EapPacket | None:
        """The answer to a packet; None after Success and Failure. Raises ``Malformed``."""
        self._rounds += 1
        if self._rounds > MAX_ROUNDS:
            raise Malformed("the sign-in does not end", why=f"more than {MAX_ROUNDS} rounds of EAP")
        if packet.code == EapCode.SUCCESS:
            # RFC 3748 §4.2: success before the method has ended is not to be believed.
            if self.state is not PeerState.CONFIRMED:
                raise Malformed("the sign-in ended too early", why="the gateway did not show that it knows us")
            self.state = PeerState.DONE
            return None
        if packet.code == EapCode.FAILURE:
            self.state = PeerState.REFUSED
            self.refusal = self.refusal or Refusal(0, "")
            return None
        if packet.code != EapCode.REQUEST:
            raise Malformed("an EAP packet is out of place", why="a gateway sends requests, not responses")
        return EapPacket(EapCode.RESPONSE, packet.identifier, *self._answer(packet))

    def _answer(self, packet: EapPacket) -> tuple[int, bytes]:
        if packet.type == EapType.IDENTITY:
            return EapType.IDENTITY, self._known().account.encode()
        if packet.type == EapType.NOTIFICATION:
            return EapType.NOTIFICATION, b""
        if packet.type == EapType.MSCHAPV2:
            return EapType.MSCHAPV2, self._method(packet.data)
        # RFC 3748 §5.3.1: name the method that we would take instead.
        return EapType.NAK, bytes([EapType.MSCHAPV2])

    def _known(self) -> NamePassword:
        if self._credentials is None:
            self._credentials = self._ask()
        return self._credentials

    def _method(self, data: bytes) -> bytes:
        cursor = Cursor(data, "an EAP-MSCHAPv2 packet")
        code, identifier, length = cursor.u8(), cursor.u8(), cursor.u16()
        if length != len(data):
            raise cursor.fail(f"it announces {length} octets, {len(data)} came")
        if code == CHALLENGE:
            return self._respond(cursor, identifier)
        if code == SUCCESS:
            return self._confirm(cursor)
        if code == FAILURE:
            return self._refused(cursor)
        raise cursor.fail(f"operation {code} is not known")

    def _respond(self, cursor: Cursor, identifier: int) -> bytes:
        if self.state not in (PeerState.WAITING, PeerState.RESPONDED):
            raise cursor.fail("a challenge after the end of the method")
        size = cursor.u8()
        if size != 16:
            raise cursor.fail(f"a challenge of {size} octets; RFC 2759 §3 wants 16")
        theirs, ours = cursor.take(16), self._random(16)
        known = self._known()
        name, password = known.account.encode(), known.password.text()
        response = mschapv2.nt_response(theirs, ours, name, password)
        self._expected = mschapv2.authenticator_response(password, response, ours, theirs, name)
        self._key = mschapv2.session_key(password, response)
        self.state = PeerState.RESPONDED
        value = ours + bytes(8) + response + b"\0"
        body = bytes([len(value)]) + value + name
        return bytes([RESPONSE, identifier]) + (4 + len(body)).to_bytes(2) + body

    def _confirm(self, cursor: Cursor) -> bytes:
        if self.state is not PeerState.RESPONDED:
            raise cursor.fail("success without a challenge")
        words = cursor.rest()[:42].decode("ascii", "replace")
        if not mschapv2.same_response(self._expected, words):
            raise Malformed(
                "the gateway does not know the password", why="its authenticator response (RFC 2759 §5) is wrong"
            )
        self.state = PeerState.CONFIRMED
        return bytes([SUCCESS])

    def _refused(self, cursor: Cursor) -> bytes:
        fields = cursor.rest()[:512].decode("utf-8", "replace")
        before, _, words = fields.partition("M=")
        codes = [part[2:] for part in before.split() if part.startswith("E=")]
        code = int(codes[0]) if codes and codes[0].isascii() and codes[0].isdigit() and len(codes[0]) < 6 else 0
        printable = "".join(letter for letter in words if letter.isprintable())
        self.refusal = Refusal(code, printable[:200])
        self.state = PeerState.REFUSED
        return bytes([FAILURE])


@dataclass(slots=True)
class EapServer:
    """The gateway's side, for stand-ins and for gateways of one's own: one peer, one method."""

    password_of: Callable[[str], str | None]
    random: Random
    server_name: bytes = b"gateway"
    peer_name: str = ""
    done: bool = False
    failed: bool = False
    msk: bytes = b""
    _identifier: int = 0
    _challenge: bytes = b""
    _step: Callable[[EapPacket], EapPacket] | None = field(default=None, repr=False)

    def start(self) -> EapPacket:
        """The first request: who are you?"""
        self._step = self._identity
        return self._request(EapType.IDENTITY, b"")

    def receive(self, packet: EapPacket) -> EapPacket:
        """The next request, Success or Failure. Raises ``Malformed``."""
        if packet.code != EapCode.RESPONSE or packet.identifier != self._identifier or self._step is None:
            raise Malformed("an EAP response is out of place", why="it answers no request of ours")
        return self._step(packet)

    def _request(self, kind: int, data: bytes) -> EapPacket:
        self._identifier = (self._identifier + 1) % 256
        return EapPacket(EapCode.REQUEST, self._identifier, kind, data)

    def _identity(self, packet: EapPacket) -> EapPacket:
        if packet.type != EapType.IDENTITY:
            raise Malformed("an EAP response is out of place", why="an identity was asked for")
        self.peer_name = packet.data.decode("utf-8", "replace")
        self._challenge = self.random(16)
        self._step = self._response
        value = bytes([16]) + self._challenge + self.server_name
        header = bytes([CHALLENGE, self._identifier + 1 & 255]) + (4 + len(value)).to_bytes(2)
        return self._request(EapType.MSCHAPV2, header + value)

    def _response(self, packet: EapPacket) -> EapPacket:
        if packet.type != EapType.MSCHAPV2:
            return self._end(EapCode.FAILURE)
        cursor = Cursor(packet.data, "an EAP-MSCHAPv2 response")
        code, _, _, size = cursor.u8(), cursor.u8(), cursor.u16(), cursor.u8()
        if code != RESPONSE or size != 49:
            raise cursor.fail("a response of 49 octets was asked for")
        theirs, _, response, _ = cursor.take(16), cursor.take(8), cursor.take(24), cursor.u8()
        name = cursor.rest()
        password = self.password_of(name.decode("utf-8", "replace"))
        if password is None or mschapv2.nt_response(self._challenge, theirs, name, password) != response:
            words = b"E=691 R=0 C=" + self.random(16).hex().upper().encode() + b" V=3 M=Name or password is wrong"
            self._step = lambda _: self._end(EapCode.FAILURE)
            return self._request(EapType.MSCHAPV2, self._operation(FAILURE, words))
        text = mschapv2.authenticator_response(password, response, theirs, self._challenge, name)
        self.msk = mschapv2.session_key(password, response)
        self._step = self._confirmed
        return self._request(EapType.MSCHAPV2, self._operation(SUCCESS, text.encode() + b" M=Welcome"))

    def _operation(self, code: int, words: bytes) -> bytes:
        return bytes([code, self._identifier]) + (4 + len(words)).to_bytes(2) + words

    def _confirmed(self, packet: EapPacket) -> EapPacket:
        good = packet.type == EapType.MSCHAPV2 and packet.data[:1] == bytes([SUCCESS])
        return self._end(EapCode.SUCCESS if good else EapCode.FAILURE)

    def _end(self, code: EapCode) -> EapPacket:
        self._step = None
        self.done, self.failed = code is EapCode.SUCCESS, code is EapCode.FAILURE
        if self.failed:
            self.msk = b""
        return EapPacket(code, self._identifier)
