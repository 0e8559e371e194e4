"""The guard's tables in the kernel: set, compared with what is meant, counted."""

from __future__ import annotations

import errno
import os
import struct
import sys
from collections.abc import Iterable
from typing import NamedTuple

from zesty_burrow.errors import BurrowError, MachineError, RightsMissing, StateError
from zesty_burrow.host.guard.plan import Share
from zesty_burrow.host.guard.presence import TABLE
from zesty_burrow.host.guard.tables.allow_list import COUNTERS, PORTAL_USERS
from zesty_burrow.host.guard.tables.egress import devices_with_chain, egress_table
from zesty_burrow.host.guard.tables.rules import inet_table, portal_opening, socket_probe
from zesty_burrow.host.guard.tables.surroundings import Surroundings, look_around
from zesty_burrow.host.netlink_messages import CREATE, attribute_rows, attributes, text
from zesty_burrow.host.packet_filter.messages import (
    DELETE_TABLE,
    GET_ELEMENT,
    GET_OBJECT,
    GET_TABLE,
    INET,
    NETDEV,
    NEW_TABLE,
    FamilyBody,
    FilterSocket,
    number,
)
from zesty_burrow.host.packet_filter.table import (
    OWNED,
    TABLE_FLAGS,
    TABLE_OWNER,
    TableSpec,
    changes,
    differences,
    read,
    whole,
)
from zesty_burrow.records import dataclass, replace

WHAT = "the guard"
TRIES = 5
UNSUPPORTED = (errno.EOPNOTSUPP, errno.EINVAL, errno.EPROTONOSUPPORT, errno.EAFNOSUPPORT)


class Count(NamedTuple):
    """Packets and octets of one kind."""

    packets: int
    octets: int


@dataclass(frozen=True, slots=True)
class Comparison:
    """The kernel's tables beside those that are meant. ``differences``: in words, none where they are as meant.

    ``present``: there is a table of the guard's, whatever is in it. ``owner``: the socket that alone may change it,
    0 for none. ``devices``: those with a chain of their own; ``without``: outer devices that have none.
    """

    present: bool
    differences: tuple[str, ...] = ()
    owner: int = 0
    devices: tuple[str, ...] = ()
    without: tuple[str, ...] = ()


def compare(
    channel: FilterSocket, specs: Iterable[TableSpec], around: Surroundings, inside: Iterable[str] = ()
) -> Comparison:
    """What the kernel has beside what is meant; without ``specs`` nothing is meant to be there. ``inside``: devices of
    tunnels, which need no chain.
    """
    meant = {spec.family: spec for spec in specs}
    seen = {family: read(channel, family, TABLE) for family in (INET, NETDEV)}
    found: list[str] = []
    for family, where in ((INET, ""), (NETDEV, "at the devices: ")):
        if family in meant:
            found += [where + difference for difference in differences(meant[family], seen[family])]
    inet, egress = seen[INET], seen[NETDEV]
    devices = tuple(devices_with_chain(egress.chains)) if egress is not None else ()
    without = tuple(device.name for device in around.devices if device.name not in (*devices, *inside))
    present = inet is not None or egress is not None
    return Comparison(present, tuple(found), inet.owner if inet is not None else 0, devices, without)


def read_counts(channel: FilterSocket, family: int = INET) -> dict[str, Count]:
    """What was counted since the guard was set."""
    found = {}
    for row in channel.ask(GET_OBJECT, family, text(1, TABLE), f"reading {WHAT}", every=True):
        name, table = row.get(2, b"")[:-1].decode(), row.get(1, b"")[:-1].decode()
        if table == TABLE and name in COUNTERS:
            values = attributes(row.get(4, b""))
            octets, packets = (struct.unpack(">Q", values.get(kind, bytes(8)))[0] for kind in (1, 2))
            found[name] = Count(packets, octets)
    return found


def read_portal(channel: FilterSocket) -> dict[int, int]:
    """Users for whom it is open, and for how many seconds still."""
    body = text(1, TABLE) + text(2, PORTAL_USERS)
    found = {}
    for row in channel.ask(GET_ELEMENT, INET, body, f"reading {WHAT}", every=True):
        for _, element in attribute_rows(row.get(3, b"")):
            values = attributes(element)
            key = attributes(values.get(1, b"")).get(1, bytes(4))
            left = struct.unpack(">Q", values.get(5, bytes(8)))[0]
            found[int.from_bytes(key, sys.byteorder)] = left // 1000
    return found


