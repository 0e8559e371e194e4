"""Control messages that arrive: numbered, acknowledged, repeated, a window of them at a time (RFC 2661 §5.8)."""

from __future__ import annotations

from collections import deque

from zesty_burrow.protocols.l2tp_ipsec.l2tp.header import write_control
from zesty_burrow.protocols.repeater import Repeater

WINDOW = 4
"""Control messages that are taken before they are acknowledged (RFC 2661 §4.4.3: 4 by default)."""
FIRST_WAIT, GIVE_UP = 1.0, 30.0
MAX_WAITING = 32


class Delivery:
    """Both directions of one control connection. ``window``: of the peer; ``peer_tunnel``: 0 until it is known.

    ``unanswered``: what was sent and not acknowledged, by number.
    """

    def __init__(self, give_up: float = GIVE_UP) -> None:
        self.give_up, self.window, self.peer_tunnel = give_up, WINDOW, 0
        self.unanswered: deque[tuple[int, bytes]] = deque()
        self._waiting: deque[tuple[int, bytes]] = deque()
        self._next_sent = self._next_due = 0
        self._repeater: Repeater | None = None
        self._acknowledge = False
        self._out: deque[bytes] = deque()

    def received(self, number: int, acknowledges: int, now: float, *, has_body: bool) -> bool:
        """Note a message's numbers. Whether its content is due: one that came before, or is ahead, is not."""
        self._acknowledged(acknowledges, now)
        if not has_body:
            return False
        if number != self._next_due:
            # One that came before is acknowledged again; one that is ahead comes again.
            self._acknowledge = self._acknowledge or self._next_due - number & 0xFFFF < 1 << 15
            return False
        self._next_due = self._next_due + 1 & 0xFFFF
        self._acknowledge = True
        return True

    def _acknowledged(self, number: int, now: float) -> None:
        before = len(self.unanswered)
        while self.unanswered and number - self.unanswered[0][0] - 1 & 0xFFFF < 1 << 15:
            self.unanswered.popleft()
        if len(self.unanswered) < before:
            self._repeater = Repeater(now, FIRST_WAIT, self.give_up) if self.unanswered else None
            self._fill_window(now)

    def put(self, session: int, body: bytes, now: float) -> None:
        """Send a message of this session (0: of the tunnel) as soon as the window has room."""
        if len(self._waiting) < MAX_WAITING:
            self._waiting.append((session, body))
        self._fill_window(now)

    def _fill_window(self, now: float) -> None:
        while self._waiting and len(self.unanswered) < self.window:
            session, body = self._waiting.popleft()
            self.unanswered.append((self._next_sent, session.to_bytes(2) + body))
            self._next_sent = self._next_sent + 1 & 0xFFFF
            self._transmit(*self.unanswered[-1])
            self._repeater = self._repeater or Repeater(now, FIRST_WAIT, self.give_up)

    def _transmit(self, number: int, message: bytes) -> None:
        session, body = int.from_bytes(message[:2]), message[2:]
        self._out.append(write_control(self.peer_tunnel, session, (number, self._next_due), body))
        self._acknowledge = False

    def send(self) -> list[bytes]:
        """Control messages to send now, perhaps an acknowledgement alone."""
        if self._acknowledge:
            self._acknowledge = False
            self._out.append(write_control(self.peer_tunnel, 0, (self._next_sent, self._next_due), b""))
        going = list(self._out)
        self._out.clear()
        return going

    def next_timer(self) -> float | None:
        """When to call ``handle_timer``."""
        return self._repeater.due if self._repeater is not None else None

    def handle_timer(self, now: float) -> bool:
        """Send again what was not acknowledged; False if it was sent for too long."""
        if self._repeater is None or not self._repeater.again(now):
            return True
        if self._repeater.is_over(now):
            return False
        if self.unanswered:
            # The first one is enough: what follows is acknowledged with it, or repeated after it.
            self._transmit(*self.unanswered[0])
        return True
