"""What was changed on this machine, written down before it is changed, so that it can always be put back.

The journal is a file of one JSON document a line. The first line names the boot, the network namespace and the
process; each further line is one change. The process that has the lock on the file is the tunnel's; after a crash
or a power cut nobody does, and ``restore`` undoes the lines from the last to the first.
"""

from __future__ import annotations

import json
import os
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from typing import Any

from zesty_burrow.errors import BurrowError, DiskFull, MachineError, StateError
from zesty_burrow.host.journal.lock import boot_id, end_record, lock, open_journal
from zesty_burrow.host.names.names_record import Layer, NamesRecord
from zesty_burrow.host.namespaces import network_identity
from zesty_burrow.host.netlink import Netlink, Route, Rule, as_fields
from zesty_burrow.host.replace_file import replace_file
from zesty_burrow.records import dataclass


@dataclass(frozen=True, slots=True)
class Change:
    """One line of the journal: ``kind`` is route, rule, device or names."""

    kind: str
    fields: dict[str, Any]


@dataclass(frozen=True, slots=True)
class Restored:
    """What was put back, in words; ``left_alone``: what somebody else has changed since."""

    done: tuple[str, ...] = ()
    left_alone: tuple[str, ...] = ()


class Journal:
    """The journal of a tunnel that is being set up or is up; holds the lock."""

    def __init__(self, path: Path, what: str) -> None:
        self.path = path
        self._names: list[dict[str, str]] = []
        descriptor = open_journal(path, create=True)
        self._stream = os.fdopen(descriptor, "r+b")
        if not lock(descriptor):
            self._stream.close()
            raise StateError("a tunnel is up already", next_step="End it first: zesty disconnect", slug="already-up")
        if os.fstat(descriptor).st_size:
            self._stream.close()
            raise StateError(
                "an earlier tunnel ended without restoring this machine's settings",
                next_step="Run `zesty restore`.",
                slug="left-over",
            )
        # An empty journal is as good as none.
        header = {"boot": boot_id(), "network": network_identity(), "process": os.getpid(), "what": what}
        self._write(header)

    def _write(self, document: dict[str, Any]) -> None:
        try:
            self._stream.write(json.dumps(document).encode() + b"\n")
            self._stream.flush()
            os.fsync(self._stream.fileno())
        except OSError as problem:
            lost = "the journal was not written, so this change to the machine was not made"
            raise DiskFull.by(problem, self.path, lost) or problem from None

    def record(self, kind: str, fields: dict[str, Any]) -> None:
        """Write a change down; only then may it be made."""
        self._write({"change": kind, "fields": fields})

    def put_back(self) -> Restored:
        """Undo everything and remove the journal."""
        restored = _undo(self.path)
        self._stream.close()
        return restored

    # The changes.

    def add_route(self, netlink: Netlink, route: Route) -> None:
        self.record("route", as_fields(route))
        netlink.add_route(route)

    def add_rule(self, netlink: Netlink, rule: Rule) -> None:
        self.record("rule", as_fields(rule))
        netlink.add_rule(rule)

    def note_device(self, name: str) -> None:
        """A tunnel device; the kernel removes it with its process, this is for the case that it does not."""
        self.record("device", {"name": name})

    def use_names(self, names: NamesRecord, layer: Layer) -> None:
        """Have this machine use a tunnel's name servers."""
        fields = {"record": str(names.path), "target": str(names.target)}
        if fields not in self._names:
            self.record("names", fields)
            self._names.append(fields)
        names.put(str(self.path), layer)


def restore(path: Path) -> Restored:
    """Put back what a dead process left. :class:`StateError` while a living one holds it, or where it is foreign."""
    try:
        descriptor = open_journal(path)
    except FileNotFoundError:
        return Restored()
    try:
        if not lock(descriptor):
            raise StateError("a tunnel is up", next_step="End it first: zesty disconnect", slug="already-up")
        return _undo(path)
    finally:
        os.close(descriptor)


def _read(path: Path) -> tuple[dict[str, Any], list[Change]]:
    """Header and changes. A last line that was cut by a power cut stands for a change that was not made yet."""
    documents: list[dict[str, Any]] = []
    for line in path.read_bytes().splitlines():
        try:
            document = json.loads(line)
        except ValueError:
            break
        if isinstance(document, dict):
            documents.append(document)
    header = documents[0] if documents else {}
    return header, [Change(str(entry.get("change")), dict(entry.get("fields", {}))) for entry in documents[1:]]


def _undo(path: Path) -> Restored:
    header, changes = _read(path)
    # After a reboot, or in another network namespace, the kernel's part is gone already; files are not.
    kernel = header.get("boot") == boot_id() and header.get("network") == network_identity()
    done: list[str] = []
    left: list[str] = []
    failed: list[str] = []
    # One thing that cannot be undone must not keep the others from being undone.
    if kernel and any(change.kind != "names" for change in changes):
        with Netlink() as netlink:
            for change in reversed(changes):
                if change.kind in _UNDO:
                    try:
                        done.append(_UNDO[change.kind](netlink, change.fields))
                    except MachineError as problem:
                        failed.append(str(problem))
    for change in reversed(changes):
        if change.kind == "names":
            names = NamesRecord(Path(change.fields["record"]), Path(change.fields["target"]))
            try:
                (done if names.remove(str(path)) else left).append(str(names.target))
            except (OSError, BurrowError) as problem:
                failed.append(str(problem))
    if failed:
        raise MachineError(
            "this machine could not be restored completely",
            why="; ".join(failed),
            next_step="Correct what is named, with the rights that it needs, then run `zesty restore` again.",
            slug="not-put-back",
        )
    _tell_end(path, done, left)
    path.unlink(missing_ok=True)
    return Restored(tuple(done), tuple(left))


def _tell_end(path: Path, done: list[str], left: list[str]) -> None:
    """For a process that waits for the end, written before the journal goes; without it that process knows less."""
    with suppress(OSError):
        record = json.dumps({"restored": done, "left_alone": left}).encode()
        replace_file(end_record(path), record, 0o600)


def _undo_route(netlink: Netlink, fields: dict[str, Any]) -> str:
    route = Route(**fields)
    netlink.delete_route(route)
    return f"route to {route.destination}"


def _undo_rule(netlink: Netlink, fields: dict[str, Any]) -> str:
    rule = Rule(**{key: value for key, value in fields.items() if key in Rule.__slots__})
    netlink.delete_rule(rule)
    return f"rule {rule.priority} (IPv{rule.version})"


def _undo_device(netlink: Netlink, fields: dict[str, Any]) -> str:
    netlink.delete_link(str(fields["name"]))
    return f"device {fields['name']}"


_UNDO: dict[str, Callable[[Netlink, dict[str, Any]], str]] = {
    "route": _undo_route,
    "rule": _undo_rule,
    "device": _undo_device,
}
