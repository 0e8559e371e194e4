"""PPTP's control connection (RFC 2637 §2, §3), at either end: one call, over a byte stream."""

from __future__ import annotations

import struct
from collections import deque
from enum import IntEnum

from zesty_burrow.core.crypto.random_octets import Random
from zesty_burrow.errors import Malformed
from zesty_burrow.records import dataclass

PORT = 1723
COOKIE = 0x1A2B3C4D
VERSION = 0x0100
HEAD = struct.Struct(">HHIHH")
"""Length, message type, cookie, control message type, a reserved field."""
MAX_MESSAGE = 512
ECHO_EVERY, ECHO_DUE = 60.0, 20.0
SYNC = 3


class Message(IntEnum):
    """RFC 2637 §2."""

    START_REQUEST = 1
    START_REPLY = 2
    STOP_REQUEST = 3
    STOP_REPLY = 4
    ECHO_REQUEST = 5
    ECHO_REPLY = 6
    CALL_REQUEST = 7
    CALL_REPLY = 8
    CLEAR_REQUEST = 12
    DISCONNECTED = 13
    ERROR_NOTIFY = 14
    LINK_INFO = 15


_SIZES = {
    Message.START_REQUEST: 156,
    Message.START_REPLY: 156,
    Message.STOP_REQUEST: 16,
    Message.STOP_REPLY: 16,
    Message.ECHO_REQUEST: 16,
    Message.ECHO_REPLY: 20,
    Message.CALL_REQUEST: 168,
    Message.CALL_REPLY: 32,
    Message.CLEAR_REQUEST: 16,
    Message.DISCONNECTED: 148,
    Message.ERROR_NOTIFY: 40,
    Message.LINK_INFO: 24,
}
_START = struct.Struct(">HBBIIHH64s64s")
_CALL = struct.Struct(">HHIIIIHHHH64s64s")
_REPLY = struct.Struct(">HHBBHIHHI")
START_RESULTS = {2: "an error", 3: "there is one already", 4: "no access", 5: "another version is needed"}
CALL_RESULTS = {2: "an error", 3: "no carrier", 4: "busy", 5: "no tone", 6: "time ran out", 7: "not allowed"}


def write_message(kind: Message, body: bytes) -> bytes:
    """A message, of the size that its kind has."""
    return HEAD.pack(_SIZES[kind], 1, COOKIE, kind, 0) + body.ljust(_SIZES[kind] - HEAD.size, b"\0")


class MessageReader:
    """Cuts a byte stream into messages."""

    def __init__(self) -> None:
        self._kept = b""

    def feed(self, data: bytes) -> list[tuple[int, bytes]]:
        """Those that are whole now, as their kind and body. Raises :class:`Malformed`: the stream is lost then."""
        self._kept += data
        found = []
        while len(self._kept) >= HEAD.size:
            length, kind, cookie, control, _ = HEAD.unpack_from(self._kept)
            if cookie != COOKIE or not HEAD.size <= length <= MAX_MESSAGE:
                raise Malformed("a PPTP message is malformed", why=f"cookie {cookie:#010x}, length {length}")
            if len(self._kept) < length:
                break
            message, self._kept = self._kept[HEAD.size : length], self._kept[length:]
            known = Message._value2member_map_.get(control)
            if kind == 1 and known is not None:
                if length != _SIZES[Message(control)]:
                    raise Malformed("a PPTP message is malformed", why=f"{Message(control).name} has {length} octets")
                found.append((control, message))
        return found


@dataclass(frozen=True, slots=True)
class CallOpened:
    """The call stands; ``own`` and ``peer``: its numbers."""

    at: float
    own: int
    peer: int


@dataclass(frozen=True, slots=True)
class Over:
    at: float
    by_peer: bool
    reason: str


