"""The system's resolver settings (resolv.conf), changed through the journal."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from zesty_burrow.core.net import Address
from zesty_burrow.host.journal.journal import Journal

RESOLV_CONF = Path("/etc/resolv.conf")
MAX_SERVERS = 3
MAX_SUFFIXES = 6


def resolver_text(servers: Sequence[Address], suffixes: Sequence[str]) -> bytes:
    """The file's content; the resolver of the C library reads three servers and six suffixes."""
    lines = ["# Written by zesty for as long as the tunnel is up; `zesty restore` puts the old content back."]
    lines += [f"nameserver {server}" for server in servers[:MAX_SERVERS]]
    if suffixes:
        lines.append("search " + " ".join(suffixes[:MAX_SUFFIXES]))
    return ("\n".join(lines) + "\n").encode()


def use_name_servers(journal: Journal, servers: Sequence[Address], suffixes: Sequence[str]) -> None:
    """Let the whole machine ask these servers."""
    journal.write_file(RESOLV_CONF, resolver_text(servers, suffixes))
