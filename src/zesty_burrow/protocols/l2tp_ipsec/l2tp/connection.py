"""L2TP with one call in it, at either end: control messages that arrive (RFC 2661 §5.8), and frames.

Who asks calls ``start``. Frames of PPP go out by ``frame``; those that come are in ``frames``.
"""

from __future__ import annotations

from collections import deque

from zesty_burrow.core.crypto.random_octets import Random
from zesty_burrow.errors import Malformed
from zesty_burrow.protocols.l2tp_ipsec.l2tp.avps import (
    CALLS,
    MESSAGES,
    Avp,
    Message,
    message_of,
    number_of,
    read_avps,
    result_words,
    write_avps,
)
from zesty_burrow.protocols.l2tp_ipsec.l2tp.delivery import GIVE_UP, WINDOW, Delivery
from zesty_burrow.protocols.l2tp_ipsec.l2tp.header import Header, data_prefix, read_message, write_data
from zesty_burrow.records import dataclass

MAX_FRAMES = 256
_SYNC, _RESULT_ASKED, _RESULT_ERROR = b"\0\0\0\3", b"\0\1\0\0", b"\0\2\0\0"


@dataclass(frozen=True, slots=True)
class CallOpened:
    """The call stands: frames may go."""

    at: float


@dataclass(frozen=True, slots=True)
class Over:
    """It is over; ``by_peer`` tells who ended it."""

    at: float
    by_peer: bool
    reason: str


