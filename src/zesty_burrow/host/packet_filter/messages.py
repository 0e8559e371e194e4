"""Netlink messages of the kernel's packet filter: several changes that take effect at once, or not at all.

Numbers are those of the kernel's public headers linux/netfilter/nf_tables.h and nfnetlink.h.
"""

from __future__ import annotations

import errno
import os
import select
import socket
import struct
from collections.abc import Sequence
from contextlib import suppress

from zesty_burrow.errors import MachineError, RightsMissing
from zesty_burrow.host.netlink_messages import (
    ACK,
    DUMP,
    NLMSG_ERROR,
    ROOM,
    answers,
    attribute,
    attributes,
    message,
    open_channel,
    raise_refusal,
    split,
)

NETLINK_NETFILTER = 12
SUBSYSTEM = 10
BATCH_BEGIN, BATCH_END = 0x10, 0x11
NEW_TABLE, GET_TABLE, DELETE_TABLE = 0, 1, 2
NEW_CHAIN, GET_CHAIN, DELETE_CHAIN = 3, 4, 5
NEW_RULE, GET_RULE, DELETE_RULE = 6, 7, 8
NEW_SET, GET_SET, NEW_ELEMENT, GET_ELEMENT, DELETE_ELEMENT = 9, 10, 12, 13, 14
NEW_GENERATION = 15
NEW_OBJECT, GET_OBJECT = 18, 19
INET, IPV4, NETDEV, IPV6 = 1, 2, 5, 10
"""Families as nf_tables numbers them: IPv4 and IPv6 at once, IPv4, frames at a device, IPv6."""

Body = tuple[int, int, bytes]
"""A change: kind of message, flags, attributes."""
FamilyBody = tuple[int, Body]
"""A change of one family's tables."""


def number(kind: int, value: int, octets: int = 4) -> bytes:
    """A number in network order."""
    return attribute(kind, value.to_bytes(octets, signed=value < 0))


def _message(kind: int, flags: int, sequence: int, family: int, body: bytes, resource: int = 0) -> bytes:
    content = struct.pack("=BB", family, 0) + resource.to_bytes(2) + body
    return message(kind, flags, sequence, content)


class FilterSocket:
    """A netlink socket to the packet filter of the network namespace that it is first used in.

    It stays open: the kernel makes a process that closes one wait until what was removed last is really gone.
    """

    def __init__(self) -> None:
        self._channel: socket.socket | None = None
        self._process = 0

    def transact(self, family: int, bodies: Sequence[Body], what: str) -> None:
        """All changes of one family at once, or none. Errors as :meth:`commit` raises them."""
        self.commit([(family, body) for body in bodies], what)

    def commit(self, bodies: Sequence[FamilyBody], what: str) -> None:
        """All changes at once, or none. :class:`RightsMissing` or :class:`MachineError`, which begin with ``what``."""
        messages = [_message(BATCH_BEGIN, 0, 0, 0, b"", SUBSYSTEM)]
        messages += [
            _message(SUBSYSTEM << 8 | kind, flags | ACK, sequence, family, body)
            for sequence, (family, (kind, flags, body)) in enumerate(bodies, start=1)
        ]
        messages.append(_message(BATCH_END, 0, len(bodies) + 1, 0, b"", SUBSYSTEM))
        try:
            channel = self._open()
            channel.sendto(b"".join(messages), (0, 0))
            waiting = len(bodies)
            while waiting:
                for kind, content in split(channel.recv(ROOM)):
                    if kind == NLMSG_ERROR:
                        raise_refusal(content)
                        waiting -= 1
        except OSError as problem:
            self._drain()
            raise refusal(problem, what) from None

    def ask(self, kind: int, family: int, body: bytes, what: str, *, every: bool = False) -> list[dict[int, bytes]]:
        """What the kernel has: the attributes of one thing, or of each. Empty where it does not exist."""
        try:
            channel = self._open()
            channel.sendto(_message(SUBSYSTEM << 8 | kind, DUMP if every else ACK, 1, family, body), (0, 0))
            return [attributes(content[4:]) for _, content in answers(channel)]
        except FileNotFoundError:
            return []
        except OSError as problem:
            self._drain()
            raise refusal(problem, what) from None

    @property
    def port(self) -> int:
        """The address by which the kernel knows this socket as a table's owner; 0 before it is first used."""
        return int(self._channel.getsockname()[0]) if self._channel is not None else 0

    def _drain(self) -> None:
        """Read the answers that nobody waits for any more.

        The socket stays open after an error: the kernel takes a closed socket's tables for abandoned.
        """
        if self._channel is None:
            return
        with suppress(OSError):
            # A socket with a timeout waits for all of it, even with MSG_DONTWAIT.
            while select.select([self._channel], [], [], 0)[0]:
                self._channel.recv(ROOM)

    def close(self) -> None:
        """Close it; the next call opens another."""
        if self._channel is not None:
            self._channel.close()
            self._channel = None

    def _open(self) -> socket.socket:
        """A child process has one of its own, as answers on a shared one would go to either."""
        if self._channel is None or self._process != os.getpid():
            self._channel, self._process = open_channel(NETLINK_NETFILTER), os.getpid()
        return self._channel


def refusal(problem: OSError, what: str) -> MachineError:
    """Why the kernel did not take a change."""
    if problem.errno in (errno.EPERM, errno.EACCES):
        return RightsMissing(f"{what} is not allowed", why="it needs CAP_NET_ADMIN, or another process owns the table")
    missing = problem.errno in (errno.EPROTONOSUPPORT, errno.EAFNOSUPPORT, errno.EOPNOTSUPP, errno.ENOENT)
    why = "the kernel has no packet filter (nf_tables)" if missing else problem.strerror or str(problem)
    step = "Load it: modprobe nf_tables nft_reject_inet nft_chain_nat; the kernel needs CONFIG_NF_TABLES_INET."
    error = MachineError(f"{what} failed", why=why, next_step=step, slug="packet-filter-missing")
    error.number = problem.errno or 0
    return error
