"""Who is asked for names on this machine, and by which way the questions go."""

from __future__ import annotations

import socket
from collections.abc import Mapping
from contextlib import suppress
from ipaddress import ip_address
from pathlib import Path

from zesty_burrow.core.net import UDP
from zesty_burrow.core.ways_out.names_seen import NameServer, NamesSeen, ProxySet
from zesty_burrow.host.names.name_ways import (
    ProxyNamed,
    ServerNamed,
    browser_resolvers,
    hosts_named,
    lookup_order,
    proxies_named,
    servers_named,
    suffixes_named,
)
from zesty_burrow.host.ways_out.look import Answers, Towards
from zesty_burrow.host.ways_out.sockets import processes_of, sockets
from zesty_burrow.records import dataclass

DNS_PORT = 53


@dataclass(frozen=True, slots=True)
class NamesNamed:
    """What the machine's files and the environment say."""

    order: tuple[str, ...]
    servers: tuple[ServerNamed, ...]
    suffixes: tuple[str, ...]
    hosts: tuple[tuple[str, str], ...]
    proxies: tuple[ProxyNamed, ...]
    browsers: tuple[tuple[str, str], ...]


def read_names(environment: Mapping[str, str]) -> NamesNamed:
    """As it is now. ``environment``: of the programs whose proxies are looked at."""
    return NamesNamed(
        lookup_order(),
        servers_named(),
        suffixes_named(),
        hosts_named(own=socket.gethostname()),
        proxies_named(environment),
        browser_resolvers(Path.home()),
    )


def is_address(word: str) -> bool:
    with suppress(ValueError):
        return bool(ip_address(word))
    return False


def names_seen(names: NamesNamed, answers: Answers) -> NamesSeen:
    """With the ways of the questions, as the map of all ways out has them."""
    servers = []
    for server in names.servers:
        devices, here = answers.get(Towards(ip_address(server.address), UDP, DNS_PORT), ((), False))
        servers.append(
            NameServer(server.address, server.source, devices, here, _listener(server.address) if here else "")
        )
    proxies = []
    for proxy in names.proxies:
        found = [row for place, row in answers.items() if str(place.address) == proxy.host and place.port == proxy.port]
        devices, here = found[0] if found else ((), False)
        proxies.append(ProxySet(proxy.variable, proxy.host, proxy.port, devices, here))
    return NamesSeen(names.order, tuple(servers), names.suffixes, names.hosts, tuple(proxies), names.browsers)


def _listener(address: str) -> str:
    """The process that answers questions for names at an address of this machine."""
    rows = [row for row in sockets() if row.protocol == UDP and row.local[1] == DNS_PORT]
    mine = [row for row in rows if row.local[0] in (address, "0.0.0.0", "::")]  # noqa: S104
    return ", ".join(sorted(processes_of(row.inode for row in mine).values()))
