"""Which name servers this machine uses while tunnels are up: each tunnel asks for some, the record adds them up.

The record keeps what the resolver file was before the first of them, and is written before the file is. Every tunnel
may come and go in any order; with the last one the file is what it was.
"""

from __future__ import annotations

import base64
import fcntl
import json
import os
import stat
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from ipaddress import ip_address
from pathlib import Path
from typing import Any

from zesty_burrow.core.net import Address
from zesty_burrow.errors import DiskFull, StateError
from zesty_burrow.host.journal.lock import is_held, open_journal
from zesty_burrow.host.names import resolvconf_program
from zesty_burrow.host.names.resolv_conf import RESOLV_CONF, resolver_text, servers_in, suffixes_in
from zesty_burrow.host.replace_file import replace_file
from zesty_burrow.records import dataclass, field


@dataclass(frozen=True, slots=True)
class Layer:
    """What one tunnel asks for: its name servers and suffixes.

    ``forwarder``: where only names under the suffixes and ``zones`` are for them, the address of its process's
    forwarder.
    """

    servers: tuple[Address, ...]
    suffixes: tuple[str, ...] = ()
    zones: tuple[str, ...] = ()
    forwarder: str = ""

    def document(self) -> dict[str, Any]:
        servers = [str(server) for server in self.servers]
        lists = {"suffixes": list(self.suffixes), "zones": list(self.zones)}
        return {"servers": servers, **lists, "forwarder": self.forwarder}

    @classmethod
    def of(cls, document: Mapping[str, Any]) -> Layer:
        """From what ``document`` gave and JSON carried. ``ValueError``, ``KeyError`` or ``TypeError`` for others."""
        servers = tuple(ip_address(one) for one in document["servers"])
        suffixes, zones = (tuple(map(str, document[key])) for key in ("suffixes", "zones"))
        return cls(servers, suffixes, zones, str(document["forwarder"]))


@dataclass(slots=True)
class _Content:
    """``before``: the file as it was (content, mode, link target); ``written``: what is in it by us, or what the
    program that owns the file was given for it.
    """

    before: dict[str, Any] = field(default_factory=dict)
    written: bytes = b""
    program: Path | None = None
    layers: dict[str, Layer] = field(default_factory=dict)


