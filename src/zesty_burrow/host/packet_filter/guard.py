"""The guard of this machine: a record of who holds it closed, and the packet filter's table that does it.

The record is written before the table is tightened, so that somebody who finds the table knows whose it is; whether the
table is there is always asked of the kernel.
"""

from __future__ import annotations

import fcntl
import json
import os
import struct
import sys
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from zesty_burrow.core.net import GRE, TCP, UDP
from zesty_burrow.errors import DiskFull, MachineError, RightsMissing, StateError
from zesty_burrow.host.journal.lock import boot_id, is_held, open_journal
from zesty_burrow.host.namespaces import network_identity
from zesty_burrow.host.netlink_messages import attribute_rows, attributes, text
from zesty_burrow.host.packet_filter import guard_rules
from zesty_burrow.host.packet_filter.guard_plan import EVERYTHING, Opening, Share, together
from zesty_burrow.host.packet_filter.guard_rules import (
    ADDRESSES,
    INSIDE,
    LEFT_OUT,
    LOCAL,
    NEIGHBOURS,
    PORTAL,
    TUNNEL,
)
from zesty_burrow.host.packet_filter.messages import GET_ELEMENT, GET_OBJECT, GET_TABLE, INET, FilterSocket
from zesty_burrow.host.replace_file import replace_file

PROTOCOL_NAMES = {UDP: "UDP", TCP: "TCP", GRE: "GRE"}
BY_USER = "user"
"""The key of the share that the user has set, with or without a tunnel; a tunnel's is its own."""
WHAT = "the guard"
NOTHING = Share((), "")


def _named(opening: Opening) -> str:
    """Address, protocol and port, in words."""
    address, protocol, port = opening
    name = PROTOCOL_NAMES.get(protocol, f"IP protocol {protocol}")
    by_port = f" port {port}" if port else " to any port" if protocol in (UDP, TCP) else ""
    return f"{address} {name}{by_port}"


@dataclass(frozen=True, slots=True)
class Count:
    """Packets and octets of one kind."""

    packets: int
    octets: int


@dataclass(frozen=True, slots=True)
class GuardState:
    """``in_force``: whether the kernel has the table; None where it may not be asked. ``shares``: those that hold
    something, by key; ``whole``: all together.
    """

    in_force: bool | None
    shares: Mapping[str, Share] = field(default_factory=dict)
    counts: Mapping[str, Count] = field(default_factory=dict)
    portal: Mapping[int, int] = field(default_factory=dict)
    whole: Share = NOTHING

    @property
    def everything(self) -> bool:
        """Whether it holds all traffic, and not only some networks."""
        return any(network in EVERYTHING for share in self.shares.values() for network in share.held)

    def lets_through(self) -> list[dict[str, str]]:
        """What may leave, one thing each: the name of its counter, and in words what it is."""
        share = self.whole
        found = [{"counter": TUNNEL, "what": f"{_named(opening)}, from its own sockets"} for opening in share.openings]
        found += [{"counter": INSIDE, "what": f"anything into {device}"} for device in share.devices]
        found += [
            {"counter": INSIDE, "what": f"names asked of {address} by {device}"} for device, address in share.servers
        ]
        found += [{"counter": LOCAL, "what": f"{network} by {device}"} for device, network in share.local]
        found += [{"counter": LEFT_OUT, "what": str(network)} for network in share.left_out]
        found.append({"counter": NEIGHBOURS, "what": "neighbour discovery"})
        found.append({"counter": ADDRESSES, "what": "DHCP"})
        for user, seconds in self.portal.items():
            found.append({"counter": PORTAL, "what": f"web pages and names of user {user}, for {seconds} s"})
        return found

    def document(self) -> dict[str, Any]:
        """As plain values."""
        return {
            "in_force": self.in_force,
            "since": min((share.since for share in self.shares.values()), default=""),
            "held_by": [
                {"what": share.what, "since": share.since, "why": share.why, "held": [str(one) for one in share.held]}
                for share in self.shares.values()
            ],
            "counted": {name: {"packets": one.packets, "octets": one.octets} for name, one in self.counts.items()},
            "portal": [{"user": user, "seconds": seconds} for user, seconds in self.portal.items()],
        }


