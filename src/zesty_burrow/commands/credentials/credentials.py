"""``zesty credentials``: what is kept and who uses it; change it everywhere at once, forget it, try it."""

from __future__ import annotations

import difflib
from argparse import ArgumentParser, Namespace
from typing import TYPE_CHECKING

from zesty_burrow.commands.context import Context
from zesty_burrow.commands.credentials.ask_credentials import ASKED, ask_credentials
from zesty_burrow.commands.profiles.remove_profiles import add_for_good
from zesty_burrow.core.scope import CredentialsKind, Scope
from zesty_burrow.errors import UsageError
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.changes import CredentialsResult
from zesty_burrow.report.results.plain import MessageResult
from zesty_burrow.store.history import KEPT_DAYS

if TYPE_CHECKING:
    from zesty_burrow.store.store import Store

EXAMPLE = 'zesty credentials change "Quillwort Relay"'


def add_arguments(parser: ArgumentParser) -> None:
    """The command's words."""
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
        "--unprotected", action="store_true", help="go over pptp, although it protects next to nothing"
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
        return _list(context)
    if args.action == "try":
        return _try(args, context)
    if bool(args.label) == bool(args.profile):
        raise UsageError(
            "whose credentials?", next_step="Say a label, as `zesty credentials list` shows it; or --profile."
        )
    with context.store() as store:
        scope = _scope(args, store)
        if args.action == "forget":
            count = store.forget_credentials(scope, args.kind, for_good=args.for_good)
            back = "" if args.for_good else f" They can be taken back for {KEPT_DAYS} days: zesty undo"
            return MessageResult(f"The credentials for {scope} are gone ({count}).{back}")
        value, slips = ask_credentials(str(scope), CredentialsKind(args.kind), args.source, args.domain)
        what = f"change the credentials for {scope}"
        store.take_kit([], [(scope, value, args.source or "typed in")], what=what)
        unused = "" if args.profile else _unused(scope.label, store)
    said = "".join(f" Note: {slip}." for slip in slips)
    done = unused or "were changed for all profiles that use them."
    return MessageResult(f"The credentials for {scope} {done}{said}")


def _unused(label: str, store: Store) -> str:
    """Where no profile has that label: so, and which one may have been meant."""
    labels = set(store.labels().values())
    if label in labels:
        return ""
    near = difflib.get_close_matches(label.casefold(), {one.casefold(): one for one in labels}, 1, 0.5)
    meant = next((one for one in labels if near and one.casefold() == near[0]), "")
    return f"were stored; no profile uses them yet{f'. Is {meant!r} meant?' if meant else '.'}"


def _scope(args: Namespace, store: Store) -> Scope:
    if not args.profile:
        return Scope(args.label, args.device)
    profile = store.find_profile(args.profile)[0]
    return Scope(profile.credentials_label, args.device, profile.name)


def _list(context: Context) -> CredentialsResult:
    """Every entry with its users, and labels that profiles need and nobody keeps."""
    with context.store() as store:
        labels = store.labels()
        kept = store.list_credentials()
    rows = []
    for entry in kept:
        label_users = [name for name, label in labels.items() if label == entry.label]
        rows.append(
            {
                "label": entry.label,
                "device": entry.device,
                "profile": entry.profile,
                "kind": entry.kind,
                "domain": entry.domain,
                "worked_at": entry.worked_at,
                "scope": str(entry.scope),
                "sealed_at": entry.imported_at,
                "origin": entry.origin,
                "profiles": [entry.profile] if entry.profile else sorted(label_users),
            }
        )
    known = {entry.label for entry in kept}
    for label in sorted(set(labels.values()) - known):
        users = sorted(name for name, other in labels.items() if other == label)
        empty = {"device": "", "profile": "", "kind": "", "domain": "", "worked_at": "", "sealed_at": "", "origin": ""}
        rows.append({"label": label, **empty, "scope": label, "profiles": users})
    return CredentialsResult(tuple(rows))


def _try(args: Namespace, context: Context) -> MessageResult:
    """Negotiate, let the gateway prove itself, sign in, say goodbye."""
    from zesty_burrow.carrier.attempt import Attempt
    from zesty_burrow.commands.credentials.choose_credentials import choose, explained, note_sign_in
    from zesty_burrow.profiles.policy import restrict

    with context.layered_store() as layered_store:
        profile = restrict(context.policy(), layered_store.find_profile(args.name)[0], unprotected=args.unprotected)
        chosen = choose(profile, layered_store, context, ask=args.ask, device=args.device)
    with explained(chosen):
        address = Attempt(profile, chosen.secrets, args.timeout, context.reporter.step).run()
    note_sign_in(chosen, context)
    return MessageResult(f"{profile.name} ({address}) accepts the credentials: {chosen.words}.")
