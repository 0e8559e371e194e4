"""``zesty portal``: look at a provider's portal; ``import`` and ``inspect`` take its address as a kit."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace
from dataclasses import asdict
from pathlib import Path
from urllib.parse import urlsplit

from zesty_burrow.commands.context import Context
from zesty_burrow.commands.credentials.ask_credentials import ask_credentials
from zesty_burrow.core.credentials import NamePassword
from zesty_burrow.core.scope import CredentialsKind
from zesty_burrow.errors import NotFound, UsageError
from zesty_burrow.gather.portal import PortalClient
from zesty_burrow.intake.kit_file import KitFile
from zesty_burrow.report.results.kits import PlacesResult

EXAMPLE = "zesty portal https://portal.quillwort.example/ --account portal-account.txt"
SORTS = ("load", "country", "city", "name")


def add_arguments(parser: ArgumentParser) -> None:
    """The command's words."""
    parser.add_argument("url", help="the portal's address, https://…")
    parser.add_argument("--account", metavar="FILE", default="", help="two lines: account and password for the portal")
    parser.add_argument("--authority", metavar="FILE", help="the authority of the portal's certificate")
    parser.add_argument("--sort", choices=SORTS, default="load", help="how the places are sorted (load)")


def run(args: Namespace, context: Context) -> PlacesResult:
    """Its places and what it recommends."""
    client = _signed_in(args.url, args)
    places = sorted(client.places(), key=lambda one: (getattr(one, args.sort), one.name))
    name, reason = client.recommendation()
    return PlacesResult(args.url, tuple(asdict(one) for one in places), name, reason)


def _signed_in(url: str, args: Namespace) -> PortalClient:
    client = PortalClient(url, Path(args.authority) if args.authority else None)
    account, _ = ask_credentials(urlsplit(url).hostname or url, CredentialsKind.NAME_PASSWORD, args.account, "")
    if not isinstance(account, NamePassword):
        raise UsageError("an account and a password are needed")
    client.sign_in(account)
    return client


def fetch_kit_files(url: str, args: Namespace, context: Context) -> tuple[str, list[KitFile]]:
    """The kits of the places that were named, or of all, with the credentials for manual set-up."""
    client = _signed_in(url, args)
    host = urlsplit(url).hostname or url
    wanted = list(dict.fromkeys(args.place)) or ["all"]
    if args.place:
        known = {one.name for one in client.places()}
        missing = [name for name in wanted if name not in known]
        if missing:
            there = ", ".join(sorted(known)[:20])
            raise NotFound(
                f"the portal has no place {missing[0]!r}", why=f"it has {there}", next_step="See `zesty portal`."
            )
    members = []
    for place in wanted:
        with context.reporter.progress(f"Fetching {place}") as progress:
            members.append(KitFile(f"{host}/{place}.zip", client.kit(place, progress), 0o600))
    value, _ = client.credentials()
    text = f"{value.name}\n{value.password.text()}\n"
    members.append(KitFile(f"{host}/credentials.txt", text.encode(), 0o600))
    return host, members
