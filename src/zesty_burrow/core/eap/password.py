"""EAP-MSCHAPv2 (IANA method type 26): a name and a password, and the proof that the gateway knows it too."""

from __future__ import annotations

from collections.abc import Callable

from zesty_burrow.core.credentials import NamePassword
from zesty_burrow.core.crypto.random_octets import Random
from zesty_burrow.core.cursor import Cursor
from zesty_burrow.core.eap import mschapv2
from zesty_burrow.core.eap.packet import EapType
from zesty_burrow.core.eap.peer import Refusal
from zesty_burrow.errors import Malformed

CHALLENGE, RESPONSE, SUCCESS, FAILURE = 1, 2, 3, 4


class PasswordPeer:
    """This side. It verifies the gateway's authenticator response before it takes anything for confirmed."""

    type: int = EapType.MSCHAPV2

    def __init__(self, credentials: Callable[[], NamePassword], random: Random) -> None:
        self._ask = credentials
        self._random = random
        self._credentials: NamePassword | None = None
        self._expected = ""
        self._key = b""
        self._over = False
        self.confirmed = False
        self.refusal: Refusal | None = None

    @property
    def key(self) -> bytes:
        """The session key, once the gateway's response was verified."""
        return self._key if self.confirmed else b""

    def identity(self) -> bytes:
        return self._known().account.encode()

    def _known(self) -> NamePassword:
        if self._credentials is None:
            self._credentials = self._ask()
        return self._credentials

    def take(self, data: bytes) -> bytes:
        """The answer to a challenge, to success or to failure."""
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
        if self._over or self.confirmed:
            raise cursor.fail("a challenge after the end of the method")
        size = cursor.u8()
        if size != 16:
            raise cursor.fail(f"a challenge of {size} octets; RFC 2759 §3 requires 16")
        theirs, ours = cursor.take(16), self._random(16)
        known = self._known()
        name, hashes = known.account.encode(), mschapv2.Hashes.of(known.password.text())
        response = mschapv2.nt_response(theirs, ours, name, hashes)
        self._expected = mschapv2.authenticator_response(hashes, response, ours, theirs, name)
        self._key = mschapv2.session_key(hashes, response)
        value = ours + bytes(8) + response + b"\0"
        body = bytes([len(value)]) + value + name
        return bytes([RESPONSE, identifier]) + (4 + len(body)).to_bytes(2) + body

    def _confirm(self, cursor: Cursor) -> bytes:
        if not self._expected or self._over or self.confirmed:
            raise cursor.fail("success without a challenge")
        words = cursor.rest()[:42].decode("ascii", "replace")
        if not mschapv2.same_response(self._expected, words):
            raise Malformed(
                "the gateway does not know the password", why="its authenticator response (RFC 2759 §5) is wrong"
            )
        self.confirmed = True
        return bytes([SUCCESS])

    def _refused(self, cursor: Cursor) -> bytes:
        fields = cursor.rest()[:512].decode("utf-8", "replace")
        before, _, words = fields.partition("M=")
        codes = [part[2:] for part in before.split() if part.startswith("E=")]
        code = int(codes[0]) if codes and codes[0].isascii() and codes[0].isdigit() and len(codes[0]) < 6 else 0
        printable = "".join(letter for letter in words if letter.isprintable())
        self.refusal = Refusal(code, printable[:200])
        self._over, self.confirmed = True, False
        return bytes([FAILURE])


class PasswordServer:
    type: int = EapType.MSCHAPV2

    def __init__(self, password_of: Callable[[str], str | None], random: Random, server_name: bytes) -> None:
        self._password_of = password_of
        self._random = random
        self._server_name = server_name
        self._challenge = random(16)
        self._good: bool | None = None
        self.name = ""
        self.key = b""

    def start(self, identifier: int) -> bytes:
        value = bytes([16]) + self._challenge + self._server_name
        return bytes([CHALLENGE, identifier]) + (4 + len(value)).to_bytes(2) + value

    def take(self, data: bytes, identifier: int) -> bytes | bool:
        """Judge the response; then take note that the caller has heard the judgement."""
        if self._good is not None:
            return self._good and data[:1] == bytes([SUCCESS])
        cursor = Cursor(data, "an EAP-MSCHAPv2 response")
        code, _, _, size = cursor.u8(), cursor.u8(), cursor.u16(), cursor.u8()
        if code != RESPONSE or size != 49:
            raise cursor.fail("a response of 49 octets was asked for")
        theirs, _, response, _ = cursor.take(16), cursor.take(8), cursor.take(24), cursor.u8()
        name = cursor.rest()
        password = self._password_of(name.decode("utf-8", "replace"))
        hashes = mschapv2.Hashes.of(password) if password is not None else None
        if hashes is None or mschapv2.nt_response(self._challenge, theirs, name, hashes) != response:
            self._good = False
            words = b"E=691 R=0 C=" + self._random(16).hex().upper().encode() + b" V=3 M=Name or password is wrong"
            return _operation(FAILURE, identifier, words)
        self._good = True
        text = mschapv2.authenticator_response(hashes, response, theirs, self._challenge, name)
        self.key = mschapv2.session_key(hashes, response)
        return _operation(SUCCESS, identifier, text.encode() + b" M=Welcome")


def _operation(code: int, identifier: int, words: bytes) -> bytes:
    return bytes([code, identifier]) + (4 + len(words)).to_bytes(2) + words