class Guard:
    """The guard whose record is at ``path``. All calls may raise :class:`MachineError` or :class:`StateError`."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._socket = FilterSocket()

    def put(self, key: str, share: Share) -> None:
        """Hold a share closed, in one step. Shares of dead tunnels that it covers are taken over; what others of them
        hold stays closed.
        """
        with self._locked() as shares:
            known_before = dict(shares)
            for other, known in list(shares.items()):
                if other == key or BY_USER in (key, other):
                    continue
                if known.journal == share.journal:
                    # Its tunnel is dead: the journal is ours now.
                    known = replace(known, journal="")
                if _is_living(known):
                    continue
                if share.covers(known):
                    del shares[other]
                else:
                    # What it was killed with stays open for nobody.
                    shares[other] = known.closed(known.why or "its process ended")
            shares[key] = share
            self._write(shares)
            try:
                self._apply(shares, known_before)
            except MachineError:
                # The kernel has taken nothing of it: the record says what is in force still.
                self._write(known_before)
                raise

    def close(self, key: str, why: str) -> bool:
        """A share's tunnel is gone; what it holds stays closed. Whether there is such a share."""
        with self._locked() as shares:
            if key not in shares:
                return False
            before = dict(shares)
            shares[key] = shares[key].closed(why)
            self._write(shares)
            self._apply(shares, before)
        return True

    def drop(self, key: str) -> None:
        """A share that holds nothing is not needed any more."""
        with self._locked() as shares:
            before = dict(shares)
            if shares.pop(key, None) is not None:
                self._write(shares)
                self._apply(shares, before)

    def lift(self, *keys: str) -> list[Share]:
        """Let go of these shares, and of all whose tunnel's process is dead; those that were there."""
        with self._locked() as shares:
            wanted = {*keys, *(key for key, one in shares.items() if key != BY_USER and not _is_living(one))}
            gone = [shares.pop(key) for key in wanted if key in shares]
            self._write(shares)
            self._apply(shares)
        return [share for share in gone if share.held]

    def carried(self, journal: Path | None = None) -> list[Share]:
        """The shares that hold something, and whose tunnel a living process carries: all, or that of one journal."""
        shares = [one for one in self.holders().values() if journal is None or one.journal == str(journal)]
        return [share for share in shares if _is_living(share)]

    def put_back(self) -> bool:
        """Set again what the record says, where the table is missing. Whether that was so."""
        with self._locked() as shares:
            if not _holding(shares) or self.is_in_force():
                return False
            self._apply(shares)
        return True

    def is_missing(self) -> bool:
        """Whether somebody holds it closed, and the kernel does not have it."""
        return bool(self.holders()) and not self.is_in_force()

    def holders(self) -> dict[str, Share]:
        """The shares that hold something."""
        return _holding(self.shares())

    def open_portal(self, user: int, seconds: int) -> None:
        """Let a user's web pages out for so long; 0 ends it."""
        self._socket.transact(INET, guard_rules.portal_opening(user, seconds), "opening the guard for a sign-in page")

    def state(self) -> GuardState:
        """What is recorded, and what the kernel says."""
        shares = self.shares()
        holders, whole = _holding(shares), together(shares.values())
        try:
            in_force = self.is_in_force()
            if not in_force:
                return GuardState(False, holders, whole=whole)
            return GuardState(True, holders, _counts(self._socket), _portal_users(self._socket), whole)
        except RightsMissing:
            return GuardState(None, holders, whole=whole)

    def shares(self) -> dict[str, Share]:
        """The record. What another boot or network namespace has left counts only where the user set it."""
        try:
            descriptor = open_journal(self._path)
        except FileNotFoundError:
            # Also where there is no folder of ours yet.
            return {}
        with os.fdopen(descriptor, "rb") as stream:
            try:
                document = json.loads(stream.read())
                shares = {str(key): Share.of(one) for key, one in document["shares"].items()}
            except (ValueError, KeyError, TypeError, AttributeError):
                raise StateError(
                    f"{self._path} cannot be read",
                    why="it is not a record of the guard",
                    next_step="Remove it, then run `zesty guard off` or `zesty guard on`.",
                ) from None
        if (document.get("boot"), document.get("network")) == (boot_id(), network_identity()):
            return shares
        return {key: share for key, share in shares.items() if key == BY_USER}

    @contextmanager
    def _locked(self) -> Iterator[dict[str, Share]]:
        descriptor = open_journal(self._path.with_suffix(".lock"), create=True)
        try:
            fcntl.flock(descriptor, fcntl.LOCK_EX)
            yield self.shares()
        finally:
            os.close(descriptor)

    def _write(self, shares: Mapping[str, Share]) -> None:
        if not shares:
            self._path.unlink(missing_ok=True)
            return
        document: dict[str, Any] = {"boot": boot_id(), "network": network_identity()}
        document["shares"] = {key: share.document() for key, share in shares.items()}
        try:
            replace_file(self._path, json.dumps(document).encode(), 0o600)
        except OSError as problem:
            raise DiskFull.by(problem, self._path, "the guard was not changed") or problem from None

    def is_in_force(self) -> bool:
        """Whether the kernel has the table. :class:`RightsMissing` where it may not be asked."""
        return is_in_force(self._socket)

    def _apply(self, shares: Mapping[str, Share], before: Mapping[str, Share] | None = None) -> None:
        """``before``: what is in force by the record, where openings alone may have been added. Where nobody holds
        anything, then or now, the kernel is not asked: it may have no packet filter.
        """
        if before is not None and not _holding(before) and not _holding(shares):
            return
        in_force = self.is_in_force()
        if not _holding(shares):
            if in_force:
                self._socket.transact(INET, guard_rules.removal(), f"removing {WHAT}")
            return
        whole = together(shares.values())
        if in_force and before and _holding(before):
            known = together(before.values())
            added = [one for one in whole.openings if one not in known.openings]
            if added and replace(whole, openings=known.openings) == known and set(known.openings) < set(whole.openings):
                # Much faster than setting the whole: nothing has to be taken away, which waits for every processor.
                self._socket.transact(INET, guard_rules.more_openings(added), f"opening {WHAT}")
                return
        self._socket.transact(INET, guard_rules.setting(whole, fresh=not in_force), f"setting {WHAT}")


