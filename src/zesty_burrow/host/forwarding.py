"""Whether this machine's kernel passes packets on between its devices."""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path

SETTINGS = {4: "net.ipv4.ip_forward", 6: "net.ipv6.conf.all.forwarding"}
"""By version of IP, as the kernel calls them."""


def is_forwarding(version: int) -> bool:
    """For all devices; a kernel that does not say it (without IPv6) does not forward."""
    with suppress(OSError):
        return Path("/proc/sys", SETTINGS[version].replace(".", "/")).read_text().strip() != "0"
    return False
