"""What is known of the guard, and how: what was measured in the kernel and when, beside what is meant."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import UTC, datetime
from enum import StrEnum
from typing import Any

from zesty_burrow.core.net import GRE, TCP, UDP
from zesty_burrow.host.guard.plan import EVERYTHING, Opening, Share
from zesty_burrow.host.guard.probe_result import ProbeResult
from zesty_burrow.host.guard.tables.allow_list import (
    ADDRESSES,
    INSIDE,
    LEFT_OUT,
    LOCAL,
    NEIGHBOURS,
    PORTAL,
    SESSION,
    TUNNEL,
)
from zesty_burrow.host.guard.tables.kernel import Count
from zesty_burrow.records import dataclass, field

NOTHING = Share((), "")
PROTOCOL_NAMES = {UDP: "UDP", TCP: "TCP", GRE: "GRE"}


def timestamp() -> str:
    """The time of day, ISO 8601."""
    return datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


class Measured(StrEnum):
    """What a look at the kernel's tables has shown."""

    AS_INTENDED = "as intended"
    DIFFERENT = "different"
    MISSING = "missing"
    ABSENT = "absent"
    UNKNOWN = "unknown"


class ServiceState(StrEnum):
    """What is known of the process that owns the tables."""

    ANSWERS = "answers"
    NOT_RUNNING = "not running"
    SILENT = "does not answer"
    OTHER_USER = "another user's"


@dataclass(frozen=True, slots=True)
class GuardEvent:
    """Something that happened to the guard's tables. ``at``: ISO 8601; ``process``: whose change it was, as the kernel
    tells it, or empty.
    """

    at: str
    what: str
    process: str = ""


@dataclass(frozen=True, slots=True)
class GuardState:
    """``measured``, ``at``: what a look at the kernel has shown, and when (ISO 8601, empty: nobody has looked).
    ``why``: why that is not known, or how the kernel differs. ``shares``: those that hold something, by key, as they
    are meant; ``whole``: all together, with those of tunnels that hold nothing.

    ``record_damaged``: why the record is none, empty where it is one.

    ``owned``: no other process may change the tables; None where nobody has looked. ``devices``: with a chain of their
    own; ``without``: outer devices without one; ``why_without``: why not.
    """

    measured: Measured
    at: str = ""
    why: tuple[str, ...] = ()
    shares: Mapping[str, Share] = field(default_factory=dict)
    counts: Mapping[str, Count] = field(default_factory=dict)
    egress_counts: Mapping[str, Count] = field(default_factory=dict)
    portal: Mapping[int, int] = field(default_factory=dict)
    record_damaged: str = ""
    service: ServiceState = ServiceState.NOT_RUNNING
    process: int = 0
    owned: bool | None = None
    devices: tuple[str, ...] = ()
    without: tuple[str, ...] = ()
    why_without: str = ""
    events: tuple[GuardEvent, ...] = ()
    probe: ProbeResult | None = None
    whole: Share = NOTHING

    @property
    def in_force(self) -> bool | None:
        """Whether the kernel was seen to hold what is meant to be held; None where nobody could look."""
        if self.measured is Measured.UNKNOWN:
            return None
        return self.measured is Measured.AS_INTENDED

    @property
    def everything(self) -> bool:
        """Whether it is to hold all traffic, and not only some networks."""
        return any(network in EVERYTHING for share in self.shares.values() for network in share.held)

    def lets_through(self) -> list[dict[str, str]]:
        """What may leave, one thing each: the name of its counter, and in words what it is."""
        share = self.whole
        found = [{"counter": TUNNEL, "what": f"{_named(opening)}, from its own sockets"} for opening in share.openings]
        found += [{"counter": INSIDE, "what": f"anything into {device}"} for device in share.devices]
        found += [
            {"counter": INSIDE, "what": f"names asked of {address} by {device}"} for device, address in share.servers
        ]
        found += [
            {"counter": SESSION, "what": f"answers from TCP port {port} to {address}"} for address, port in share.peers
        ]
        found += [{"counter": LOCAL, "what": f"{network} by {device}"} for device, network in share.local]
        found += [{"counter": LEFT_OUT, "what": str(network)} for network in share.left_out]
        found.append({"counter": NEIGHBOURS, "what": "neighbour discovery"})
        found.append({"counter": ADDRESSES, "what": "DHCP"})
        for user, seconds in self.portal.items():
            found.append({"counter": PORTAL, "what": f"web pages and names of user {user}, for {seconds} s"})
        return found

    def document(self) -> dict[str, Any]:
        return {
            "in_force": self.in_force,
            "measured": str(self.measured),
            "measured_at": self.at,
            "why": list(self.why),
            "since": min((share.since for share in self.shares.values()), default=""),
            "held_by": [
                {
                    "what": share.what,
                    "since": share.since,
                    "why": share.why,
                    "held": [str(one) for one in share.held],
                    "confirm_by": share.confirm_by,
                }
                for share in self.shares.values()
            ],
            "counted": _counted(self.counts),
            "counted_at_devices": _counted(self.egress_counts),
            "portal": [{"user": user, "seconds": seconds} for user, seconds in self.portal.items()],
            "record": self.record_damaged or "read",
            "service": {"state": str(self.service), "process": self.process, "owns_the_table": self.owned},
            "devices": list(self.devices),
            "devices_without": list(self.without),
            "why_without": self.why_without,
            "events": [{"at": event.at, "what": event.what, "process": event.process} for event in self.events],
            "probe": self.probe.document() if self.probe is not None else None,
        }


def _counted(counts: Mapping[str, Count]) -> dict[str, dict[str, int]]:
    return {name: {"packets": one.packets, "octets": one.octets} for name, one in counts.items()}


def _named(opening: Opening) -> str:
    """Address, protocol and port, in words."""
    address, protocol, port = opening
    name = PROTOCOL_NAMES.get(protocol, f"IP protocol {protocol}")
    by_port = f" port {port}" if port else " to any port" if protocol in (UDP, TCP) else ""
    return f"{address} {name}{by_port}"
