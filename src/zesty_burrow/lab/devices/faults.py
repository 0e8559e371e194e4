"""What every device of the lab can do wrong: be in no network, and have a clock that is off."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from pathlib import Path

from zesty_burrow.host.netlink import RT_TABLE_MAIN, Netlink, Route
from zesty_burrow.host.replace_file import replace_file
from zesty_burrow.lab import story

_SHIFTED = """\
import datetime, time
_off, _time, _real = {off}, time.time, datetime.datetime


class _Datetime(_real):
    @classmethod
    def now(cls, tz=None):
        return cls.fromtimestamp(_time() + _off, tz)


time.time = lambda: _time() + _off
datetime.datetime = _Datetime
"""
"""What Python runs at its start where it finds it: the programs of the device have its clock then."""


def now(faults: frozenset[str]) -> datetime:
    """By a device's clock."""
    days = story.CLOCK_OFF_DAYS if story.CLOCK_OFF in faults else 0
    return datetime.now(UTC) + timedelta(days=days)


def clock_folder(home: Path) -> Path:
    """Where a device keeps what shifts the clock of its programs (for ``PYTHONPATH``); it is there where it is off."""
    return home / "clock"


def set_clock(home: Path, faults: frozenset[str]) -> None:
    """Of the programs that start from now on with :func:`clock_folder` in their path."""
    path = clock_folder(home) / "sitecustomize.py"
    if story.CLOCK_OFF in faults:
        path.parent.mkdir(mode=0o700, exist_ok=True)
        replace_file(path, _SHIFTED.format(off=story.CLOCK_OFF_DAYS * 86400).encode(), 0o600)
    else:
        path.unlink(missing_ok=True)


def set_network(name: str, before: frozenset[str], faults: frozenset[str]) -> None:
    """Take a device's only wire down, or up again. For a process in its network namespace."""
    with Netlink() as netlink:
        if story.OFFLINE in faults:
            netlink.set_link("wan", state="down")
        elif story.OFFLINE in before:
            netlink.set_link("wan", state="up")
            # The kernel forgets routes, and addresses of IPv6, when a device goes down.
            port = next(link.other for link in story.links() if link.other.host == name)
            for address in set(port.addresses) - set(netlink.addresses(port.device)):
                netlink.add_address(port.device, address)
            for destination, gateway in port.routes:
                netlink.add_route(Route(destination, RT_TABLE_MAIN, port.device, gateway))