class L2tpConnection:
    """``host``: what this side calls itself. ``round_trip``: of the quickest answer."""

    def __init__(self, random: Random, host: str, *, is_caller: bool, give_up: float = GIVE_UP) -> None:
        self.is_caller, self.host = is_caller, host
        self.tunnel, self.session = _number(random), _number(random)
        self.peer_session = 0
        self.is_open = self.is_over = False
        self.frames: deque[bytes] = deque(maxlen=MAX_FRAMES)
        self.numbered = False
        self.last_heard = 0.0
        self._step = Message.SCCRQ
        self._delivery = Delivery(give_up)
        self._frame_out = self._frame_in = 0
        self._events: deque[CallOpened | Over] = deque()

    # What the owner asks for.

    def start(self, now: float) -> None:
        self._put(0, Message.SCCRQ, self._own_capabilities(), now)

    def hello(self, now: float) -> None:
        """See whether the other end is there (RFC 2661 §6.5); nothing where something waits for an answer already."""
        if self.peer_tunnel and not self._delivery.unanswered and not self.is_over:
            self._put(0, Message.HELLO, {}, now)

    def close(self, now: float) -> None:
        """End it, and send the peer a message once."""
        if not self.is_over and self.peer_tunnel:
            if self.peer_session:
                self._put(
                    self.peer_session,
                    Message.CDN,
                    {Avp.RESULT_CODE: b"\0\3\0\0", Avp.ASSIGNED_SESSION: self.session.to_bytes(2)},
                    now,
                )
            self._put(
                0,
                Message.STOP_CCN,
                {Avp.ASSIGNED_TUNNEL: self.tunnel.to_bytes(2), Avp.RESULT_CODE: _RESULT_ASKED},
                now,
            )
        self._end(now, "", by_peer=False)

    @property
    def peer_tunnel(self) -> int:
        """The peer's number of the tunnel; 0 until it is known."""
        return self._delivery.peer_tunnel

    @peer_tunnel.setter
    def peer_tunnel(self, number: int) -> None:
        self._delivery.peer_tunnel = number

    @property
    def prefix(self) -> bytes:
        """Before each frame that goes out without numbers."""
        return data_prefix(self.peer_tunnel, self.peer_session)

    @property
    def own_numbers(self) -> tuple[int, int]:
        """How what comes is addressed: tunnel and session."""
        return self.tunnel, self.session

    @property
    def peer_numbers(self) -> tuple[int, int]:
        """How what goes is addressed."""
        return self.peer_tunnel, self.peer_session

    def frame(self, frame: bytes) -> bytes:
        """A frame of PPP as a data message."""
        if not self.numbered:
            return self.prefix + frame
        numbers = self._frame_out, 0
        self._frame_out = self._frame_out + 1 & 0xFFFF
        return write_data(self.peer_tunnel, self.peer_session, numbers, frame)

    def unframe(self, message: bytes) -> bytes:
        """The frame in a data message; empty where it came before, or is another call's. Raises :class:`Malformed`."""
        header, body = read_message(message)
        if header.control or (header.tunnel, header.session) != (self.tunnel, self.session):
            return b""
        if header.numbers is None:
            self.numbered = self.numbered and not self.is_caller
            return body
        if self.is_caller:
            # RFC 2661 §5.4: who answers decides whether there are numbers.
            self.numbered = True
        ahead = header.numbers[0] - self._frame_in & 0xFFFF
        if ahead >= 1 << 15:
            return b""
        self._frame_in = header.numbers[0] + 1 & 0xFFFF
        return body

    # The network.

    def receive(self, data: bytes, now: float) -> None:
        """Take a message. Never raises for its content."""
        if self.is_over:
            return
        try:
            if data[:1] and not data[0] & 0x80:
                if frame := self.unframe(data):
                    self.frames.append(frame)
                return
            header, body = read_message(data)
        except Malformed:
            return
        # The first message is addressed to tunnel 0, and may have to be acknowledged again.
        if header.tunnel not in (self.tunnel, 0) or header.numbers is None:
            return
        self.last_heard = now
        if not self._delivery.received(*header.numbers, now, has_body=bool(body)):
            return
        try:
            avps = read_avps(body)
            self._on_message(message_of(avps), avps, header, now)
        except Malformed as problem:
            self._refuse(str(problem), now)

    def _on_message(self, message: int, avps: dict[int, bytes], header: Header, now: float) -> None:
        if message == Message.STOP_CCN:
            self._end(now, result_words(avps.get(Avp.RESULT_CODE, b""), MESSAGES), by_peer=True)
        elif message == Message.CDN and header.session in (0, self.session):
            self._end(now, result_words(avps.get(Avp.RESULT_CODE, b""), CALLS), by_peer=True)
        elif message in (Message.HELLO, Message.SLI, Message.WEN):
            pass
        elif self.is_caller:
            self._on_answer(message, avps, now)
        else:
            self._on_request(message, avps, now)

    def _on_answer(self, message: int, avps: dict[int, bytes], now: float) -> None:
        if (message, self._step) == (Message.SCCRP, Message.SCCRQ):
            self._learn_tunnel(avps)
            self._step = Message.ICRQ
            self._put(0, Message.SCCCN, {}, now)
            values = {Avp.ASSIGNED_SESSION: self.session.to_bytes(2), Avp.CALL_SERIAL: (1).to_bytes(4)}
            self._put(0, Message.ICRQ, values, now)
        elif (message, self._step) == (Message.ICRP, Message.ICRQ):
            self.peer_session = number_of(avps, Avp.ASSIGNED_SESSION)
            self._step = Message.ICCN
            speed = {Avp.TX_SPEED: (1_000_000_000).to_bytes(4), Avp.FRAMING_TYPE: b"\0\0\0\1"}
            self._put(self.peer_session, Message.ICCN, speed, now)
            self._open(now)
        else:
            raise Malformed("an L2TP control message came at the wrong time", why=f"type {message}")

    def _on_request(self, message: int, avps: dict[int, bytes], now: float) -> None:
        if (message, self._step) == (Message.SCCRQ, Message.SCCRQ):
            self._learn_tunnel(avps)
            self._step = Message.SCCCN
            self._put(0, Message.SCCRP, self._own_capabilities(), now)
        elif (message, self._step) == (Message.SCCCN, Message.SCCCN):
            self._step = Message.ICRQ
        elif (message, self._step) == (Message.ICRQ, Message.ICRQ):
            self.peer_session = number_of(avps, Avp.ASSIGNED_SESSION)
            self._step = Message.ICCN
            self._put(self.peer_session, Message.ICRP, {Avp.ASSIGNED_SESSION: self.session.to_bytes(2)}, now)
        elif (message, self._step) == (Message.ICCN, Message.ICCN):
            self.numbered = self.numbered or Avp.SEQUENCING_REQUIRED in avps
            self._open(now)
        else:
            raise Malformed("an L2TP control message came at the wrong time", why=f"type {message}")

    def _learn_tunnel(self, avps: dict[int, bytes]) -> None:
        self.peer_tunnel = number_of(avps, Avp.ASSIGNED_TUNNEL)
        if not self.peer_tunnel:
            raise Malformed("an L2TP control message is malformed", why="its tunnel has number 0")
        if Avp.CHALLENGE in avps:
            # RFC 2661 §5.1.1: under IPsec both ends are proven already.
            raise Malformed(
                "the other end wants L2TP's own secret", why="no secret is known; IPsec has proven both ends"
            )
        self._delivery.window = max(int.from_bytes(avps.get(Avp.RECEIVE_WINDOW, WINDOW.to_bytes(2))), 1)

    def _own_capabilities(self) -> dict[Avp, bytes]:
        """What both ends tell of themselves: version 1.0, and synchronous framing."""
        return {
            Avp.PROTOCOL_VERSION: b"\1\0",
            Avp.FRAMING_CAPABILITIES: _SYNC,
            Avp.BEARER_CAPABILITIES: bytes(4),
            Avp.HOST_NAME: self.host.encode(),
            Avp.ASSIGNED_TUNNEL: self.tunnel.to_bytes(2),
            Avp.RECEIVE_WINDOW: WINDOW.to_bytes(2),
        }

    def _open(self, now: float) -> None:
        self.is_open = True
        self._events.append(CallOpened(now))

    def _refuse(self, why: str, now: float) -> None:
        """Refuse the call, and send the peer the reason."""
        if self.peer_tunnel:
            values = {Avp.ASSIGNED_TUNNEL: self.tunnel.to_bytes(2), Avp.RESULT_CODE: _RESULT_ERROR}
            self._put(0, Message.STOP_CCN, values, now)
        self._end(now, why, by_peer=True)

    def _end(self, now: float, reason: str, *, by_peer: bool) -> None:
        if not self.is_over:
            self.is_over, self.is_open = True, False
            self._events.append(Over(now, by_peer, reason))

    # Sending.

    def _put(self, session: int, message: Message, values: dict[Avp, bytes], now: float) -> None:
        self._delivery.put(session, write_avps(message, values), now)

    def send(self) -> list[bytes]:
        """Control messages to send now."""
        return self._delivery.send()

    def next_timer(self) -> float | None:
        """When to call ``handle_timer``."""
        return None if self.is_over else self._delivery.next_timer()

    def handle_timer(self, now: float) -> None:
        """Time has passed: what was not acknowledged is sent again."""
        if not self.is_over and not self._delivery.handle_timer(now):
            self._end(now, f"no answer by L2TP within {self._delivery.give_up:g} s", by_peer=True)

    def next_event(self) -> CallOpened | Over | None:
        """The next event, or None."""
        return self._events.popleft() if self._events else None


def _number(random: Random) -> int:
    return int.from_bytes(random(2)) or 1