class PptpControl:
    """``timeout``: seconds for each answer."""

    def __init__(self, random: Random, *, is_caller: bool, timeout: float = 15.0) -> None:
        self.is_caller = is_caller
        self.call = int.from_bytes(random(2)) or 1
        self.peer_call = 0
        self.is_over = self.is_reached = False
        self.last_heard = 0.0
        self._timeout = timeout
        self._reader = MessageReader()
        self._awaited = Message.START_REPLY if is_caller else Message.START_REQUEST
        self._due: float | None = None
        self._echo = int.from_bytes(random(4))
        self._is_open = self._is_asking = False
        self._out = bytearray()
        self._events: deque[CallOpened | Over] = deque()

    def start(self, now: float) -> None:
        """Ask for a connection, at who calls."""
        self._due = now + self._timeout
        if self.is_caller:
            self._put(Message.START_REQUEST, _START.pack(VERSION, 0, 0, SYNC, SYNC, 0, 0, b"caller", b""))

    def close(self, now: float) -> None:
        """End it, and send the other side a message."""
        if not self.is_over:
            if self._is_open and self.is_caller:
                self._put(Message.CLEAR_REQUEST, self.call.to_bytes(2))
            elif self._is_open:
                self._put(Message.DISCONNECTED, struct.pack(">HBB", self.call, 4, 0))
            self._put(Message.STOP_REQUEST, b"\1")
        self._end(now, "", by_peer=False)

    def ask(self, now: float) -> None:
        """See whether the other side is there (RFC 2637 §2.5)."""
        if self._is_open and not self._is_asking:
            self._is_asking, self._due = True, now + ECHO_DUE
            self._put(Message.ECHO_REQUEST, self._echo.to_bytes(4))

    def receive(self, data: bytes, now: float) -> None:
        """Take octets; none are the end of the stream. Never raises for their content."""
        if self.is_over:
            return
        if not data:
            self._end(now, "the connection was ended", by_peer=True)
            return
        try:
            for kind, body in self._reader.feed(data):
                self.is_reached, self.last_heard = True, now
                self._take(Message(kind), body, now)
        except Malformed as problem:
            self._end(now, str(problem), by_peer=True)

    def _take(self, kind: Message, body: bytes, now: float) -> None:
        if kind is Message.ECHO_REQUEST:
            self._put(Message.ECHO_REPLY, body[:4] + b"\1")
        elif kind is Message.ECHO_REPLY:
            if body[:4] == self._echo.to_bytes(4):
                self._is_asking, self._due = False, now + ECHO_EVERY
        elif kind is Message.STOP_REQUEST:
            self._put(Message.STOP_REPLY, b"\1")
            self._end(now, "it was asked to", by_peer=True)
        elif kind in (Message.DISCONNECTED, Message.CLEAR_REQUEST) and self._is_open:
            self._end(now, "the call was ended", by_peer=True)
        elif kind in (Message.LINK_INFO, Message.ERROR_NOTIFY):
            return
        elif kind is self._awaited:
            self._go_on(kind, body, now)
        else:
            raise Malformed("a PPTP message came at the wrong time", why=kind.name)

    def _go_on(self, kind: Message, body: bytes, now: float) -> None:
        if kind is Message.START_REQUEST:
            # Result 1: it stands (RFC 2637 §2.2).
            self._put(Message.START_REPLY, _START.pack(VERSION, 1, 0, SYNC, SYNC, 1, 0, b"gateway", b""))
            self._awaited, self._due = Message.CALL_REQUEST, now + self._timeout
        elif kind is Message.START_REPLY:
            version, result = _START.unpack_from(body)[:2]
            if result != 1 or version != VERSION:
                raise Malformed("no PPTP connection", why=START_RESULTS.get(result, f"result {result}"))
            serial = 1
            request = _CALL.pack(self.call, serial, 300, 100_000_000, 1, SYNC, 64, 0, 0, 0, b"", b"")
            self._put(Message.CALL_REQUEST, request)
            self._awaited, self._due = Message.CALL_REPLY, now + self._timeout
        elif kind is Message.CALL_REQUEST:
            self.peer_call = _CALL.unpack_from(body)[0]
            self._put(Message.CALL_REPLY, _REPLY.pack(self.call, self.peer_call, 1, 0, 0, 100_000_000, 64, 0, 0))
            self._open(now)
        else:
            peer, own, result = _REPLY.unpack_from(body)[:3]
            if result != 1 or own != self.call:
                raise Malformed("no PPTP call", why=CALL_RESULTS.get(result, f"result {result}"))
            self.peer_call = peer
            # Every character stands for itself in GRE (RFC 2637 §2.15).
            self._put(Message.LINK_INFO, struct.pack(">HHII", self.peer_call, 0, 0xFFFF_FFFF, 0xFFFF_FFFF))
            self._open(now)

    def _open(self, now: float) -> None:
        self._is_open, self._due = True, now + ECHO_EVERY
        self._awaited = Message.START_REPLY
        self._events.append(CallOpened(now, self.call, self.peer_call))

    def _put(self, kind: Message, body: bytes) -> None:
        self._out += write_message(kind, body)

    def send(self) -> bytes:
        """Octets to send now."""
        found = bytes(self._out)
        self._out.clear()
        return found

    def next_timer(self) -> float | None:
        """When to call ``handle_timer``."""
        return None if self.is_over else self._due

    def handle_timer(self, now: float) -> None:
        if self.is_over or self._due is None or now < self._due:
            return
        if self._is_open and not self._is_asking:
            self.ask(now)
        else:
            self._end(now, "no answer by its control connection", by_peer=True)

    def _end(self, now: float, reason: str, *, by_peer: bool) -> None:
        if not self.is_over:
            self.is_over = True
            self._events.append(Over(now, by_peer, reason))

    def next_event(self) -> CallOpened | Over | None:
        """The next event, or None."""
        return self._events.popleft() if self._events else None
