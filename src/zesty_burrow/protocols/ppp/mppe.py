"""MPPE (RFC 3078) with 128-bit keys that change with every packet (RFC 3079 §3): RC4, and no integrity."""

from __future__ import annotations

import hashlib

from cryptography.hazmat.decrepit.ciphers.algorithms import ARC4
from cryptography.hazmat.primitives.ciphers import Cipher

from zesty_burrow.errors import Malformed
from zesty_burrow.protocols.ppp.automaton import Options
from zesty_burrow.protocols.ppp.packet import ADDRESS_CONTROL, Number, Option, read_frame, write_frame

MPPE = 18
"""CCP's option (RFC 3078 §2)."""
STATELESS, STRONG = 0x0100_0000, 0x40
BITS = (STATELESS | STRONG).to_bytes(4)
FLUSHED, ENCRYPTED, COUNT = 0x8000, 0x1000, 0x0FFF
KEY = 16
_PADS = bytes(40), b"\xf2" * 40
FIRST, LAST = 0x0021, 0x00FA
"""Protocol numbers of packets that are encrypted (RFC 3078 §2.1)."""


class MppeOptions(Options):
    """CCP's: the strongest kind, and no other."""

    def wanted(self) -> list[Option]:
        return [Option(MPPE, BITS)]

    def judge(self, option: Option) -> Option | None:
        return Option(MPPE, BITS) if option.kind == MPPE and len(option.value) == 4 else None

    def corrected(self, option: Option) -> None:
        """Nothing weaker is asked for."""

    def refused(self, option: Option) -> None:
        """Without it there is no link: the owner sees that both sides do not agree."""

    def missing(self, options: object) -> list[Option]:
        return [] if options else [Option(MPPE, BITS)]


def changed_key(start: bytes, session: bytes) -> bytes:
    """RFC 3078 §7.3: the next key from the first and the present one, before it is run through RC4."""
    pads = _PADS
    return hashlib.sha1(start + pads[0] + session + pads[1], usedforsecurity=False).digest()[:KEY]


def _rc4(key: bytes, data: bytes) -> bytes:
    machine = Cipher(ARC4(key), mode=None).encryptor()
    return machine.update(data) + machine.finalize()


def first_key(start: bytes) -> bytes:
    """The session key that the first packet has (RFC 3079 §3.2: GetNewKeyFromSHA)."""
    return changed_key(start, start)


class _Direction:
    """Keys one after the other; ``count``: of the packet that comes next."""

    def __init__(self, start: bytes) -> None:
        self._start, self._session = start, first_key(start)
        self.count = 0
        self._advance()

    def _advance(self) -> None:
        """In stateless mode the key is changed before each packet (RFC 3078 §7.1)."""
        interim = changed_key(self._start, self._session)
        self._session = _rc4(interim, interim)

    def run(self, data: bytes) -> bytes:
        done = _rc4(self._session, data)
        self.skip(1)
        return done

    def skip(self, packets: int) -> None:
        for _ in range(packets):
            self._advance()
        self.count = self.count + packets & COUNT


class MppeSender:
    """Encrypts frames of packets; ``start``: this side's send key."""

    def __init__(self, start: bytes) -> None:
        self._keys = _Direction(start)

    def seal(self, frame: bytes) -> bytes:
        """The frame around a frame; one that is no packet's stays as it is."""
        number, content = read_frame(frame)
        if not FIRST <= number <= LAST:
            return frame
        head = FLUSHED | ENCRYPTED | self._keys.count
        return write_frame(Number.COMPRESSED, head.to_bytes(2) + self._keys.run(number.to_bytes(2) + content))


class MppeReceiver:
    """Decrypts them; ``start``: the other side's send key. What was lost on the way is passed over."""

    def __init__(self, start: bytes) -> None:
        self._keys = _Direction(start)

    def open(self, frame: bytes) -> bytes:
        """The frame inside; empty for one that is older than one that has come. Raises :class:`Malformed`."""
        number, content = read_frame(frame)
        if number != Number.COMPRESSED:
            if FIRST <= number <= LAST:
                raise Malformed("a packet came without encryption", why="encryption was agreed on")
            return frame
        if len(content) < 4:
            raise Malformed("an encrypted frame is malformed", why=f"it has {len(content)} octets")
        head = int.from_bytes(content[:2])
        if not head & ENCRYPTED or not head & FLUSHED:
            raise Malformed("an encrypted frame is malformed", why="it is not of the kind that was agreed on")
        ahead = (head & COUNT) - self._keys.count & COUNT
        if ahead > COUNT // 2:
            return b""
        self._keys.skip(ahead)
        return ADDRESS_CONTROL + self._keys.run(content[2:])
