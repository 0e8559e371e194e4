"""This side of EAP (RFC 3748): answers requests with one method, ends with the session key.

A method asks for the credentials only when the gateway's requests need them, which the initiator lets happen only
after the gateway has proven itself.
"""

from __future__ import annotations

from collections.abc import Callable
from enum import Enum, auto
from typing import Protocol

from zesty_burrow.core.eap.packet import EapCode, EapPacket, EapType
from zesty_burrow.errors import Malformed
from zesty_burrow.records import dataclass

MAX_ROUNDS = 60


class PeerState(Enum):
    """The state of the sign-in."""

    WAITING = auto()
    DONE = auto()
    REFUSED = auto()


@dataclass(frozen=True, slots=True)
class Refusal:
    """Why the sign-in ended: the method's error code (RFC 2759 §6) and the gateway's own words."""

    code: int
    words: str


class Method(Protocol):
    """One method, this side. ``type`` is IANA's number."""

    type: int

    @property
    def confirmed(self) -> bool:
        """Whether the gateway has shown, inside the method, that it knows us or has let us in."""

    @property
    def key(self) -> bytes:
        """The session key, once there is one."""

    @property
    def refusal(self) -> Refusal | None:
        """Why the method was refused, if it was."""

    def identity(self) -> bytes:
        """What to answer to an Identity request."""

    def take(self, data: bytes) -> bytes:
        """The answer's data to a request's data. Raises ``Malformed``, and what the method itself finds wrong."""


class EapPeer:
    """``receive`` takes the gateway's packets one by one; ``msk`` is set once the gateway confirmed."""

    def __init__(self, method: Method) -> None:
        self._method = method
        self._rounds = 0
        self.state = PeerState.WAITING
        self.refusal: Refusal | None = None

    @property
    def msk(self) -> bytes:
        """The session key; empty until the method was confirmed and Success came."""
        return self._method.key if self.state is PeerState.DONE else b""

    def receive(self, packet: EapPacket) -> EapPacket | None:
        """The answer to a packet; None after Success and Failure. Raises ``Malformed``."""
        self._rounds += 1
        if self._rounds > MAX_ROUNDS:
            raise Malformed("the sign-in does not end", why=f"more than {MAX_ROUNDS} rounds of EAP")
        if packet.code == EapCode.SUCCESS:
            # RFC 3748 §4.2: success before the method has ended is not to be believed.
            if not self._method.confirmed or self._method.refusal is not None:
                raise Malformed("the sign-in ended too early", why="the gateway did not show that it knows us")
            self.state = PeerState.DONE
            return None
        if packet.code == EapCode.FAILURE:
            self.state = PeerState.REFUSED
            self.refusal = self._method.refusal or Refusal(0, "")
            return None
        if packet.code != EapCode.REQUEST:
            raise Malformed("an EAP packet is out of place", why="a gateway sends requests, not responses")
        return EapPacket(EapCode.RESPONSE, packet.identifier, *self._answer(packet))

    def _answer(self, packet: EapPacket) -> tuple[int, bytes]:
        if packet.type == EapType.IDENTITY:
            return EapType.IDENTITY, self._method.identity()
        if packet.type == EapType.NOTIFICATION:
            return EapType.NOTIFICATION, b""
        if packet.type == self._method.type:
            answer = self._method.take(packet.data)
            self.refusal = self._method.refusal
            return self._method.type, answer
        # RFC 3748 §5.3.1: name the method that we would take instead.
        return EapType.NAK, bytes([self._method.type])


class ServerMethod(Protocol):
    """One method, the gateway's side."""

    type: int

    @property
    def key(self) -> bytes:
        """The session key, once there is one."""

    @property
    def name(self) -> str:
        """The account, as the method knows it; empty where only the identity tells."""

    def start(self, identifier: int) -> bytes:
        """The data of the first request."""

    def take(self, data: bytes, identifier: int) -> bytes | bool:
        """The data of the next request; or True for success, False for failure. Raises ``Malformed``."""


class EapServer:
    """The gateway's side: the first of its methods, or the one that the caller asks for instead."""

    def __init__(self, methods: list[Callable[[], ServerMethod]]) -> None:
        self._methods = methods
        self._method: ServerMethod | None = None
        self._identifier = 0
        self._rounds = 0
        self.peer_name = ""
        self.done = False
        self.failed = False

    @property
    def msk(self) -> bytes:
        """The session key; empty before success."""
        return self._method.key if self.done and self._method else b""

    def start(self) -> EapPacket:
        """The first request: who are you?"""
        return self._request(EapType.IDENTITY, b"")

    def receive(self, packet: EapPacket) -> EapPacket:
        """The next request, Success or Failure. Raises ``Malformed``."""
        self._rounds += 1
        ended = self.done or self.failed or self._rounds > MAX_ROUNDS
        if packet.code != EapCode.RESPONSE or packet.identifier != self._identifier or ended:
            raise Malformed("an EAP response is out of place", why="it answers no request of ours")
        if self._method is None:
            if packet.type != EapType.IDENTITY:
                raise Malformed("an EAP response is out of place", why="an identity was asked for")
            self.peer_name = packet.data.decode("utf-8", "replace")
            return self._begin(self._methods[0]())
        if packet.type == EapType.NAK and self._rounds == 2:
            wanted = [made for make in self._methods if (made := make()).type in packet.data]
            return self._begin(wanted[0]) if wanted else self._end(EapCode.FAILURE)
        if packet.type != self._method.type:
            return self._end(EapCode.FAILURE)
        answer = self._method.take(packet.data, self._identifier + 1 & 255)
        if isinstance(answer, bool):
            self.peer_name = self._method.name or self.peer_name
            return self._end(EapCode.SUCCESS if answer else EapCode.FAILURE)
        return self._request(self._method.type, answer)

    def _begin(self, method: ServerMethod) -> EapPacket:
        self._method = method
        return self._request(method.type, method.start(self._identifier + 1 & 255))

    def _request(self, kind: int, data: bytes) -> EapPacket:
        self._identifier = self._identifier + 1 & 255
        return EapPacket(EapCode.REQUEST, self._identifier, kind, data)

    def _end(self, code: EapCode) -> EapPacket:
        self.done, self.failed = code is EapCode.SUCCESS, code is EapCode.FAILURE
        return EapPacket(code, self._identifier)
