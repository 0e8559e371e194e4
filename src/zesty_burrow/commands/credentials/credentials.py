"""``zesty credentials``: what is kept and who uses it; change it everywhere at once, forget it, try it."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace
from typing import Any

from zesty_burrow.commands.context import Context
from zesty_burrow.commands.profiles.remove_profiles import add_for_good
from zesty_burrow.core.scope import CredentialsKind
from zesty_burrow.records import asdict
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.changes import CredentialsResult
from zesty_burrow.report.results.plain import MessageResult
from zesty_burrow.store.history import KEPT_DAYS
from zesty_burrow.use_cases.credentials.ask import ASKED
from zesty_burrow.use_cases.credentials.manage import (
    CredentialsOf,
    KeptCredentials,
    TryRequest,
    change_credentials,
    forget_credentials,
    list_credentials,
    try_credentials,
)

EXAMPLE = 'zesty credentials change "Quillwort Relay"'


def add_arguments(parser: ArgumentParser) -> None:
    actions = parser.add_subparsers(dest="action", required=True, metavar="ACTION")
    actions.add_parser(
        "list", help="list labels and the profiles that use them", description="Nothing secret is shown."
    )
    change = "ask without echo, or read lines from standard input, a file or the keyring"
    one = actions.add_parser("change", help=change, description=change)
    _add_scope(one)
    one.add_argument("--kind", choices=[str(kind) for kind in ASKED], default=str(CredentialsKind.NAME_PASSWORD))
    one.add_argument("--domain", default="", help="the login domain of the name")
    one.add_argument(
        "--from",
        dest="source",
        default="",
        metavar="WHERE",
        help="a file that only you can read; - for standard input; or keyring:SERVICE/NAME",
    )
    forget = actions.add_parser("forget", help="remove stored credentials", description="Remove stored credentials.")
    _add_scope(forget)
    forget.add_argument("--kind", choices=[str(kind) for kind in CredentialsKind], default="", help="only this kind")
    text = "negotiate and sign in for real, open no tunnel; needs no rights and changes nothing"
    add_for_good(forget)
    attempt = actions.add_parser("try", help="check whether a gateway accepts them", description=text)
    attempt.add_argument("name", help="a profile's name, or a city that only one profile has")
    attempt.add_argument("--device", default="", help="with the credentials of another of your devices")
    attempt.add_argument(
        "--unprotected", action="store_true", help="use a protocol that protects next to nothing as well"
    )
    attempt.add_argument("--ask", action="store_true", help="ask for the credentials and store nothing")
    attempt.add_argument("--timeout", type=float, default=15.0, metavar="SECONDS", help="for the gateway (15)")


def _add_scope(parser: ArgumentParser) -> None:
    parser.add_argument("label", nargs="?", default="", help="as `list` shows it; usually the provider's name")
    parser.add_argument("--profile", default="", help="for this profile only")
    parser.add_argument("--device", default="", help="for this device only")


def run(args: Namespace, context: Context) -> Result:
    """List, change, forget or try."""
    if args.action == "list":
        return CredentialsResult(tuple(_row(entry) for entry in list_credentials(context)))
    if args.action == "try":
        request = TryRequest(args.name, args.device, args.unprotected, args.ask, args.timeout)
        accepted = try_credentials(request, context)
        words = f"{accepted.profile} ({accepted.address}) accepts the credentials: {accepted.credentials}."
        return MessageResult(words)
    whose = CredentialsOf(args.label, args.profile, args.device)
    if args.action == "forget":
        scope, count = forget_credentials(whose, args.kind, context, for_good=args.for_good)
        back = "" if args.for_good else f" They can be taken back for {KEPT_DAYS} days: zesty undo"
        return MessageResult(f"The credentials for {scope} are gone ({count}).{back}")
    changed = change_credentials(whose, CredentialsKind(args.kind), context, args.source, args.domain)
    done = "were changed for all profiles that use them."
    if not changed.is_used:
        done = f"were stored; no profile uses them yet{f'. Is {changed.meant!r} meant?' if changed.meant else '.'}"
    notes = "".join(f" Note: {slip}." for slip in changed.slips)
    return MessageResult(f"The credentials for {changed.scope} {done}{notes}")


def _row(entry: KeptCredentials) -> dict[str, Any]:
    return {**asdict(entry), "profiles": list(entry.profiles)}
