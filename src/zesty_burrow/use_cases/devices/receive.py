"""On a device: take what an administrator has handed over, once the owner has agreed."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING

from zesty_burrow.core.credentials import kind_of
from zesty_burrow.core.scope import Scope
from zesty_burrow.errors import Clash, InputError, NotFound, printable
from zesty_burrow.fleet.bundle import LONGEST, Bundle, open_bundle
from zesty_burrow.fleet.keys import DEVICE, OwnKeys, PublicKey, make_secret, pickup_name
from zesty_burrow.records import dataclass, replace
from zesty_burrow.store.fleet.fleet_store import Administrator
from zesty_burrow.use_cases.devices.enrol import OK, authority_of, server_url
from zesty_burrow.use_cases.workspace import Workspace

if TYPE_CHECKING:
    from zesty_burrow.core.profile import Profile
    from zesty_burrow.store.store import Store

NOTHING = 404
IMPORTED, WAITING, DECLINED = "imported", "waiting", "declined"


@dataclass(frozen=True, slots=True)
class ReceiveRequest:
    """``file``: a bundle; if it and ``source`` are empty, the one that waits for the owner to agree.

    ``agree``: without being asked. ``source``: the URL of an administrator's server of links, proved by ``authority``
    (a PEM file) or the system's authorities; ``timeout`` in seconds.
    """

    file: Path | None = None
    agree: bool = False
    source: str = ""
    authority: Path | None = None
    timeout: float = 15.0


@dataclass(frozen=True, slots=True)
class Received:
    """``state``: "imported", "waiting" (for the owner to agree) or "declined". ``administrator``: that one's code.

    ``credentials``: their kinds. ``detail``: what to do next.
    """

    state: str
    number: int
    administrator: str
    profiles: tuple[str, ...]
    credentials: tuple[str, ...]
    detail: str = ""


def receive(request: ReceiveRequest, workspace: Workspace) -> Received:
    """Open, show, ask, import: all of it or nothing.

    Raises :class:`NotFound` if nothing waits, :class:`InputError` for a bundle of another device or a changed one,
    :class:`Clash` for an old bundle or a profile of the owner's, :class:`NotReached` if the server does not answer.
    """
    from zesty_burrow.host.files import read_bounded

    with workspace.store() as store:
        own = OwnKeys(store.fleet.own_key(DEVICE, make_secret))
        if request.source:
            return _fetch(request, own, workspace, store)
        path = request.file
        if path is None:
            path = next(iter(sorted(_waiting(workspace).glob("*.bundle"))), None)
        if path is None:
            raise NotFound("nothing is waiting", next_step="Name the file that your administrator has sent.")
        return _take_data(read_bounded(path, LONGEST)[0], path, own, request, workspace, store)


def _waiting(workspace: Workspace) -> Path:
    return workspace.paths.data / "waiting"


def _fetch(request: ReceiveRequest, own: OwnKeys, workspace: Workspace, store: Store) -> Received:
    """What waits on a server; once it is imported, the server is informed."""
    from zesty_burrow.fleet.enrolment import say_taken
    from zesty_burrow.fleet.https_client import NotReached, ask_server

    url, authority = server_url(request.source), authority_of(request.authority)
    status, data = ask_server("GET", f"{url}/p/{pickup_name(own.public(DEVICE))}", authority, None, request.timeout)
    if status == NOTHING:
        raise NotFound("nothing is waiting", next_step="Ask your administrator: `zesty hand-over NAME --pickup`.")
    if status != OK:
        raise NotReached(f"{url} does not answer as it should", why=f"HTTP status {status}")
    made = _take_data(data, None, own, request, workspace, store)
    if made.state == IMPORTED:
        try:
            status, _ = ask_server("POST", f"{url}/p", authority, say_taken(own, made.number), request.timeout)
            why = "" if status == OK else f"HTTP status {status}"
        except NotReached as problem:
            why = problem.why
        if why:
            words = "It is imported here, but the server could not be informed"
            workspace.interaction.note(f"{words}: {why}. The same command again does that.", style="yellow")
    return made


def _take_data(
    data: bytes, path: Path | None, own: OwnKeys, request: ReceiveRequest, workspace: Workspace, store: Store
) -> Received:
    """``path``: where it came from, if it was a file."""
    bundle = open_bundle(data, own)
    administrator = bundle.administrator
    if administrator is None:
        raise InputError("this bundle is signed by nobody")
    known = next(
        (entry for entry in store.fleet.administrators() if entry.key == administrator.text),
        Administrator(administrator.text),
    )
    profiles, kinds = bundle.profiles, tuple(str(kind_of(value)) for _, value in bundle.credentials)
    names = tuple(profile.name for profile in profiles)
    if path is None and bundle.number == known.number:
        # The server may not know it yet: the confirmation was lost, or the owner has agreed in between.
        told = "It was imported before."
        return Received(IMPORTED, bundle.number, administrator.code, names, kinds, told)
    if bundle.number <= known.number:
        raise Clash(
            "this bundle came before",
            why=f"its number is {bundle.number}, and number {known.number} was imported",
            next_step="Ask for a new one; nothing was changed.",
            slug="bundle-repeated",
        )
    if not (request.agree or known.accepted_at or _is_here(bundle, profiles, known, store)):
        if not workspace.interaction.can_ask:
            _keep(path, data, administrator, workspace)
            told = "The owner of this device has to agree: zesty receive"
            return Received(WAITING, bundle.number, administrator.code, names, kinds, told)
        if not _agrees(bundle, profiles, administrator, workspace):
            return Received(DECLINED, bundle.number, administrator.code, names, kinds, "Nothing was changed.")
    _import(bundle, profiles, known, store)
    with suppress(FileNotFoundError):
        (_waiting(workspace) / f"{administrator.code}.bundle").unlink()
    told = f"Connect: zesty connect {names[0]}" if names else ""
    if bundle.report_to:
        told = f"{told}. Report each hour: zesty startup add report".removeprefix(". ")
    return Received(IMPORTED, bundle.number, administrator.code, names, kinds, told)


def _is_here(bundle: Bundle, profiles: Sequence[Profile], known: Administrator, store: Store) -> bool:
    """Whether the owner has agreed to all of it before: then there is nothing to ask."""
    from zesty_burrow.profiles.text import content_digest, write_profile

    digests = store.digests()
    if tuple(profile.name for profile in profiles) != known.received:
        return False
    if (bundle.report_to, bundle.report_authority) != (known.report_to, known.report_authority):
        return False
    if any(digests.get(profile.name) != content_digest(profile, write_profile(profile)) for profile in profiles):
        return False
    return all(
        store.find_credentials(Scope(scope.label, "", scope.profile), kind_of(value)) == value
        for scope, value in bundle.credentials
    )


def _agrees(bundle: Bundle, profiles: Sequence[Profile], administrator: PublicKey, workspace: Workspace) -> bool:
    """What will be trusted and set is shown first, in the order in which it is taken."""
    from cryptography import x509
    from cryptography.hazmat.primitives.hashes import SHA256

    def told(text: str) -> None:
        # Until the owner agrees it is a stranger's.
        workspace.interaction.note(printable(text))

    told(f"From the administrator with the code {administrator.code}, made {bundle.made_at}:")
    for pem in dict.fromkeys(pem for profile in profiles for pem in profile.authorities):
        for certificate in x509.load_pem_x509_certificates(pem.encode()) if "BEGIN" in pem else ():
            fingerprint = certificate.fingerprint(SHA256()).hex(":")
            told(f"  to be trusted: {certificate.subject.rfc4514_string()}, SHA-256 {fingerprint}")
    for profile in profiles:
        through = "all traffic" if profile.traffic.everything else ", ".join(map(str, profile.traffic.networks))
        told(f"  settings: {profile.name}, {profile.over} to {profile.place}, {through}")
    for scope, value in bundle.credentials:
        told(f"  credentials: {kind_of(value)} for {scope}")
    if bundle.report_to:
        told(f"  reports: `zesty report` on this device sends its verdicts to {bundle.report_to}")
    return workspace.interaction.ask("Take them? y or n [n] ").casefold() in ("y", "yes")


def _keep(path: Path | None, data: bytes, administrator: PublicKey, workspace: Workspace) -> None:
    """For later, encrypted as it is; one of each administrator, the newest."""
    from zesty_burrow.host.replace_file import replace_file

    if path is not None and path.parent == _waiting(workspace):
        return
    folder = workspace.paths.make(workspace.paths.data) / "waiting"
    folder.mkdir(mode=0o700, exist_ok=True)
    replace_file(folder / f"{administrator.code}.bundle", data, 0o600)


def _import(bundle: Bundle, profiles: Sequence[Profile], known: Administrator, store: Store) -> None:
    """One transaction. What the owner has made under the same name is not replaced."""
    from zesty_burrow.intake.import_plan import NewProfile

    origin = f"administrator {bundle.administrator.code}" if bundle.administrator else "administrator"
    fresh = [NewProfile.of(profile, origin) for profile in profiles]
    digests = store.digests()
    taken = [
        new.profile.name
        for new in fresh
        if digests.get(new.profile.name, new.digest) != new.digest and new.profile.name not in known.received
    ]
    if taken:
        raise Clash(
            f"this device has a profile {taken[0]} of its own",
            why="it is another one, and did not come from this administrator",
            next_step=f"Rename it there: zesty rename {taken[0]} NEW; then hand over again.",
            slug="profile-name-taken",
        )
    going = {new.profile.name for new in fresh} | set(known.received)
    secrets = [(Scope(scope.label, "", scope.profile), value, origin) for scope, value in bundle.credentials]
    store.take_kit(fresh, secrets, replacing=sorted(going & digests.keys()), what=f"receive from {origin}")
    names = tuple(new.profile.name for new in fresh)
    store.fleet.note_administrator(
        replace(
            known,
            number=bundle.number,
            received=names,
            report_to=bundle.report_to,
            report_authority=bundle.report_authority,
        )
    )
