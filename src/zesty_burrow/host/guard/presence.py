"""Whether the kernel has the guard's table. Light to load: every look at the status needs it."""

from __future__ import annotations

from zesty_burrow.host.netlink_messages import text
from zesty_burrow.host.packet_filter.messages import GET_TABLE, INET, FilterSocket

TABLE = "zesty_guard"


def is_in_force(channel: FilterSocket | None = None) -> bool:
    """Whether the kernel has the guard's table. :class:`RightsMissing` where it may not be asked."""
    return bool((channel or FilterSocket()).ask(GET_TABLE, INET, text(1, TABLE), "asking for the guard"))
