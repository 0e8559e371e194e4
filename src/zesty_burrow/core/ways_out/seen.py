"""What a look at a machine's ways out has shown: values for judging, showing and keeping."""

from __future__ import annotations

from collections.abc import Mapping
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
    """A socket whose program has named a device, or has marked it. ``local``, ``remote``: address and port;
    ``process``: name and number, empty where it is not known.
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
    """``classes``: how many classes of packets the machine tells apart; ``asked``: of so many a member was compared
    with the kernel's own word; ``differing``: where that was another. ``beside``: what leaves beside its tunnel.
    ``undecided``: what could not be known. ``sockets``: bound or marked ones that are not the tunnels' own. ``misled``:
    tunnels that take what they are to leave beside them.
    """

    classes: int = 0
    asked: int = 0
    differing: tuple[str, ...] = ()
    beside: tuple[Beside, ...] = ()
    undecided: tuple[str, ...] = ()
    sockets: tuple[BoundSocket, ...] = ()
    summaries: tuple[WaySummary, ...] = ()
    misled: tuple[str, ...] = ()
    allowed: tuple[str, ...] = ()

    @property
    def is_decided(self) -> bool:
        """Whether the map knows every class, and the kernel agrees."""
        return bool(self.classes) and not self.undecided and not self.differing

    def document(self) -> dict[str, Any]:
        return asdict(self)


@dataclass(frozen=True, slots=True)
class UnexplainedPackets:
    """Packets of one sender to one place that nothing explains. ``first``, ``last``: ISO 8601; ``source``,
    ``destination``: address and port; ``packets``: how many; ``process``: name and number as far as the kernel could
    tell; ``what``: for frames that hold no packet that could be read.
    """

    device: str
    protocol: str
    source: str
    destination: str
    packets: int
    octets: int
    first: str
    last: str
    process: str = ""
    what: str = ""

    @property
    def words(self) -> str:
        """For people."""
        by = f", by {self.process}" if self.process else ""
        where = f"{self.protocol} {self.source} > {self.destination}" if not self.what else self.what
        packets = f"{self.packets} packet{'' if self.packets == 1 else 's'}"
        return f"{packets} by {self.device}: {where}{by}, first at {self.first}"


@dataclass(frozen=True, slots=True)
class WatchSeen:
    """``since``: ISO 8601; ``seconds``: how long; ``devices``: where. ``packets``: how many unexplained ones in all,
    more than are listed where they have many senders. ``lost``: captures that the kernel dropped; ``blind``: why it was
    not possible to watch, empty where it was.
    """

    since: str = ""
    seconds: float = 0.0
    devices: tuple[str, ...] = ()
    unexplained: tuple[UnexplainedPackets, ...] = ()
    packets: int = 0
    lost: int = 0
    blind: str = ""

    def document(self) -> dict[str, Any]:
        return asdict(self)

    @classmethod
    def of(cls, document: Mapping[str, Any]) -> WatchSeen:
        """From what ``document`` gave and JSON carried."""
        rows = tuple(UnexplainedPackets(**row) for row in document["unexplained"])
        return cls(**{**document, "unexplained": rows, "devices": tuple(document["devices"])})
