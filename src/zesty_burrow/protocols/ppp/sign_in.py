"""Signing in within PPP: PAP (RFC 1334), CHAP (RFC 1994), MS-CHAPv2 (RFC 2759). Both ends are here.

MS-CHAPv2's packets are those of EAP-MSCHAPv2, which was made of them.
"""

from __future__ import annotations

import hashlib
import hmac
from collections.abc import Callable
from typing import Protocol

from zesty_burrow.core.credentials import NamePassword
from zesty_burrow.core.crypto.random_octets import Random
from zesty_burrow.core.cursor import Cursor
from zesty_burrow.core.eap.password import CHALLENGE, FAILURE, RESPONSE, SUCCESS, PasswordPeer, PasswordServer
from zesty_burrow.errors import Malformed
from zesty_burrow.protocols.ppp.packet import Number, Packet, write_packet

PAP, CHAP_MD5, MSCHAPV2 = "pap", "chap", "ms-chap-v2"
OPTION = {
    PAP: Number.PAP.to_bytes(2),
    CHAP_MD5: Number.CHAP.to_bytes(2) + b"\x05",
    MSCHAPV2: Number.CHAP.to_bytes(2) + b"\x81",
}
"""Values of LCP's option 3 (RFC 1661 §6.2, RFC 1994 §3, RFC 2759 §2)."""
METHOD = {value: method for method, value in OPTION.items()}
PAP_REQUEST, PAP_ACK, PAP_NAK = 1, 2, 3
PasswordOf = Callable[[str], str | None]


class Peer(Protocol):
    """This side of a sign-in. ``done``: it is over well; ``refused``: why the other side does not want it."""

    done: bool
    refused: str

    @property
    def number(self) -> int:
        """The protocol's."""

    def start(self) -> bytes:
        """What this side begins with; empty where the other one does."""

    def take(self, packet: Packet) -> bytes:
        """The answer. Raises :class:`Malformed`."""

    @property
    def key(self) -> bytes:
        """Of MPPE (RFC 3079), where the method has one."""


class PapPeer:
    """Name and password as they are: only where something else protects them."""

    number: int = Number.PAP
    key = b""

    def __init__(self, credentials: NamePassword) -> None:
        self.done, self.refused = False, ""
        self._credentials = credentials
        self._identifier = 0

    def start(self) -> bytes:
        self._identifier = self._identifier + 1 & 0xFF
        parts = self._credentials.account.encode(), self._credentials.password.octets()
        return write_packet(PAP_REQUEST, self._identifier, b"".join(bytes([len(part)]) + part for part in parts))

    def take(self, packet: Packet) -> bytes:
        if packet.identifier == self._identifier and packet.code == PAP_ACK:
            self.done = True
        elif packet.identifier == self._identifier and packet.code == PAP_NAK:
            self.refused = _words(packet.data[1:]) or "by PAP"
        return b""


class ChapPeer:
    """A hash over challenge and password (RFC 1994 §4.1)."""

    number: int = Number.CHAP
    key = b""

    def __init__(self, credentials: NamePassword) -> None:
        self.done, self.refused = False, ""
        self._credentials = credentials

    def start(self) -> bytes:
        return b""

    def take(self, packet: Packet) -> bytes:
        if packet.code == CHALLENGE:
            cursor = Cursor(packet.data, "a CHAP packet")
            challenge = cursor.take(cursor.u8())
            value = chap_response(packet.identifier, self._credentials.password.octets(), challenge)
            body = bytes([len(value)]) + value + self._credentials.account.encode()
            return write_packet(RESPONSE, packet.identifier, body)
        if packet.code == SUCCESS:
            self.done = True
        elif packet.code == FAILURE:
            self.refused = _words(packet.data) or "by CHAP"
        return b""


