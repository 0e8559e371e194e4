"""Looks up a gateway's name behind the guard: by questions of our own, which alone may leave for the name servers that
this machine had before there was a tunnel.
"""

from __future__ import annotations

import ipaddress
import secrets
import socket
import time
from collections.abc import Iterable, Sequence
from contextlib import suppress
from pathlib import Path

from zesty_burrow.carrier.network.addresses import unresolved
from zesty_burrow.carrier.ports.udp_socket import mark_socket
from zesty_burrow.core.dns.question import AAAA, A, build_query, read_addresses_untrusted
from zesty_burrow.core.net import Address, is_host
from zesty_burrow.errors import Malformed
from zesty_burrow.host.names.names_record import NamesRecord
from zesty_burrow.host.names.resolv_conf import MAX_FILE, servers_in, word_lines

HOSTS = Path("/etc/hosts")
BEHIND_STUB = Path("/run/systemd/resolve/resolv.conf")
"""Where systemd-resolved writes the servers that its stub on this machine asks (its manual page)."""
PORT = 53
TRIES, PATIENCE = 3, 1.5
"""How often a question is asked of each server, and the seconds between: any packet can get lost."""
MAX_ANSWER = 4096


def outer_servers(names: NamesRecord) -> tuple[Address, ...]:
    """The name servers that this machine has without a tunnel; not programs of its own, which the guard would not let
    ask.
    """
    found, _ = names.before()
    if all(one.is_loopback for one in found):
        found = servers_in(_octets(BEHIND_STUB)) or found
    return tuple(one for one in found if not one.is_loopback)


def _octets(path: Path) -> bytes:
    with suppress(OSError), path.open("rb") as stream:
        return stream.read(MAX_FILE)
    return b""


def _addresses(words: Iterable[str]) -> list[Address]:
    addresses: list[Address] = []
    for word in words:
        with suppress(ValueError):
            addresses.append(ipaddress.ip_address(word))
    return addresses


def look_up_outside(names: Sequence[str], servers: Sequence[Address]) -> list[str]:
    """The addresses of names, in their order, as ``/etc/hosts`` or these servers have them.

    Raises :class:`GatewayUnreachable`.
    """
    found: list[str] = []
    problems: list[str] = []
    for name in names:
        known = _addresses([name]) or _in_hosts(name) or _ask(name, servers)
        found += map(str, known)
        if not known:
            asked = ", ".join(map(str, servers))
            problems.append(f"{name}: " + (f"no address from {asked}" if asked else "this machine has no name server"))
    if not found:
        raise unresolved("; ".join(problems))
    return list(dict.fromkeys(found))


def _in_hosts(name: str) -> list[Address]:
    wanted = name.rstrip(".").lower()
    rows = [words for words in word_lines(_octets(HOSTS)) if wanted in (word.lower() for word in words[1:])]
    return [address for words in rows for address in _addresses(words[:1])]


def _ask(name: str, servers: Sequence[Address]) -> list[Address]:
    """Both families, each from the first server that answers; where one has an address, the other is not waited for."""
    answers: dict[int, list[Address]] = {}
    for _ in range(TRIES):
        for server in servers:
            for kind in (A, AAAA):
                found = _question(name, kind, server) if kind not in answers else None
                if found is not None:
                    answers[kind] = [address for address in found if is_host(address)]
            if len(answers) == 2 or any(answers.values()):
                return [address for kind in (A, AAAA) for address in answers.get(kind, ())]
    return []


def _question(name: str, kind: int, server: Address) -> list[Address] | None:
    """What a server says; None where it is silent or says nothing that can be read."""
    try:
        query = build_query(secrets.randbits(16), name, kind)
    except Malformed:
        return []
    family = socket.AF_INET if server.version == 4 else socket.AF_INET6
    with suppress(OSError), socket.socket(family, socket.SOCK_DGRAM | socket.SOCK_CLOEXEC) as channel:
        mark_socket(channel)
        channel.connect((str(server), PORT))
        channel.send(query)
        until = time.monotonic() + PATIENCE
        while (left := until - time.monotonic()) > 0:
            channel.settimeout(left)
            data = channel.recv(MAX_ANSWER)
            with suppress(Malformed):
                return read_addresses_untrusted(data, query)
    return None
