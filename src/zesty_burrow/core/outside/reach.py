"""Hosts that are to be reached with the tunnel, and what was seen of them without it: values, and the expectation."""

from __future__ import annotations

from typing import Any

from zesty_burrow.core.outside.observation import Observation
from zesty_burrow.records import asdict, dataclass

KEY = "reach"
"""In :attr:`Observation.more`."""


@dataclass(frozen=True, slots=True)
class Reached:
    """``target``: host and port as asked; ``address``: that was connected to, empty where none was; ``seconds``: until
    the connection; ``why``: why it was not reached, empty where it was.
    """

    target: str
    address: str = ""
    seconds: float = 0.0
    why: str = ""

    @property
    def is_reached(self) -> bool:
        """Whether a connection was made."""
        return not self.why

    def document(self) -> dict[str, Any]:
        return asdict(self)


def evidence_of(row: Reached, before: Observation | None) -> str:
    """With what was seen of the same target without the tunnel."""
    now = f"connected to {row.address} in {1000 * row.seconds:.0f} ms" if row.is_reached else row.why
    known = before.more.get(KEY, {}).get(row.target) if before is not None else None
    if known is None:
        return f"{now}; not tried without the tunnel"
    return f"{now}; {'reached' if known else 'not reached'} without the tunnel at {before.taken_at if before else ''}"
