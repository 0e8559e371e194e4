"""``zesty startup``: a tunnel, the guard, or reports, from the machine's start or from a user's sign-in on."""

from __future__ import annotations

import pwd
import sys
from argparse import ArgumentParser, Namespace
from dataclasses import replace
from pathlib import Path
from typing import Any

from zesty_burrow.commands.context import Context
from zesty_burrow.errors import NotFound, StateError, UsageError
from zesty_burrow.host.guard.guard import BY_USER, Guard
from zesty_burrow.host.guard.plan import EVERYTHING, Share, held_by
from zesty_burrow.host.guard.record import read_record
from zesty_burrow.host.guard.state import timestamp
from zesty_burrow.host.paths import HOME_VARIABLE, machine_paths
from zesty_burrow.host.units.folder import SYSTEM, Installed, UnitFolder
from zesty_burrow.host.units.texts import GUARD, REPORT, TIMERS, Unit, guard_unit, report_unit, tunnel_unit
from zesty_burrow.profiles.policy import restrict
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.listing import StartupResult
from zesty_burrow.report.results.plain import MessageResult, TextResult

EXAMPLE = "zesty startup show guard"
MOST_OFTEN, HOURLY, LEAST_OFTEN = 5, 60, 10080
"""Minutes between reports."""


def add_arguments(parser: ArgumentParser) -> None:
    """The command's words."""
    parser.add_argument("--into", type=Path, default=SYSTEM, metavar="FOLDER", help=f"the folder of units ({SYSTEM})")
    actions = parser.add_subparsers(dest="action", metavar="ACTION")
    actions.add_parser("list", help="what is started, and when", description="List what is started, and when.")
    for name, text in (
        ("show", "print the unit that would be written"),
        ("add", "write and enable a unit of systemd"),
        ("remove", "disable and remove it"),
    ):
        one = actions.add_parser(name, help=text, description=text[:1].upper() + text[1:] + ".")
        text = f"a profile's name; {GUARD}: the guard, before there is a network; {REPORT}: `zesty report`, by a timer"
        one.add_argument("what", help=text)
        if name != "remove":
            text = f"for {REPORT}: how often, {MOST_OFTEN} to {LEAST_OFTEN} ({HOURLY})"
            one.add_argument("--every", type=int, default=HOURLY, metavar="MINUTES", help=text)
            text = "for as long as this user has signed in, instead of from the machine's start on"
            one.add_argument("--sign-in", metavar="USER", default="", help=text)


def run(args: Namespace, context: Context) -> Result:
    """List, show, add or remove."""
    folder = UnitFolder(args.into.absolute())
    if args.action in (None, "list"):
        return StartupResult(tuple(_row(one) for one in folder.list()))
    if args.action == "remove":
        path = folder.remove(args.what)
        Guard(context.paths.guard).hold_at_start(_held_as(args.what), None)
        also = _guard_without_use(folder, context)
        return MessageResult(f"{path}{also} was removed. What it has started goes on until it is ended.")
    unit = _report(args, context) if args.what == REPORT else _unit(args.what, args.sign_in, context)
    if args.action == "show":
        return TextResult("\n".join(filter(None, (unit.text, unit.timer))).rstrip("\n"))
    path = folder.add(unit)
    held = _hold_from_start(args, context, folder)
    when = f"when {args.sign_in} signs in next" if args.sign_in else "with the next start of the machine"
    return MessageResult(f"{path} was written and enabled; it takes effect {when}.{held}")


def _guard_without_use(folder: UnitFolder, context: Context) -> str:
    """The guard's unit goes with the last tunnel's, where the user has not added it for itself; its path in words."""
    tunnels = [one for one in folder.list() if one.what not in (GUARD, REPORT)]
    if tunnels or not folder.has(GUARD) or read_record(context.paths.guard).at_start:
        return ""
    return f", with {folder.remove(GUARD)},"


def _held_as(what: str) -> str:
    """Under which name the guard holds something from the machine's start on."""
    return BY_USER if what == GUARD else what


