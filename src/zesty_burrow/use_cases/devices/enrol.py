"""On a device: its key, and from which administrators its owner takes profiles without being asked."""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path

from zesty_burrow.errors import Malformed, NotFound, UsageError
from zesty_burrow.fleet.keys import ADMINISTRATOR, DEVICE, OwnKeys, PublicKey, make_secret, read_key, same_code
from zesty_burrow.records import dataclass, replace
from zesty_burrow.store.devices import Device, check_device
from zesty_burrow.store.fleet.fleet_store import Administrator, FleetStore
from zesty_burrow.use_cases.workspace import Workspace

OK = 200
LEFT_FOR = 3600
"""Seconds for which a bundle may lie unread where it was put."""


@dataclass(frozen=True, slots=True)
class EnrolRequest:
    """``accept``: a file with an administrator's key, whose ``code`` the owner has heard; it is asked for if empty.

    ``withdraw``: the code of an administrator. ``server``: the URL of an administrator's server of links, proved by
    ``authority`` (a PEM file) or the system's authorities, that is asked to take this device into the list as ``name``
    (the host's name if empty), of that ``kind``; ``timeout`` in seconds.
    """

    accept: Path | None = None
    code: str = ""
    withdraw: str = ""
    server: str = ""
    authority: Path | None = None
    name: str = ""
    kind: str = "workstation"
    timeout: float = 15.0


@dataclass(frozen=True, slots=True)
class Enrolled:
    """``key``: the public one. ``accepted``: the codes of administrators. ``incoming``: where they put files."""

    device: str
    key: str
    code: str
    accepted: tuple[str, ...]
    incoming: Path


def enrol(request: EnrolRequest, workspace: Workspace) -> Enrolled:
    """Make this device's key at first use; accept, withdraw and ask as requested.

    Raises :class:`UsageError` if a code is not confirmed, :class:`Malformed` for a file without a key,
    :class:`NotFound`, and :class:`NotReached` if the server does not answer.
    """
    with workspace.store() as store:
        fleet = store.fleet
        keys = OwnKeys(fleet.own_key(DEVICE, make_secret))
        own = keys.public(DEVICE)
        if request.accept is not None:
            _accept(request.accept, request.code, workspace, fleet)
        if request.withdraw:
            _withdraw(request.withdraw, fleet)
        accepted = [entry for entry in fleet.administrators() if entry.accepted_at]
    if request.server:
        _ask(request, workspace, keys)
    codes = tuple(read_key(entry.key, ADMINISTRATOR).code for entry in accepted)
    return Enrolled(workspace.device(), own.text, own.code, codes, _incoming(workspace))


def server_url(url: str) -> str:
    """Without a slash at the end. Raises :class:`UsageError` if it is not one of https."""
    if not url.startswith("https://"):
        raise UsageError(f"{url!r:.80} is not the URL of a server", next_step="It begins with https://.")
    return url.rstrip("/")


def authority_of(path: Path | None) -> str:
    """The PEM in a file, or nothing."""
    from zesty_burrow.host.files import read_bounded

    return read_bounded(path, 1 << 16)[0].decode("ascii", "replace") if path is not None else ""


def _ask(request: EnrolRequest, workspace: Workspace, keys: OwnKeys) -> None:
    from zesty_burrow.fleet.enrolment import ask
    from zesty_burrow.fleet.https_client import NotReached, ask_server

    device = Device(request.name or workspace.device(), request.kind)
    if why := check_device(device):
        raise UsageError(f"this device cannot be in a list: {why}")
    url, authority = f"{server_url(request.server)}/e", authority_of(request.authority)
    status, _ = ask_server("POST", url, authority, ask(keys, device.name, device.kind), request.timeout)
    if status != OK:
        raise NotReached(f"{url} does not take this device", why=f"HTTP status {status}")
    workspace.interaction.note("The administrator was asked. Both of you compare the code below.")


def _incoming(workspace: Workspace) -> Path:
    """Where what an administrator sends is put, until it is read; only this user may look into it.

    What a broken connection has left there goes after a while.
    """
    folder = workspace.paths.make(workspace.paths.make(workspace.paths.data) / "incoming")
    for path in folder.glob("*.bundle"):
        with suppress(OSError):
            if workspace.now().timestamp() - path.stat().st_mtime > LEFT_FOR:
                path.unlink()
    return folder


def _accept(path: Path, code: str, workspace: Workspace, fleet: FleetStore) -> None:
    from zesty_burrow.host.files import read_bounded

    data, _ = read_bounded(path, 1 << 16)
    lines = [line for line in data.decode("utf-8", "replace").splitlines() if line.startswith(ADMINISTRATOR)]
    if len(lines) != 1:
        why = f"a line that begins with {ADMINISTRATOR!r} is needed"
        raise Malformed(f"{path} has no administrator's key in it", why=why, next_step="Ask for it again.")
    key = read_key(lines[0], ADMINISTRATOR)
    if not _is_confirmed(key, code, workspace):
        raise UsageError(
            "the administrator was not accepted",
            why="the code was not confirmed",
            next_step="Ask the administrator for the code (`zesty devices key` shows it), and give it: --code CODE",
        )
    before = next((entry for entry in fleet.administrators() if entry.key == key.text), Administrator(key.text))
    fleet.note_administrator(replace(before, accepted_at=workspace.now().strftime("%Y-%m-%dT%H:%M:%SZ")))


def _is_confirmed(key: PublicKey, code: str, workspace: Workspace) -> bool:
    if code:
        return same_code(code, key.code)
    interaction = workspace.interaction
    if not interaction.can_ask:
        return False
    interaction.note(f"The administrator's code is {key.code}.")
    interaction.note("That key is enough to change the profiles on this device from now on.")
    answer = interaction.ask("Is it the code that your administrator gave you? y or n [n] ")
    return answer.casefold() in ("y", "yes")


def _withdraw(code: str, fleet: FleetStore) -> None:
    for entry in fleet.administrators():
        if entry.accepted_at and same_code(code, read_key(entry.key, ADMINISTRATOR).code):
            fleet.note_administrator(replace(entry, accepted_at=""))
            return
    raise NotFound(f"no administrator with the code {code!r:.40} is accepted", next_step="`zesty enrol` shows them.")
