"""Who is asked for names on this machine, and by which way: values for judging, showing and keeping."""

from __future__ import annotations

from typing import Any

from zesty_burrow.records import asdict, dataclass


@dataclass(frozen=True, slots=True)
class NameServer:
    """``source``: where it is named; ``devices``: by which packets to its port 53 leave, none: they are rejected, or
    stay here (``is_here``); ``listener``: the process that answers on this machine.
    """

    address: str
    source: str
    devices: tuple[str, ...] = ()
    is_here: bool = False
    listener: str = ""


@dataclass(frozen=True, slots=True)
class ProxySet:
    """A proxy in the environment, without its credentials. ``devices``: as of a name server."""

    variable: str
    host: str
    port: int
    devices: tuple[str, ...] = ()
    is_here: bool = False


@dataclass(frozen=True, slots=True)
class NamesSeen:
    """``order``: what the C library asks, as its file says; ``suffixes``: names are completed with; ``hosts``: names
    that a file answers, with their addresses; ``browsers``: encrypted resolvers that browsers' files name.
    """

    order: tuple[str, ...] = ()
    servers: tuple[NameServer, ...] = ()
    suffixes: tuple[str, ...] = ()
    hosts: tuple[tuple[str, str], ...] = ()
    proxies: tuple[ProxySet, ...] = ()
    browsers: tuple[tuple[str, str], ...] = ()

    def document(self) -> dict[str, Any]:
        return asdict(self)
