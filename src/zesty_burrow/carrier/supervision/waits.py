"""How long a lost tunnel waits before it is tried again."""

from __future__ import annotations

from zesty_burrow.errors import BurrowError, GatewayError, GatewayNotProven, SignInRefused
from zesty_burrow.protocols.session import Down

LOST = (GatewayError, GatewayNotProven, SignInRefused)
"""How an attempt to bring a tunnel back may end. None of it opens the machine: an impostor could bring it about."""
FIRST, LONGEST, AFTER_REFUSAL = 1.0, 60.0, 900.0


def end_of(event: Down, wanted: str) -> str:
    """Why a tunnel that is over has ended; ``wanted``: why somebody wanted that. Raises what nobody wanted."""
    if event.error is not None:
        raise event.error
    if event.by_peer and not wanted:
        step = "Connect again; this machine's settings were restored."
        raise GatewayError("the tunnel is down", why=event.reason, next_step=step, slug="gateway-ended")
    return wanted or "ended"


class Waits:
    """Each wait is twice the one before; the longest where the sign-in was refused, as accounts are often locked."""

    def __init__(self) -> None:
        self._wait = FIRST

    def after(self, problem: BurrowError, *, came_back: bool) -> float:
        """Seconds after an attempt that ended so. ``came_back``: the tunnel had been up again in it."""
        self._wait = FIRST if came_back else min(self._wait * 2, LONGEST)
        return AFTER_REFUSAL if isinstance(problem, SignInRefused) else self._wait
