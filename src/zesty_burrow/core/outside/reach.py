"""Hosts that are to be reached with the tunnel, and what was seen of them without it: values, and the expectation."""

from __future__ import annotations

from typing import Any

from zesty_burrow.core.outside.observation import Observation
from zesty_burrow.records import asdict, dataclass

USUAL_PORT = 443
MOST = 32
KEY = "reach"
"""In :attr:`Observation.more`."""


def read_target(word: str) -> tuple[str, int]:
    """Host and port of ``HOST``, ``HOST:PORT`` or ``[ADDRESS]:PORT``. Raises ``ValueError`` for anything else."""
    has_port = "]:" in word or word.count(":") == 1
    host, _, port = word.rpartition(":") if has_port else (word, "", "")
    number = int(port) if port.isascii() and port.isdigit() else 0 if has_port else USUAL_PORT
    plain = host.strip("[]")
    known = plain and len(plain) <= 255 and all(letter.isalnum() or letter in "-._:" for letter in plain)
    if not known or not 0 < number < 65536:
        raise ValueError(f"{word!r:.80} is neither HOST nor HOST:PORT")
    return plain, number


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