def _hold_from_start(args: Namespace, context: Context, folder: UnitFolder) -> str:
    """What the guard holds before there is a network; in words."""
    if args.what == REPORT:
        return ""
    guard = Guard(context.paths.guard)
    context.paths.make(context.paths.state)
    if args.what == GUARD:
        guard.hold_at_start(BY_USER, Share(EVERYTHING, timestamp(), "set with the machine's start"))
        return ""
    with context.layered_store() as layered_store:
        profile = layered_store.find_profile(args.what)[0]
    if not folder.has(GUARD):
        folder.add(guard_unit(*_program(context)))
    held = held_by(profile.traffic) if profile.traffic.everything and not args.sign_in else ()
    guard.hold_at_start(profile.name, None)
    if not held:
        return ""
    why = "its tunnel starts with the machine, and is not up yet"
    guard.hold_at_start(profile.name, Share(held, timestamp(), profile.name, why=why))
    return (
        " From the machine's start on nothing that belongs in this tunnel leaves beside it; `zesty disconnect` "
        "opens the "
        "guard until the next start."
    )


def _row(one: Installed) -> dict[str, Any]:
    users = [by.removeprefix("user@").removesuffix(".service") for by in one.started_by if by.startswith("user@")]
    when = [f"when {_name_of(user)} signs in" for user in users]
    when += ["by a timer"] if TIMERS in one.started_by else []
    when += ["with the machine"] if len(when) < len(one.started_by) else []
    return {"what": one.what, "path": str(one.path), "enabled": bool(one.started_by), "when": ", ".join(when)}


def _name_of(user: str) -> str:
    try:
        return pwd.getpwuid(int(user)).pw_name
    except (KeyError, ValueError, OverflowError):
        return f"user {user}"


def _user(name: str) -> int:
    try:
        return int(name) if name.isdecimal() else pwd.getpwnam(name).pw_uid
    except KeyError:
        raise NotFound(f"there is no user {name!r} here", next_step="Give a user's name or number.") from None


def _report(args: Namespace, context: Context) -> Unit:
    """With the machine's store, as a tunnel: it is root's own, and so what came by SSH to root."""
    if args.sign_in:
        raise UsageError("reports are sent from the machine's start on; --sign-in is for tunnels")
    if not MOST_OFTEN <= args.every <= LEAST_OFTEN:
        raise UsageError(f"--every {args.every} is not from {MOST_OFTEN} to {LEAST_OFTEN} minutes")
    program, environment = _program(context)
    machine = context if environment else replace(context, paths=machine_paths(context.environment))
    if not machine.has_store() or not _wants_reports(machine):
        raise StateError(
            "nobody wants reports of this machine",
            why=f"in the store {machine.paths.store} no administrator has said where to report to",
            next_step="Have them hand over to root here, with `zesty hand-over … --report URL`.",
        )
    _require_openable(machine)
    return report_unit(program, environment, args.every)


def _wants_reports(context: Context) -> bool:
    with context.store() as store:
        return any(one.report_to for one in store.fleet.administrators())


def _program(context: Context) -> tuple[list[str], list[tuple[str, str]]]:
    """The command of a unit, and its environment: with the store that is named there, else the machine's."""
    program = [str(Path(sys.executable).with_name("zesty"))]
    own = context.environment.get(HOME_VARIABLE, "")
    return (program, [(HOME_VARIABLE, own)]) if own else ([*program, "--for", "machine"], [])


def _unit(what: str, user: str, context: Context) -> Unit:
    program, environment = _program(context)
    if what == GUARD:
        if user:
            raise UsageError("the guard holds from the machine's start on; --sign-in is for tunnels")
        return guard_unit(program, environment)
    with context.layered_store() as layered_store:
        # What `connect` would refuse: there is nobody to say a word each time.
        profile = restrict(context.policy(), layered_store.find_profile(what)[0])
    _require_openable(context)
    return tunnel_unit(profile.name, program, environment, user=_user(user) if user else None)


def _require_openable(context: Context) -> None:
    """What the machine starts has no keyring of a user's, and nobody to ask for a passphrase."""
    method = context.settings().seal
    if method != "key-file":
        raise StateError(
            "this could not be started without you",
            why=f"its secrets are encrypted with the {method}, which only you can give",
            next_step="Use a key file (`zesty seal --method key-file`), or only the guard: `zesty startup add guard`.",
            slug="secrets-need-you",
        )