def _holding(shares: Mapping[str, Share]) -> dict[str, Share]:
    return {key: share for key, share in shares.items() if share.held}


def _is_living(share: Share) -> bool:
    """Whether a process carries the share's tunnel."""
    return bool(share.journal) and is_held(Path(share.journal))


def is_in_force(channel: FilterSocket | None = None) -> bool:
    """Whether the kernel has the guard's table. :class:`RightsMissing` where it may not be asked."""
    return bool((channel or FilterSocket()).ask(GET_TABLE, INET, text(1, guard_rules.TABLE), f"asking for {WHAT}"))


def _counts(channel: FilterSocket) -> dict[str, Count]:
    """What was counted since the guard was set."""
    found = {}
    for row in channel.ask(GET_OBJECT, INET, text(1, guard_rules.TABLE), f"reading {WHAT}", every=True):
        name, table = row.get(2, b"")[:-1].decode(), row.get(1, b"")[:-1].decode()
        if table == guard_rules.TABLE and name in guard_rules.COUNTERS:
            values = attributes(row.get(4, b""))
            octets, packets = (struct.unpack(">Q", values.get(kind, bytes(8)))[0] for kind in (1, 2))
            found[name] = Count(packets, octets)
    return found


def _portal_users(channel: FilterSocket) -> dict[int, int]:
    """Users for whom it is open, and for how many seconds still."""
    body = text(1, guard_rules.TABLE) + text(2, guard_rules.PORTAL_USERS)
    found = {}
    for row in channel.ask(GET_ELEMENT, INET, body, f"reading {WHAT}", every=True):
        for _, element in attribute_rows(row.get(3, b"")):
            values = attributes(element)
            key = attributes(values.get(1, b"")).get(1, bytes(4))
            left = struct.unpack(">Q", values.get(5, bytes(8)))[0]
            found[int.from_bytes(key, sys.byteorder)] = left // 1000
    return found
