"""``zesty receive``, on a device: take what an administrator has handed over, once the owner has agreed."""

from __future__ import annotations

import sys
from argparse import ArgumentParser, Namespace
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from zesty_burrow.commands.context import Context
from zesty_burrow.core.credentials import kind_of
from zesty_burrow.core.scope import Scope
from zesty_burrow.errors import Clash, InputError, NotFound, printable
from zesty_burrow.fleet.bundle import LONGEST, Bundle, open_bundle
from zesty_burrow.fleet.keys import DEVICE, OwnKeys, PublicKey, make_secret, pickup_name
from zesty_burrow.report.results.devices import ReceiptResult
from zesty_burrow.store.fleet_store import Administrator

if TYPE_CHECKING:
    from zesty_burrow.core.profile import Profile
    from zesty_burrow.store.store import Store

NOTHING = 404
EXAMPLE = "zesty receive curlew.bundle"
IMPORTED, WAITING, DECLINED = "imported", "waiting", "declined"


def add_arguments(parser: ArgumentParser) -> None:
    """The command's words."""
    text = "what an administrator has made for this device; without it, what is waiting for you to agree"
    parser.add_argument("file", nargs="?", type=Path, metavar="FILE", help=text)
    parser.add_argument("--agree", action="store_true", help="agree without being asked")
    text = "fetch what waits for this device, from where the administrator's `zesty links serve` answers"
    parser.add_argument("--from", dest="source", metavar="URL", default="", help=text)
    text = "the authority of the server there, PEM, where it is not one of the system's"
    parser.add_argument("--authority", type=Path, metavar="FILE", help=text)
    parser.add_argument("--timeout", type=float, default=15.0, metavar="SECONDS", help="for the server to answer (15)")


def run(args: Namespace, context: Context) -> ReceiptResult:
    """Open, show, ask, import: all of it or nothing."""
    with context.store() as store:
        own = OwnKeys(store.fleet.own_key(DEVICE, make_secret))
        if args.source:
            return _fetch(args, own, context, store)
        if args.file is not None:
            return _take(args.file, own, args, context, store)
        waiting = sorted(_waiting(context).glob("*.bundle")) if _waiting(context).is_dir() else []
        if not waiting:
            raise NotFound("nothing is waiting", next_step="Name the file that your administrator has sent.")
        return _take(waiting[0], own, args, context, store)


def _waiting(context: Context) -> Path:
    return context.paths.data / "waiting"


def _fetch(args: Namespace, own: OwnKeys, context: Context, store: Store) -> ReceiptResult:
    """What waits on a server; once it is imported, the server is informed."""
    from zesty_burrow.commands.devices.enrol import OK, authority_of, server_url
    from zesty_burrow.fleet.enrolment import say_taken
    from zesty_burrow.fleet.https_client import NotReached, ask_server

    url, authority = server_url(args.source), authority_of(args.authority)
    status, data = ask_server("GET", f"{url}/p/{pickup_name(own.public(DEVICE))}", authority, None, args.timeout)
    if status == NOTHING:
        raise NotFound("nothing is waiting", next_step="Ask your administrator: `zesty hand-over NAME --pickup`.")
    if status != OK:
        raise NotReached(f"{url} does not answer as it should", why=f"HTTP status {status}")
    made = _take_data(data, None, own, args, context, store)
    if made.state == IMPORTED:
        try:
            status, _ = ask_server("POST", f"{url}/p", authority, say_taken(own, made.number), args.timeout)
            why = "" if status == OK else f"HTTP status {status}"
        except NotReached as problem:
            why = problem.why
        if why:
            words = "It is imported here, but the server could not be informed"
            context.reporter.note(f"{words}: {why}. The same command again does that.", style="yellow")
    return made


def _take(path: Path, own: OwnKeys, args: Namespace, context: Context, store: Store) -> ReceiptResult:
    from zesty_burrow.host.files import read_bounded

    return _take_data(read_bounded(path, LONGEST)[0], path, own, args, context, store)