class NamesRecord:
    """The record at ``path`` of what ``target`` has; a tunnel's key is the path of its journal.

    All calls may raise ``OSError`` or :class:`StateError`.
    """

    def __init__(
        self,
        path: Path,
        target: Path = RESOLV_CONF,
        owner_of: Callable[[Path], Path | None] = resolvconf_program.owner_of,
    ) -> None:
        self.path, self.target, self._owner_of = path, target, owner_of

    def put(self, key: str, layer: Layer) -> None:
        """From here on these servers are asked as well, or instead."""
        with self._locked() as content:
            # A journal goes once all of it is put back: one that is gone has nobody who could take its layer away.
            content.layers = {one: known for one, known in content.layers.items() if one == key or Path(one).exists()}
            if not content.layers and not (content.written and self._has_ours(content)):
                content.before, content.program = _state_of(self.target), self._owner_of(self.target)
            content.layers[key] = layer
            self._write(content, key)

    def remove(self, key: str) -> bool:
        """A tunnel does not want them any more. Whether the file is as it should be then: not where somebody else has
        changed it since.
        """
        with self._locked() as content:
            if key not in content.layers:
                return True
            untouched = self._has_ours(content) or self._read_target() == _octets(content.before.get("content", ""))
            del content.layers[key]
            if content.layers:
                if untouched:
                    self._write(content)
                else:
                    self._save(content)
                return untouched
            done = self._put_back(content)
            self.path.unlink(missing_ok=True)
        return done

    def drop_dead(self, own: str) -> list[str]:
        """Other tunnels' layers whose processes are dead are in nobody's service any more; whose they were."""
        if all(key == own or is_held(Path(key)) for key in self._load().layers):
            return []
        with self._locked() as content:
            dead = [key for key in content.layers if key != own and not is_held(Path(key))]
            untouched = self._has_ours(content)
            for key in dead:
                del content.layers[key]
            if dead and content.layers and untouched:
                self._write(content)
            elif dead:
                self._save(content)
        return dead

    def write_again(self) -> None:
        """Somebody else has changed the file: what it has now is what comes back in the end."""
        with self._locked() as content:
            if content.layers:
                if not self._has_ours(content):
                    content.before, content.program = _state_of(self.target), self._owner_of(self.target)
                self._write(content)

    def is_in_force(self) -> bool:
        """Whether the file has what the tunnels want, or they want nothing."""
        content = self._load()
        return not content.layers or self._has_ours(content)

    def layers(self) -> dict[str, Layer]:
        """What each tunnel asks for, in their order."""
        return self._load().layers

    def before(self) -> tuple[tuple[Address, ...], tuple[str, ...]]:
        """Name servers and suffixes of the file as it was; or as it is, where that is not ours."""
        content, octets = self._load(), self._read_target()
        if content.layers and content.program is not None:
            # The file has ours and others'.
            ours = servers_in(content.written)
            return tuple(server for server in servers_in(octets) if server not in ours), suffixes_in(octets)
        if content.layers and octets == content.written:
            octets = _octets(content.before.get("content", ""))
        return servers_in(octets), suffixes_in(octets)

    def changed(self) -> tuple[int, int]:
        """When record and file were last changed, in nanoseconds; 0 if missing."""
        return _changed(self.path), _changed(self.target)

    # Reading and writing.

    @contextmanager
    def _locked(self) -> Iterator[_Content]:
        descriptor = open_journal(self.path.with_suffix(".lock"), create=True)
        try:
            fcntl.flock(descriptor, fcntl.LOCK_EX)
            yield self._load()
        finally:
            os.close(descriptor)

    def _load(self) -> _Content:
        try:
            descriptor = open_journal(self.path)
        except FileNotFoundError:
            return _Content()
        with os.fdopen(descriptor, "rb") as stream:
            try:
                document = json.loads(stream.read())
                layers = {str(key): Layer.of(one) for key, one in document["layers"].items()}
                program = self._owner_of(self.target) if document.get("program") else None
                return _Content(dict(document["before"]), _octets(document["written"]), program, layers)
            except (ValueError, KeyError, TypeError, AttributeError):
                raise StateError(
                    f"{self.path} cannot be read",
                    why="it is not a record of name servers",
                    next_step=f"Remove it, and put {self.target} right by hand.",
                ) from None

    def _write(self, content: _Content, newest: str = "") -> None:
        content.written = self._text(content, newest)
        self._save(content)
        if content.program is not None:
            if resolvconf_program.add(content.program, content.written) and self._has_ours(content):
                return
            # It does not put ours first: then we write the file, as where it belongs to nobody.
            resolvconf_program.remove(content.program)
            content.program = None
            self._save(content)
        replace_file(self.target, content.written, content.before.get("mode", 0o644), in_place=True)

    def _save(self, content: _Content) -> None:
        document = {
            "before": content.before,
            "written": base64.b64encode(content.written).decode(),
            "program": content.program is not None,
            "layers": {key: layer.document() for key, layer in content.layers.items()},
        }
        try:
            replace_file(self.path, json.dumps(document).encode(), 0o600)
        except OSError as problem:
            raise DiskFull.by(problem, self.path, "the name servers were not changed") or problem from None

    def _text(self, content: _Content, newest: str) -> bytes:
        """Where a tunnel has a forwarder, that is asked; it reads from this record what the other tunnels ask for."""
        layers = content.layers
        telling = [one for key, one in layers.items() if one.forwarder and (key == newest or is_held(Path(key)))]
        whole = [layer for layer in layers.values() if not layer.forwarder]
        suffixes = [suffix for one in (*telling, *whole) for suffix in one.suffixes]
        before = _octets(content.before.get("content", ""))
        if telling:
            own = () if whole else suffixes_in(before)
            return resolver_text([ip_address(telling[-1].forwarder)], list(dict.fromkeys((*suffixes, *own))))
        servers = whole[-1].servers if whole else servers_in(before)
        return resolver_text(servers, suffixes)

    def _has_ours(self, content: _Content) -> bool:
        """Whether the file has what we want in it: alone, or as the first where it has an owner."""
        octets = self._read_target()
        if content.program is None:
            return octets == content.written
        ours = servers_in(content.written)
        return servers_in(octets)[: len(ours)] == ours

    def _read_target(self) -> bytes:
        try:
            return self.target.read_bytes()
        except OSError:
            return b""

    def _put_back(self, content: _Content) -> bool:
        """Whether the file was put back; not if somebody else has written it since."""
        path, before = self.target, content.before
        if content.program is not None:
            return resolvconf_program.remove(content.program)
        if "link" in before and path.is_symlink() and str(path.readlink()) == before["link"]:
            return True
        if path.is_symlink() or not path.exists():
            return False
        current, octets = path.read_bytes(), _octets(before.get("content", ""))
        if current not in (content.written, octets):
            return False
        if current == octets and "content" in before and "link" not in before:
            return True
        if "link" in before:
            path.unlink()
            path.symlink_to(before["link"])
        elif "content" in before:
            replace_file(path, octets, int(before["mode"]) & 0o777, in_place=True)
        else:
            path.unlink()
        return True


def _octets(text: str) -> bytes:
    return base64.b64decode(text)


def _state_of(path: Path) -> dict[str, Any]:
    """A file's content and mode, and the target where it is a link."""
    before: dict[str, Any] = {}
    if path.is_symlink():
        before["link"] = str(path.readlink())
    if path.exists():
        before["content"] = base64.b64encode(path.read_bytes()).decode()
        before["mode"] = stat.S_IMODE(path.stat().st_mode)
    return before


def _changed(path: Path) -> int:
    try:
        return path.stat().st_mtime_ns
    except OSError:
        return 0
