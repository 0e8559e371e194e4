"""The system's resolver settings (resolv.conf)."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from contextlib import suppress
from ipaddress import ip_address
from pathlib import Path

from zesty_burrow.core.net import Address

RESOLV_CONF = Path("/etc/resolv.conf")
MAX_SERVERS = 3
MAX_SUFFIXES = 6
MAX_FILE = 1 << 20


def resolver_text(servers: Sequence[Address], suffixes: Sequence[str]) -> bytes:
    """The file's content; the resolver of the C library reads three servers and six suffixes."""
    lines = ["# Written by zesty for as long as a tunnel is up; `zesty restore` puts the old content back."]
    lines += [f"nameserver {server}" for server in servers[:MAX_SERVERS]]
    if suffixes:
        lines.append("search " + " ".join(suffixes[:MAX_SUFFIXES]))
    return ("\n".join(lines) + "\n").encode()


def word_lines(octets: bytes) -> Iterable[list[str]]:
    """The words of each line of a file of settings that has some, comments aside."""
    for line in octets[:MAX_FILE].decode("utf-8", "replace").splitlines():
        words = line.partition("#")[0].split()
        if words:
            yield words


def servers_in(octets: bytes) -> tuple[Address, ...]:
    """The name servers that such a file names."""
    addresses: list[Address] = []
    for words in word_lines(octets):
        if words[0] == "nameserver":
            with suppress(ValueError, IndexError):
                addresses.append(ip_address(words[1]))
    return tuple(addresses)


def suffixes_in(octets: bytes) -> tuple[str, ...]:
    """The suffixes that such a file has names completed with; the last line counts."""
    found: tuple[str, ...] = ()
    for words in word_lines(octets):
        if words[0] in ("search", "domain"):
            found = tuple(words[1:])
    return found
