"""What was changed on this machine, written down before it is changed, so that it can always be put back.

The journal is a file of one JSON document a line. The first line names the boot, the network namespace and the
process; each further line is one change. The process that has the lock on the file is the tunnel's; after a crash
or a power cut nobody does, and ``restore`` undoes the lines from the last to the first.
"""

from __future__ import annotations

import base64
import json
import os
import stat
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from zesty_burrow.errors import DiskFull, MachineError, StateError
from zesty_burrow.host.journal.lock import END_RECORD, lock, open_journal
from zesty_burrow.host.namespaces import network_identity
from zesty_burrow.host.netlink import Netlink, Route, Rule, as_fields


@dataclass(frozen=True, slots=True)
class Change:
    """One line of the journal: ``kind`` is route, rule, device or file."""

    kind: str
    fields: dict[str, Any]


@dataclass(frozen=True, slots=True)
class Restored:
    """What was put back, in words; ``left_alone``: what somebody else has changed since."""

    done: tuple[str, ...] = ()
    left_alone: tuple[str, ...] = ()


def boot_id() -> str:
    """Tells one start of the machine from the next; empty where that is not known."""
    with suppress(OSError):
        return Path("/proc/sys/kernel/random/boot_id").read_text().strip()
    return ""


class Journal:
    """The journal of a tunnel that is being set up or is up; holds the lock."""

    def __init__(self, path: Path, what: str) -> None:
        self.path = path
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
        """Add a route."""
        self.record("route", as_fields(route))
        netlink.add_route(route)

    def add_rule(self, netlink: Netlink, rule: Rule) -> None:
        """Add a policy rule."""
        self.record("rule", as_fields(rule))
        netlink.add_rule(rule)

    def note_device(self, name: str) -> None:
        """A tunnel device; the kernel removes it with its process, this is for the case that it does not."""
        self.record("device", {"name": name})

    def write_file(self, path: Path, content: bytes) -> None:
        """Replace a file's content, remembering what it was (content, mode, or link target)."""
        before: dict[str, Any] = {"path": str(path), "ours": base64.b64encode(content).decode()}
        if path.is_symlink():
            before["link"] = str(path.readlink())
        elif path.exists():
            before["content"] = base64.b64encode(path.read_bytes()).decode()
            before["mode"] = stat.S_IMODE(path.stat().st_mode)
        self.record("file", before)
        _replace(path, content, before.get("mode", 0o644))


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
    if kernel and any(change.kind != "file" for change in changes):
        with Netlink() as netlink:
            for change in reversed(changes):
                if change.kind in _UNDO:
                    try:
                        done.append(_UNDO[change.kind](netlink, change.fields))
                    except MachineError as problem:
                        failed.append(str(problem))
    for change in reversed(changes):
        if change.kind == "file":
            try:
                (done if _put_file_back(change.fields) else left).append(str(change.fields["path"]))
            except OSError as problem:
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
        _replace(path.with_name(END_RECORD), record, 0o600)


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


def _put_file_back(fields: dict[str, Any]) -> bool:
    """Whether the file was put back; not if somebody else has written it since."""
    path = Path(fields["path"])
    ours = base64.b64decode(fields["ours"])
    if "link" in fields and path.is_symlink() and str(path.readlink()) == fields["link"]:
        return True
    if path.is_symlink() or not path.exists():
        return False
    current = path.read_bytes()
    before = base64.b64decode(fields.get("content", ""))
    if current not in (ours, before):
        return False
    if current == before and "content" in fields:
        return True
    if "link" in fields:
        path.unlink()
        path.symlink_to(fields["link"])
    elif "content" in fields:
        _replace(path, before, int(fields["mode"]) & 0o777)
    else:
        path.unlink()
    return True


def _replace(path: Path, content: bytes, mode: int) -> None:
    """Replace a file at once; in place where it is a mount point, or where its folder is closed to us."""
    fresh = path.with_name(f".{path.name}.zesty")
    try:
        fresh.unlink(missing_ok=True)
        descriptor = os.open(fresh, os.O_WRONLY | os.O_CREAT | os.O_EXCL, mode)
        with os.fdopen(descriptor, "wb") as stream:
            os.fchmod(stream.fileno(), mode)
            stream.write(content)
            stream.flush()
            os.fsync(stream.fileno())
        fresh.rename(path)
    except OSError:
        with suppress(OSError):
            fresh.unlink(missing_ok=True)
        if path.is_symlink():
            raise
        with path.open("wb") as stream:
            stream.write(content)
