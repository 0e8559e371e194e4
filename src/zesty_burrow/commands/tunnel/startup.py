"""``zesty startup``: a tunnel, the guard, reports or verifications, from the machine's start or a user's sign-in on."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace
from pathlib import Path
from typing import Any

from zesty_burrow.commands.context import Context
from zesty_burrow.errors import UsageError
from zesty_burrow.host.paths import HOME_VARIABLE
from zesty_burrow.host.units.folder import SYSTEM
from zesty_burrow.host.units.texts import GUARD, REPORT, VERIFY
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.listing import StartupResult
from zesty_burrow.report.results.plain import MessageResult, TextResult
from zesty_burrow.use_cases.tunnel.startup import (
    HOURLY,
    LEAST_OFTEN,
    MOST_OFTEN,
    StartedUnit,
    StartupRequest,
    add_startup,
    list_startup,
    remove_startup,
    startup_text,
)

EXAMPLE = "zesty startup show guard"


def add_arguments(parser: ArgumentParser) -> None:
    parser.add_argument("--into", type=Path, default=SYSTEM, metavar="FOLDER", help=f"the folder of units ({SYSTEM})")
    actions = parser.add_subparsers(dest="action", metavar="ACTION")
    actions.add_parser("list", help="what is started, and when", description="List what is started, and when.")
    for name, text in (
        ("show", "print the unit that would be written"),
        ("add", "write and enable a unit of systemd"),
        ("remove", "disable and remove it"),
    ):
        one = actions.add_parser(name, help=text, description=text[:1].upper() + text[1:] + ".")
        text = f"a profile's name; {GUARD}: the guard, before there is a network; {REPORT} or {VERIFY}: that command, "
        text += "by a timer"
        one.add_argument("what", help=text)
        if name != "remove":
            text = f"for {REPORT} and {VERIFY}: how often, {MOST_OFTEN} to {LEAST_OFTEN} ({HOURLY})"
            one.add_argument("--every", type=int, default=HOURLY, metavar="MINUTES", help=text)
            text = f"for {VERIFY}: run this program when something has changed, as `zesty verify --on-change` does"
            one.add_argument("--on-change", type=Path, metavar="PROGRAM", help=text)
            text = "for as long as this user has signed in, instead of from the machine's start on"
            one.add_argument("--sign-in", metavar="USER", default="", help=text)


def run(args: Namespace, context: Context) -> Result:
    """List, show, add or remove."""
    if args.action in (None, "list"):
        return StartupResult(tuple(map(_row, list_startup(args.into))))
    if args.action == "remove":
        removed = remove_startup(args.what, context, args.into)
        also = f", with {removed.guard}," if removed.guard else ""
        return MessageResult(f"{removed.path}{also} was removed. What it has started goes on until it is ended.")
    home = context.environment.get(HOME_VARIABLE, "")
    if args.on_change is not None and (args.what != VERIFY or not args.on_change.is_absolute()):
        raise UsageError(f"--on-change is for {VERIFY}, and names a program by its whole path")
    request = StartupRequest(args.what, args.sign_in, args.every, args.into, home, args.on_change)
    if args.action == "show":
        return TextResult(startup_text(request, context))
    added = add_startup(request, context)
    when = f"when {args.sign_in} signs in next" if args.sign_in else "with the next start of the machine"
    message = f"{added.path} was written and enabled; it takes effect {when}."
    if added.held:
        message += (
            " From the machine's start on nothing that belongs in this tunnel leaves beside it; `zesty disconnect` "
            "opens the guard until the next start."
        )
    return MessageResult(message)


def _row(unit: StartedUnit) -> dict[str, Any]:
    when = [f"when {user} signs in" for user in unit.users]
    when += ["by a timer"] if unit.timer else []
    when += ["with the machine"] if unit.machine else []
    return {"what": unit.what, "path": str(unit.path), "enabled": bool(when), "when": ", ".join(when)}