class KernelGuard:
    """Sets the guard's tables, owned by this object's socket where the kernel can: no other process changes them then.

    ``owned``, ``egress``: whether the kernel can do that; known once the guard was set.
    """

    def __init__(self, *, owned: bool = True, egress: bool = True) -> None:
        self.channel = FilterSocket()
        self.owned, self.egress, self._wants_egress = owned, egress, egress
        self.why_no_egress = ""
        self.around = Surroundings()
        self.specs: tuple[TableSpec, ...] = ()
        self.inside: tuple[str, ...] = ()
        self._by_socket: bool | None = None

    def make(self, share: Share) -> tuple[TableSpec, ...]:
        """The tables for what all holders want together."""
        user = os.geteuid()
        inet = inet_table(share, self.around.on_link, user, by_socket=self._compares_sockets())
        # What goes into a tunnel was looked at where it was sent.
        devices = tuple(device for device in self.around.devices if device.name not in share.devices)
        return (inet, egress_table(share, replace(self.around, devices=devices), user)) if self.egress else (inet,)

    def _compares_sockets(self) -> bool:
        if self._by_socket is None:
            try:
                self.channel.transact(INET, socket_probe(), "trying the packet filter")
                self._by_socket = True
            except RightsMissing:
                raise
            except MachineError:
                self._by_socket = False
        return self._by_socket

    def look_around(self) -> bool:
        """Read devices and networks again; whether they are others than before."""
        before, self.around = self.around, look_around()
        if self.around == before:
            return False
        # What the kernel refused may have been a device that was just coming or going: it is tried again.
        self.egress = self._wants_egress
        return True

    def set(self, share: Share) -> None:
        """Put it in force, in one step: what is in force already stays untouched.

        Raises :class:`RightsMissing`, :class:`MachineError`, or :class:`StateError` where another process owns the
        guard.
        """
        specs, self.inside = self.make(share), share.devices
        if self.specs and [spec.family for spec in specs] == [spec.family for spec in self.specs]:
            bodies = [body for old, new in zip(self.specs, specs, strict=True) for body in changes(old, new)]
            if not bodies:
                self.specs = specs
                return
            try:
                self.channel.commit(bodies, f"setting {WHAT}")
                self.specs = specs
                return
            except MachineError:
                # What is in force is not what was thought: a device may be gone, with its chain.
                pass
        self.set_whole(share)

    def set_whole(self, share: Share) -> None:
        """Replace the tables that are there, in one step. Errors as of :meth:`set`."""
        for attempt in range(TRIES):
            try:
                specs, flags = self.make(share), OWNED if self.owned else 0
                bodies = [one for spec in specs for one in whole(spec, flags, replaced=self._is_there(spec.family))]
                self.channel.commit(bodies, f"setting {WHAT}")
                self.specs = specs
                self.why_no_egress = "" if self.egress else self.why_no_egress
                return
            except RightsMissing as problem:
                raise self._owned_by_another() or problem from None
            except MachineError as problem:
                if not self._do_with_less(problem) and attempt == TRIES - 1:
                    raise
                # A device was there a moment ago.
                self.around = look_around()
        raise MachineError(f"setting {WHAT} failed", why="the kernel refuses it again and again")

    def _do_with_less(self, problem: MachineError) -> bool:
        """Without what an older kernel does not have: an owner first (before 6.9), then chains at devices (before
        5.16).
        """
        if problem.number not in UNSUPPORTED:
            return False
        if self.owned:
            self.owned = False
            return True
        if self.egress:
            self.egress, self.why_no_egress = False, problem.why
            return True
        raise problem

    def _is_there(self, family: int) -> bool:
        return read_owner(self.channel, family) is not None

    def _owned_by_another(self) -> BurrowError | None:
        rows = self.channel.ask(GET_TABLE, INET, text(1, TABLE), f"asking for {WHAT}")
        owner = int.from_bytes(rows[0].get(TABLE_OWNER, b"")) if rows else 0
        if owner in (0, self.channel.port):
            return None
        return StateError(
            "the guard of this network is held by another process",
            why=f"the kernel names {owner} as the owner of its table",
            next_step="It may be another user's store: run `zesty guard off` there.",
            slug="guard-owned-elsewhere",
        )

    def adopt(self, share: Share) -> bool:
        """Take over what an earlier owner has left, with its counters, if it is what is meant. Whether it was."""
        specs = self.make(share)
        self.inside = share.devices
        if not self.owned or compare(self.channel, specs, self.around).differences:
            return False
        own = text(1, TABLE) + number(TABLE_FLAGS, OWNED)
        bodies: list[FamilyBody] = [(spec.family, (NEW_TABLE, CREATE, own)) for spec in specs]
        try:
            self.channel.commit(bodies, f"taking over {WHAT}")
        except MachineError:
            return False
        self.specs, self.owned = specs, True
        return True

    def remove(self) -> None:
        """No guard. It need not be there."""
        own = text(1, TABLE)
        bodies: list[FamilyBody] = [
            (family, (DELETE_TABLE, 0, own)) for family in (INET, NETDEV) if self._is_there(family)
        ]
        if bodies:
            try:
                self.channel.commit(bodies, f"removing {WHAT}")
            except RightsMissing as problem:
                raise self._owned_by_another() or problem from None
        self.specs = ()

    def open_portal(self, user: int, seconds: int) -> None:
        """Let a user's web pages out for so long; 0 ends it."""
        present = user in read_portal(self.channel)
        bodies = portal_opening(user, seconds, present=present)
        rows = [(spec.family, body) for spec in self.specs for body in bodies]
        if rows:
            self.channel.commit(rows, "opening the guard for a sign-in page")

    def compare(self) -> Comparison:
        """What the kernel has beside what was set."""
        return compare(self.channel, self.specs, self.around, self.inside)


def read_owner(channel: FilterSocket, family: int) -> int | None:
    """The socket that owns the guard's table of a family, 0 for none; None where there is no such table."""
    rows = channel.ask(GET_TABLE, family, text(1, TABLE), f"asking for {WHAT}")
    return int.from_bytes(rows[0].get(TABLE_OWNER, b"")) if rows else None
