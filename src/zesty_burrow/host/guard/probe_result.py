"""What sending probes against the guard has shown. Values only."""

from __future__ import annotations

from typing import Any

from zesty_burrow.records import asdict, dataclass


@dataclass(frozen=True, slots=True)
class ProbeRow:
    """Probes of one kind by one device. ``hook``: which of the guard's chains they meet; ``sent``: how many; ``left``:
    how many a capture on the device saw leave; ``why``: why none were sent.
    """

    device: str
    hook: str
    kind: str
    sent: int
    left: int
    why: str = ""


@dataclass(frozen=True, slots=True)
class ProbeResult:
    """``at``: ISO 8601; ``controls``: the devices on which the capture was seen to work, by a frame that may leave."""

    at: str
    rows: tuple[ProbeRow, ...]
    controls: tuple[str, ...] = ()

    @property
    def left(self) -> tuple[ProbeRow, ...]:
        """Those that left although nothing may."""
        return tuple(row for row in self.rows if row.left)

    @property
    def blind(self) -> tuple[str, ...]:
        """Devices of which nothing was proven: the capture did not even see what may leave there."""
        return tuple(dict.fromkeys(row.device for row in self.rows if row.sent and row.device not in self.controls))

    def document(self) -> dict[str, Any]:
        return {"at": self.at, "controls": list(self.controls), "rows": [asdict(row) for row in self.rows]}
