"""Whether a peer is still there (RFC 3706); and that an address translation does not forget (RFC 3948 §4)."""

from __future__ import annotations

from enum import Enum

from zesty_burrow.protocols.repeater import Repeater

KEEP_ALIVE = 20.0
"""Seconds without a packet after which one octet is sent."""
NEVER = float("inf")


class Need(Enum):
    """What is to be done."""

    ASK = "ask whether it is there"
    KEEP_ALIVE = "send one octet"
    GIVE_UP = "it is gone"


class Liveness:
    """``after``: seconds of silence before the peer is asked; ``dead``: before it is given up.

    ``is_watching``: the peer knows such questions; ``keeps_alive``: this side asked for the tunnel.
    """

    def __init__(self, after: float, dead: float) -> None:
        self.last_heard = 0.0
        self.is_watching = self.keeps_alive = False
        self._after, self._dead = after, dead
        self._asking: Repeater | None = None
        self._next_keep_alive = NEVER

    def heard(self, at: float) -> None:
        """Something authentic has come."""
        self.last_heard = max(self.last_heard, at)
        self._asking = None

    def sent(self, at: float) -> None:
        if self.keeps_alive:
            self._next_keep_alive = at + KEEP_ALIVE

    def ask(self, now: float) -> bool:
        """Begin to ask; False where that is done already, or makes no sense."""
        if not self.is_watching or self._asking is not None:
            return False
        self._asking = Repeater(now, 1.0, self._dead, 4.0)
        return True

    def due(self) -> float:
        """When to call :meth:`needs`."""
        asked = self._asking.due if self._asking is not None else self.last_heard + self._after
        return min(self._next_keep_alive, asked if self.is_watching else NEVER)

    def needs(self, now: float) -> list[Need]:
        """What is to be done now."""
        found = []
        if now >= self._next_keep_alive:
            self._next_keep_alive = now + KEEP_ALIVE
            found.append(Need.KEEP_ALIVE)
        if self._asking is None and now >= self.last_heard + self._after and self.ask(now):
            found.append(Need.ASK)
        elif self._asking is not None and self._asking.again(now):
            found.append(Need.GIVE_UP if now - self.last_heard >= self._dead else Need.ASK)
        return found
