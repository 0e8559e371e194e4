"""The SSH session from which this process was started, if any: a closed guard would cut it."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from contextlib import suppress
from ipaddress import ip_address
from pathlib import Path

from zesty_burrow.core.net import Address
from zesty_burrow.records import dataclass

VARIABLE = "SSH_CONNECTION"
"""Set by sshd(8): the client's address and port, this machine's address and port."""
MOST_ANCESTORS = 64
LONGEST = 1 << 20


@dataclass(frozen=True, slots=True)
class RemoteSession:
    """``peer``: the address at the other end; ``port``: this machine's TCP port."""

    peer: Address
    port: int


def remote_session(environment: Mapping[str, str], process: str = "self") -> RemoteSession | None:
    """The session by the environment, or by that of the processes above ``process``: sudo hides it from its
    children.
    """
    for values in (environment.get(VARIABLE, ""), *_of_ancestors(process)):
        if (session := parse(values)) is not None:
            return session
    return None


def parse(text: str) -> RemoteSession | None:
    """What the variable says; None where it says nothing that can be understood, or names this machine itself."""
    words = text.split()
    if len(words) != 4 or not words[3].isdecimal():
        return None
    try:
        peer = ip_address(words[0].partition("%")[0])
    except ValueError:
        return None
    mapped = getattr(peer, "ipv4_mapped", None)
    peer = mapped or peer
    port = int(words[3])
    return RemoteSession(peer, port) if 0 < port < 65536 and not peer.is_loopback else None


def _of_ancestors(process: str) -> Iterator[str]:
    for _ in range(MOST_ANCESTORS):
        with suppress(OSError), Path(f"/proc/{process}/environ").open("rb") as stream:
            for entry in stream.read(LONGEST).split(b"\0"):
                name, _, value = entry.partition(b"=")
                if name == VARIABLE.encode():
                    yield value.decode("utf-8", "replace")
        try:
            # The name in parentheses may hold anything, so what follows the last one counts (proc_pid_stat(5)).
            rest = Path(f"/proc/{process}/stat").read_text("utf-8", "replace").rpartition(")")[2].split()
        except OSError:
            return
        process = rest[1]
        if process == "0":
            return
