"""What a look at a machine's ways out has shown: values for judging, showing and keeping."""

from __future__ import annotations

from typing import Any

from zesty_burrow.core.ways_out.beside import Beside
from zesty_burrow.records import asdict, dataclass


@dataclass(frozen=True, slots=True)
class WaySummary:
    """One group of classes for people: what leaves by a device. ``role``: "tunnel", "allowed", or "beside"."""

    version: int
    device: str
    role: str
    packets: str
    classes: int


@dataclass(frozen=True, slots=True)
class BoundSocket:
    """A socket whose program has named a device, or has marked it. ``local``, ``remote``: address and port; ``process``:
    name and number, empty where it is not known.
    """

    protocol: str
    local: str
    remote: str
    device: str
    mark: int
    user: int
    process: str


@dataclass(frozen=True, slots=True)
class WaysSeen:
    """``classes``: how many classes of packets the machine tells apart; ``asked``: of so many a member was compared with
    the kernel's own word; ``differing``: where that was another. ``beside``: what leaves beside its tunnel. ``undecided``:
    what could not be known. ``sockets``: bound or marked ones that are not the tunnels' own.
    """

    classes: int = 0
    asked: int = 0
    differing: tuple[str, ...] = ()
    beside: tuple[Beside, ...] = ()
    undecided: tuple[str, ...] = ()
    sockets: tuple[BoundSocket, ...] = ()
    summaries: tuple[WaySummary, ...] = ()

    @property
    def is_decided(self) -> bool:
        """Whether the map knows every class, and the kernel agrees."""
        return bool(self.classes) and not self.undecided and not self.differing

    def document(self) -> dict[str, Any]:
        return asdict(self)
