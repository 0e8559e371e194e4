"""What a tunnel has counted over all its sessions."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from zesty_burrow.protocols.session import AnyChannel, ChannelCounters
from zesty_burrow.records import asdict, dataclass

COUNTED = ("packets_in", "octets_in", "packets_out", "octets_out", "rejected")


@dataclass(slots=True)
class Totals:
    """Of channels that are gone; and how often keys, sessions, addresses and sign-ins were renewed."""

    packets_in: int = 0
    octets_in: int = 0
    packets_out: int = 0
    octets_out: int = 0
    rejected: int = 0
    rekeys: int = 0
    reconnects: int = 0
    address_changes: int = 0
    sign_ins_repeated: int = 0

    def retire(self, counters: ChannelCounters) -> None:
        for name in COUNTED:
            setattr(self, name, getattr(self, name) + getattr(counters, name))

    def with_channels(self, channels: Iterable[AnyChannel]) -> dict[str, Any]:
        """All of it as plain values, with what the present channels have counted."""
        found = asdict(self)
        for channel in channels:
            counters = channel.counters
            for name in COUNTED:
                found[name] += getattr(counters, name)
        return found
