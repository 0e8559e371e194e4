"""Hands a tunnel's name servers to systemd-resolved over D-Bus, where that answers this machine's questions for names.

Its stub, or its module for the C library, would be asked whatever resolv.conf says. It keeps servers by link: those of
a device go with the device, whatever becomes of our process (its D-Bus interface is described in
org.freedesktop.resolve1(5)).
"""

from __future__ import annotations

import socket
from collections.abc import Iterable
from contextlib import suppress
from ipaddress import ip_address
from pathlib import Path
from typing import TYPE_CHECKING

from zesty_burrow.core.net import Address
from zesty_burrow.errors import MachineError
from zesty_burrow.host.bus.calls import Call, Service, call_service
from zesty_burrow.host.names.resolv_conf import word_lines

if TYPE_CHECKING:
    from zesty_burrow.host.names.names_record import Layer

STUBS = (ip_address("127.0.0.53"), ip_address("127.0.0.54"))
NSSWITCH = Path("/etc/nsswitch.conf")
MANAGER = Service("org.freedesktop.resolve1", "/org/freedesktop/resolve1", "org.freedesktop.resolve1.Manager")
TIMEOUT = 3.0
"""Seconds for one call."""
MAX_DOMAINS = 64
EVERY_NAME = "."


class Resolved:
    """systemd-resolved as it runs. ``alone``: everybody asks its stub, so that the resolver file stays as it is."""

    def __init__(self, *, alone: bool) -> None:
        self.alone = alone
        self._in_use = 0

    def use(self, device: str, layer: Layer) -> None:
        """Questions for this tunnel's names, or for all names, go to its servers. Raises :class:`MachineError`."""
        index = _index(device)
        servers = [
            (socket.AF_INET if server.version == 4 else socket.AF_INET6, server.packed) for server in layer.servers
        ]
        every = not layer.zones
        domains = [(suffix, False) for suffix in layer.suffixes]
        domains += [(EVERY_NAME, True)] if every else [(zone, True) for zone in layer.zones]
        self._in_use = index
        _call(
            ("SetLinkDNS", "ia(iay)", (index, servers)),
            ("SetLinkDomains", "ia(sb)", (index, domains[:MAX_DOMAINS])),
            ("SetLinkDefaultRoute", "ib", (index, every)),
            ("FlushCaches", "", ()),
        )

    def put_back(self) -> None:
        """Take the settings back. Where that fails they go with the device."""
        if self._in_use:
            with suppress(MachineError):
                _call(("RevertLink", "i", (self._in_use,)), ("FlushCaches", "", ()))
            self._in_use = 0


def find_resolved(servers: Iterable[Address], nsswitch: Path = NSSWITCH) -> Resolved | None:
    """It, where it is asked: by its stub among the resolver file's ``servers``, or by the C library; and answers."""
    known = tuple(servers)
    alone = bool(known) and all(one in STUBS for one in known)
    if not alone and not _in_nsswitch(nsswitch):
        return None
    try:
        _call(("FlushCaches", "", ()))
    except MachineError:
        return None
    return Resolved(alone=alone)


def _in_nsswitch(path: Path) -> bool:
    """Whether the C library asks it, by the line for hosts (nsswitch.conf(5))."""
    with suppress(OSError):
        return any(words[0] == "hosts:" and "resolve" in words for words in word_lines(path.read_bytes()))
    return False


def _index(device: str) -> int:
    try:
        return socket.if_nametoindex(device)
    except OSError as problem:
        raise MachineError(f"the device {device} is gone", why=str(problem)) from None


def _call(*calls: Call) -> None:
    """One after the other; :class:`MachineError` where one is not answered in time, or refused."""
    try:
        call_service("SYSTEM", MANAGER, *calls, timeout=TIMEOUT)
    except OSError as problem:
        raise _refused(str(problem)) from None


def _refused(why: str) -> MachineError:
    return MachineError(
        "systemd-resolved did not take the tunnel's name servers",
        why=why,
        next_step="See `systemctl status systemd-resolved`.",
        slug="resolved-refused",
    )
