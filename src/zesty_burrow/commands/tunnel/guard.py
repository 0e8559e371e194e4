"""``zesty guard``: the allow-list by which nothing but the tunnels leaves this machine."""

from __future__ import annotations

import os
import pwd
from argparse import ArgumentParser, Namespace

from zesty_burrow.commands.context import Context
from zesty_burrow.core.net import network_list
from zesty_burrow.errors import InputError, UsageError
from zesty_burrow.host.guard.judge import judge_guard
from zesty_burrow.report.results.status import GuardResult
from zesty_burrow.use_cases.tunnel.guard import (
    LONGEST_PORTAL,
    close_guard,
    confirm_guard,
    open_guard,
    open_portal,
    probed,
)
from zesty_burrow.use_cases.tunnel.status import look_at_guard

EXAMPLE = "zesty guard on --local"


def add_arguments(parser: ArgumentParser) -> None:
    parser.set_defaults(probe=False)
    actions = parser.add_subparsers(dest="action", metavar="ACTION")
    text = "what it lets through, and what it has counted"
    show = actions.add_parser("show", help=text, description="Show the guard, as the kernel has it now.")
    show.add_argument(
        "--probe",
        action="store_true",
        help="also send packets against it to addresses where nobody is, and look whether any leaves (needs root)",
    )
    text = "close it, with or without a tunnel"
    on = actions.add_parser("on", help=text, description="Let nothing leave this machine, until `guard off`.")
    on.add_argument("--local", action="store_true", help="let the private local networks through, as they are now")
    on.add_argument(
        "--local-networks", metavar="LIST", default="", help="of --local: public networks that count as local ones too"
    )
    text = "Open it, as far as no tunnel holds it closed."
    actions.add_parser("off", help="open it, as far as no tunnel holds it closed", description=text)
    text = "keep a guard closed that would open again by itself (connect --confirm-within)"
    actions.add_parser("confirm", help=text, description=text[:1].upper() + text[1:] + ".")
    text = "be the process that owns it, for a unit of systemd"
    actions.add_parser("serve", help=text, description=text[:1].upper() + text[1:] + ".")
    text = "let a sign-in page of the local network be reached for some minutes"
    portal = actions.add_parser(
        "portal",
        help=text,
        description="Let one user's web pages and questions for names out for some minutes, to sign in to the local "
        "network. The kernel closes it again by itself.",
    )
    portal.add_argument("--minutes", type=float, default=5.0, metavar="N", help=f"1 to {LONGEST_PORTAL} (5)")
    portal.add_argument("--user", metavar="NAME", help="whose browser it is (who calls, also through sudo)")
    portal.add_argument("--close", action="store_true", help="close it now")


def run(args: Namespace, context: Context) -> GuardResult:
    """Show it, after a change if one is wanted."""
    message = ""
    if args.action == "on":
        message = _on(args, context)
    elif args.action == "off":
        message = _off(context)
    elif args.action == "confirm":
        message = f"Confirmed: {', '.join(confirm_guard(context))}. The guard stays closed."
    elif args.action == "portal":
        message = _portal(args, context)
    elif args.action == "serve":
        _serve(context)
    state = look_at_guard(context)
    if args.probe:
        state = probed(state)
    return GuardResult(state, message, tuple(judge_guard(state)))


def _serve(context: Context) -> None:
    """Never returns."""
    from zesty_burrow.host.guard.owner.process import serve

    context.paths.make(context.paths.state)
    serve(context.paths.guard, stays=True)


def _on(args: Namespace, context: Context) -> str:
    if args.local_networks and not args.local:
        raise UsageError("--local-networks says more of --local", next_step="Add --local.")
    named = network_list("--local-networks", args.local_networks)
    public = close_guard(context, local=args.local, named=named)
    message = "The guard is closed: nothing leaves this machine but what is named here."
    if public:
        names = ", ".join(f"{entry.network} by {entry.device}" for entry in public)
        message += f" Not let through, as their addresses are public: {names} (--local-networks names such networks)."
    return message


def _off(context: Context) -> str:
    opened = open_guard(context)
    if opened.held_by:
        return f"The guard stays closed: {', '.join(opened.held_by)} holds it. `zesty disconnect` ends that."
    return "The guard is open." if opened.was_held else ""


def _portal(args: Namespace, context: Context) -> str:
    user = _user(args.user)
    if args.close:
        open_portal(user, 0, context)
        return "The opening for a sign-in page is closed."
    if not args.minutes:
        raise UsageError(f"--minutes {args.minutes:g} is not between 1 and {LONGEST_PORTAL}")
    open_portal(user, args.minutes, context)
    return f"Web pages and names of user {user} pass for {args.minutes:g} minutes; then the kernel closes it by itself."


def _user(name: str | None) -> int:
    """Whose browser: the named user's, or that of the one who has called, also by way of another user's rights."""
    if name is None:
        given = os.environ.get("SUDO_UID", "")
        return int(given) if given.isdigit() else os.getuid()
    if name.isdigit():
        return int(name)
    try:
        return pwd.getpwnam(name).pw_uid
    except KeyError:
        raise InputError(f"there is no user {name!r}", next_step="Name one of this machine, or its number.") from None