def _take_data(
    data: bytes, path: Path | None, own: OwnKeys, args: Namespace, context: Context, store: Store
) -> ReceiptResult:
    """``path``: where it came from, if it was a file."""
    bundle = open_bundle(data, own)
    administrator = bundle.administrator
    if administrator is None:
        raise InputError("this bundle is signed by nobody")
    known = next(
        (one for one in store.fleet.administrators() if one.key == administrator.text),
        Administrator(administrator.text),
    )
    profiles, kinds = bundle.profiles, tuple(str(kind_of(value)) for _, value in bundle.credentials)
    names = tuple(profile.name for profile in profiles)
    if path is None and bundle.number == known.number:
        # The server may not know it yet: the confirmation was lost, or the owner has agreed in between.
        told = "It was imported before."
        return ReceiptResult(IMPORTED, bundle.number, administrator.code, names, kinds, told)
    if bundle.number <= known.number:
        raise Clash(
            "this bundle came before",
            why=f"its number is {bundle.number}, and number {known.number} was imported",
            next_step="Ask for a new one; nothing was changed.",
            slug="bundle-repeated",
        )
    if not (args.agree or known.accepted_at or _is_here(bundle, profiles, known, store)):
        if not (sys.stdin.isatty() and sys.stderr.isatty()):
            _keep(path, data, administrator, context)
            told = "The owner of this device has to agree: zesty receive"
            return ReceiptResult(WAITING, bundle.number, administrator.code, names, kinds, told)
        if not _agrees(bundle, profiles, administrator, context):
            return ReceiptResult(DECLINED, bundle.number, administrator.code, names, kinds, "Nothing was changed.")
    _import(bundle, profiles, known, store)
    with suppress(FileNotFoundError):
        (_waiting(context) / f"{administrator.code}.bundle").unlink()
    told = f"Connect: zesty connect {names[0]}" if names else ""
    if bundle.report_to:
        told = f"{told}. Report each hour: zesty startup add report".removeprefix(". ")
    return ReceiptResult(IMPORTED, bundle.number, administrator.code, names, kinds, told)


def _is_here(bundle: Bundle, profiles: Sequence[Profile], known: Administrator, store: Store) -> bool:
    """Whether the owner has agreed to all of it before: then there is nothing to ask."""
    from zesty_burrow.profiles.text import content_digest, write_profile

    digests = store.digests()
    if tuple(one.name for one in profiles) != known.received:
        return False
    if (bundle.report_to, bundle.report_authority) != (known.report_to, known.report_authority):
        return False
    if any(digests.get(one.name) != content_digest(one, write_profile(one)) for one in profiles):
        return False
    return all(
        store.find_credentials(Scope(scope.label, "", scope.profile), kind_of(value)) == value
        for scope, value in bundle.credentials
    )


def _agrees(bundle: Bundle, profiles: Sequence[Profile], administrator: PublicKey, context: Context) -> bool:
    """What will be trusted and set is shown first, in the order in which it is taken."""
    from cryptography import x509
    from cryptography.hazmat.primitives.hashes import SHA256

    def told(text: str) -> None:
        # Until the owner agrees it is a stranger's.
        context.reporter.note(printable(text))

    told(f"From the administrator with the code {administrator.code}, made {bundle.made_at}:")
    for pem in dict.fromkeys(pem for profile in profiles for pem in profile.authorities):
        for one in x509.load_pem_x509_certificates(pem.encode()) if "BEGIN" in pem else ():
            told(f"  to be trusted: {one.subject.rfc4514_string()}, SHA-256 {one.fingerprint(SHA256()).hex(':')}")
    for profile in profiles:
        through = "all traffic" if profile.traffic.everything else ", ".join(map(str, profile.traffic.networks))
        told(f"  settings: {profile.name}, {profile.over} to {profile.place}, {through}")
    for scope, value in bundle.credentials:
        told(f"  credentials: {kind_of(value)} for {scope}")
    if bundle.report_to:
        told(f"  reports: `zesty report` on this device sends its verdicts to {bundle.report_to}")
    return context.reporter.ask("Take them? y or n [n] ").casefold() in ("y", "yes")


def _keep(path: Path | None, data: bytes, administrator: PublicKey, context: Context) -> None:
    """For later, encrypted as it is; one of each administrator, the newest."""
    from zesty_burrow.host.replace_file import replace_file

    if path is not None and path.parent == _waiting(context):
        return
    folder = context.paths.make(context.paths.data) / "waiting"
    folder.mkdir(mode=0o700, exist_ok=True)
    replace_file(folder / f"{administrator.code}.bundle", data, 0o600)


def _import(bundle: Bundle, profiles: Sequence[Profile], known: Administrator, store: Store) -> None:
    """One transaction. What the owner has made under the same name is not replaced."""
    from zesty_burrow.intake.import_plan import NewProfile

    origin = f"administrator {bundle.administrator.code}" if bundle.administrator else "administrator"
    fresh = [NewProfile.of(profile, origin) for profile in profiles]
    digests = store.digests()
    taken = [
        one.profile.name
        for one in fresh
        if digests.get(one.profile.name, one.digest) != one.digest and one.profile.name not in known.received
    ]
    if taken:
        raise Clash(
            f"this device has a profile {taken[0]} of its own",
            why="it is another one, and did not come from this administrator",
            next_step=f"Rename it there: zesty rename {taken[0]} NEW; then hand over again.",
            slug="profile-name-taken",
        )
    going = {one.profile.name for one in fresh} | set(known.received)
    secrets = [(Scope(scope.label, "", scope.profile), value, origin) for scope, value in bundle.credentials]
    store.take_kit(fresh, secrets, replacing=sorted(going & digests.keys()), what=f"receive from {origin}")
    names = tuple(one.profile.name for one in fresh)
    store.fleet.note_administrator(
        replace(
            known,
            number=bundle.number,
            received=names,
            report_to=bundle.report_to,
            report_authority=bundle.report_authority,
        )
    )
