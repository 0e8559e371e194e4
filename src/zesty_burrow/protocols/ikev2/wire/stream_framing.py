"""IKE and ESP messages in a byte stream (RFC 9329 §3, §4): a length in front of each, and a prefix before the first."""

from __future__ import annotations

from zesty_burrow.errors import Malformed

PREFIX = b"IKETCP"
LENGTH = 2
LONGEST = 65535 - LENGTH
KEEPALIVE = b"\xff"


class StreamFraming:
    """How the side that has connected frames what it sends, and reads what comes."""

    def begin(self) -> bytes:
        """What a new connection begins with (RFC 9329 §4)."""
        return PREFIX

    def frame(self, message: bytes) -> bytes:
        """A message behind its length, which counts itself. ``ValueError`` for one that is too long."""
        if len(message) > LONGEST:
            raise ValueError(f"a message of {len(message)} octets does not fit")
        return (len(message) + LENGTH).to_bytes(LENGTH) + message

    def reader(self) -> FrameReader:
        """For what the other side sends on a new connection."""
        return FrameReader()


class CalledFraming(StreamFraming):
    """The same for the side that was connected to: the prefix is the caller's to send."""

    def begin(self) -> bytes:
        return b""

    def reader(self) -> FrameReader:
        return FrameReader(awaits_prefix=True)


class FrameReader:
    """Cuts a stream into messages. ``awaits_prefix``: the peer connected, and sends the prefix first."""

    def __init__(self, *, awaits_prefix: bool = False) -> None:
        self._buffer = bytearray()
        self._awaits_prefix = awaits_prefix

    @property
    def is_begun(self) -> bool:
        """Whether only messages follow."""
        return not self._awaits_prefix

    def hand_over(self) -> bytes:
        """What is kept, for another reader."""
        kept = bytes(self._buffer)
        self._buffer.clear()
        return kept

    def feed(self, data: bytes) -> list[bytes]:
        """The messages that are complete now; empty ones and keep-alives are dropped (RFC 9329 §3, §6.6).

        Raises only :class:`Malformed`: then the connection is to be closed. Holds no more than one message.
        """
        self._buffer += data
        if self._awaits_prefix:
            if not PREFIX.startswith(bytes(self._buffer[: len(PREFIX)])):
                raise Malformed("a connection was refused", why="it does not begin with IKETCP (RFC 9329 §4)")
            if len(self._buffer) < len(PREFIX):
                return []
            del self._buffer[: len(PREFIX)]
            self._awaits_prefix = False
        found = []
        at = 0
        while at + LENGTH <= len(self._buffer):
            size = int.from_bytes(self._buffer[at : at + LENGTH])
            if size < LENGTH:
                raise Malformed("a connection was closed", why=f"a message has the length {size} (RFC 9329 §3.1)")
            if at + size > len(self._buffer):
                break
            message = bytes(self._buffer[at + LENGTH : at + size])
            at += size
            if message and message != KEEPALIVE:
                found.append(message)
        del self._buffer[:at]
        return found