class MsChapPeer:
    """MS-CHAPv2: the other side shows that it knows the password too."""

    number: int = Number.CHAP

    def __init__(self, credentials: NamePassword, random: Random) -> None:
        self.done, self.refused = False, ""
        self._credentials, self._random = credentials, random
        self._machine = PasswordPeer(lambda: credentials, random)
        self._answered: tuple[Packet, bytes] | None = None

    @property
    def key(self) -> bytes:
        return self._machine.key

    def start(self) -> bytes:
        return b""

    def take(self, packet: Packet) -> bytes:
        if self._answered is not None and self._answered[0] == packet:
            # It was repeated: so is the answer, by which the other side's proof is judged.
            return self._answered[1]
        if packet.code == SUCCESS and self.done:
            return b""
        if packet.code == CHALLENGE and self.done:
            self._machine = PasswordPeer(lambda: self._credentials, self._random)
        answer = self._machine.take(write_packet(*packet))
        self.done = self._machine.confirmed
        if self._machine.refusal is not None:
            self.refused = self._machine.refusal.words or f"error {self._machine.refusal.code}"
        if packet.code != CHALLENGE:
            # The other side waits for no answer to success or failure here, as it does in EAP.
            return b""
        self._answered = packet, answer
        return answer


def peer_for(method: str, credentials: NamePassword, random: Random) -> Peer:
    """This side of a method."""
    if method == MSCHAPV2:
        return MsChapPeer(credentials, random)
    return PapPeer(credentials) if method == PAP else ChapPeer(credentials)


def chap_response(identifier: int, secret: bytes, challenge: bytes) -> bytes:
    """RFC 1994 §4.1: MD5 over identifier, secret and challenge."""
    return hashlib.md5(bytes([identifier]) + secret + challenge, usedforsecurity=False).digest()


def _words(data: bytes) -> str:
    text = data[:200].decode("utf-8", "replace")
    return "".join(letter for letter in text if letter.isprintable()).strip()


class Judge:
    """The other side. ``account``: as whom the caller has signed in, once ``good`` is true; None: not yet known."""

    def __init__(self, method: str, password_of: PasswordOf, random: Random, name: str) -> None:
        self.method, self.account = method, ""
        self.good: bool | None = None
        self.number = Number.PAP if method == PAP else Number.CHAP
        self.key = b""
        self._password_of, self._name, self._random = password_of, name.encode(), random
        self._server = PasswordServer(password_of, random, self._name)
        self._challenge, self._answer = random(16), b""

    def start(self) -> bytes:
        """The challenge; empty for PAP."""
        if self.method == MSCHAPV2:
            return self._server.start(1)
        if self.method == CHAP_MD5:
            return write_packet(CHALLENGE, 1, bytes([16]) + self._challenge + self._name)
        return b""

    def take(self, packet: Packet) -> bytes:
        """The judgement. Raises :class:`Malformed`."""
        if self.good is not None:
            # The caller has not heard it.
            return self._answer
        if self.method == PAP and packet.code == PAP_REQUEST:
            self._answer = self._by_pap(packet)
        elif self.method == CHAP_MD5 and packet.code == RESPONSE:
            self._answer = self._by_chap(packet)
        elif self.method == MSCHAPV2 and packet.code == RESPONSE:
            self._answer = self._by_mschap(packet)
        else:
            raise Malformed("a PPP packet came at the wrong time", why=f"code {packet.code} of {self.method}")
        return self._answer

    def _by_pap(self, packet: Packet) -> bytes:
        cursor = Cursor(packet.data, "a PAP packet")
        name, password = cursor.take(cursor.u8()), cursor.take(cursor.u8())
        known = self._password_of(name.decode("utf-8", "replace"))
        self._settle(name, known is not None and hmac.compare_digest(known.encode(), password))
        words = b"Welcome" if self.good else b"Name or password is wrong"
        return write_packet(PAP_ACK if self.good else PAP_NAK, packet.identifier, bytes([len(words)]) + words)

    def _by_chap(self, packet: Packet) -> bytes:
        cursor = Cursor(packet.data, "a CHAP packet")
        value, name = cursor.take(cursor.u8()), cursor.rest()
        known = self._password_of(name.decode("utf-8", "replace"))
        expected = chap_response(packet.identifier, (known or "").encode(), self._challenge)
        self._settle(name, known is not None and hmac.compare_digest(expected, value))
        words = b"Welcome" if self.good else b"Name or password is wrong"
        return write_packet(SUCCESS if self.good else FAILURE, packet.identifier, words)

    def _by_mschap(self, packet: Packet) -> bytes:
        answer = self._server.take(write_packet(*packet), packet.identifier)
        if not isinstance(answer, bytes):
            raise Malformed("a PPP packet came at the wrong time")
        self._settle(packet.data[50:], answer[0] == SUCCESS)
        self.key = self._server.key
        return answer

    def _settle(self, name: bytes, good: bool) -> None:
        self.good = good
        self.account = name.decode("utf-8", "replace") if good else ""
