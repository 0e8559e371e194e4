"""How far a link has got with its sign-in, its router and its echo requests."""

from __future__ import annotations

from zesty_burrow.protocols.ppp import router
from zesty_burrow.protocols.ppp.sign_in import Judge, Peer
from zesty_burrow.records import dataclass

ROUTER_WAITS = (0.5, 0.5, 1.0, 1.0)
"""Seconds for a router's advertisement, after each time of asking; then IPv6 is done without."""
ECHO_EVERY, MOST_ECHOES = 30.0, 4
"""Seconds between echo requests where nothing else comes, and how many may stay unanswered."""


@dataclass(slots=True)
class SignInPhase:
    """How far the sign-in has got. ``due``: until when it must be done; ``again``: when ``said`` is repeated.

    ``account``: as whom the caller has signed in, at the called end.
    """

    peer: Peer | None = None
    judge: Judge | None = None
    is_done: bool = False
    due: float | None = None
    again: float | None = None
    said: tuple[int, bytes] = (0, b"")
    account: str = ""

    @property
    def key(self) -> bytes:
        """What it has left for MPPE; empty where it leaves nothing."""
        side = self.peer or self.judge
        return side.key if side is not None else b""


@dataclass(slots=True)
class RouterQuestion:
    """The caller's question for a router (RFC 4861 §6.3.7), and what was ``advertised``."""

    advertised: router.Advertised | None = None
    due: float | None = None
    asked: int = 0

    @property
    def is_exhausted(self) -> bool:
        """Whether it was asked often enough: IPv6 is done without."""
        return self.asked > len(ROUTER_WAITS)


@dataclass(slots=True)
class EchoTest:
    """Whether the other side is there (RFC 1661 §5.8)."""

    last_heard: float = 0.0
    due: float | None = None
    unanswered: int = 0

    def wants_request(self, now: float) -> bool:
        """Whether an echo request is due; not where something came since."""
        if self.due is None or now < self.due:
            return False
        if now < self.last_heard + ECHO_EVERY:
            self.unanswered, self.due = 0, self.last_heard + ECHO_EVERY
            return False
        return True
