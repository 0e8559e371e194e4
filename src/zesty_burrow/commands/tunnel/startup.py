"""``zesty startup``: a tunnel, or the guard, from the machine's start on."""

from __future__ import annotations

import sys
from argparse import ArgumentParser, Namespace
from pathlib import Path

from zesty_burrow.commands.context import Context
from zesty_burrow.errors import StateError
from zesty_burrow.host.paths import HOME_VARIABLE
from zesty_burrow.host.units.folder import SYSTEM, UnitFolder
from zesty_burrow.host.units.texts import GUARD, Unit, guard_unit, tunnel_unit
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.listing import StartupResult
from zesty_burrow.report.results.plain import MessageResult, TextResult

EXAMPLE = "zesty startup show guard"


def add_arguments(parser: ArgumentParser) -> None:
    """The command's words."""
    parser.add_argument("--into", type=Path, default=SYSTEM, metavar="FOLDER", help=f"the folder of units ({SYSTEM})")
    actions = parser.add_subparsers(dest="action", metavar="ACTION")
    actions.add_parser("list", help="what starts with the machine", description="List what starts with the machine.")
    for name, text in (
        ("show", "print the unit that would be written"),
        ("add", "write and enable a unit of systemd"),
        ("remove", "disable and remove it"),
    ):
        one = actions.add_parser(name, help=text, description=text[:1].upper() + text[1:] + ".")
        one.add_argument("what", help=f"a profile's name, or {GUARD}: the guard, before there is a network")


def run(args: Namespace, context: Context) -> Result:
    """List, show, add or remove."""
    folder = UnitFolder(args.into.absolute())
    if args.action in (None, "list"):
        return StartupResult(
            tuple({"what": one.what, "path": str(one.path), "enabled": one.enabled} for one in folder.list())
        )
    if args.action == "remove":
        path = folder.remove(args.what)
        return MessageResult(f"{path} was removed. What it has started goes on until it is ended.")
    unit = _unit(args.what, context)
    if args.action == "show":
        return TextResult(unit.text.rstrip("\n"))
    path = folder.add(unit)
    return MessageResult(f"{path} was written and enabled; it takes effect with the next start of the machine.")


def _unit(what: str, context: Context) -> Unit:
    program = [str(Path(sys.executable).with_name("zesty"))]
    own = context.environment.get(HOME_VARIABLE, "")
    environment = [(HOME_VARIABLE, own)] if own else []
    if what == GUARD:
        return guard_unit(program, environment)
    if not own:
        program += ["--for", "machine"]
    with context.layered_store() as layered_store:
        profile, _, _ = layered_store.find_profile(what)
    _require_openable(context)
    return tunnel_unit(profile.name, program, environment)


def _require_openable(context: Context) -> None:
    """Before anybody has signed in there is no keyring, and nobody to ask for a passphrase."""
    method = context.settings().seal
    if method != "key-file":
        raise StateError(
            "the tunnel could not be started without you",
            why=f"its secrets are encrypted with the {method}, which only you can give",
            next_step="Use a key file (`zesty seal --method key-file`), or only the guard: `zesty startup add guard`.",
            slug="secrets-need-you",
        )
