"""What a session waits for: answers, addresses, signs of life."""

from __future__ import annotations

from zesty_burrow.protocols.connect_ip.wire.capsules import Interface
from zesty_burrow.records import dataclass

ANSWER_DUE, QUIET = 4.0, 3.0
"""Seconds for the answer to a question whether the other side is alive, and after which it is asked where packets go
out and nothing comes in."""
AGAIN, LONGEST_WAIT = 0.5, 8.0
"""Seconds until a lost connection is made again where no port does it; doubled each time."""
PATIENCE = 2.0
"""Seconds for what the gateway does not have to send: an address of the second family, more routes."""


@dataclass(slots=True)
class Timers:
    """``due``: of what is waited for now; ``give_up_at``: when a lost connection is not made again any more;
    ``patience``: until when what the gateway need not send is waited for; ``wait``: seconds until the next try.
    """

    due: float | None = None
    give_up_at: float | None = None
    patience: float = 0.0
    wait: float = AGAIN


@dataclass(slots=True)
class SignsOfLife:
    """``asked_at``: when the handshake's question was sent that has no answer yet; ``pinged_at``: the same of the last
    question whether the other side is alive; ``is_moving``: that was asked from a new address.
    """

    round_trip: float = float("inf")
    last_heard: float = 0.0
    asked_at: float | None = None
    pinged_at: float | None = None
    is_moving: bool = False

    def measured(self, seconds: float) -> None:
        """An answer took so long."""
        self.round_trip = min(self.round_trip, seconds)

    def answered(self, now: float) -> None:
        """The question of the handshake is answered."""
        if self.asked_at is not None:
            self.measured(now - self.asked_at)
            self.asked_at = None


@dataclass(slots=True)
class InnerAddresses:
    """``requests``: how many addresses were asked for; ``waited``: the requests that are not answered yet."""

    requests: int = 0
    waited: frozenset[int] = frozenset()
    addresses: tuple[Interface, ...] = ()
