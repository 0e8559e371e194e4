"""``zesty guard``: the allow-list by which nothing but the tunnels leaves this machine."""

from __future__ import annotations

import os
import pwd
from argparse import ArgumentParser, Namespace
from datetime import UTC, datetime

from zesty_burrow.commands.context import Context
from zesty_burrow.commands.tunnel.status import guard_findings
from zesty_burrow.core.net import LocalNetwork
from zesty_burrow.errors import InputError, StateError, UsageError
from zesty_burrow.host.netlink import Netlink
from zesty_burrow.host.packet_filter.guard import BY_USER, Guard
from zesty_burrow.host.packet_filter.guard_plan import EVERYTHING, Share
from zesty_burrow.host.plan import local_networks
from zesty_burrow.report.results.status import GuardResult

EXAMPLE = "zesty guard on --local"
LONGEST_PORTAL = 60
"""Minutes."""
WHAT = "set by hand"


def add_arguments(parser: ArgumentParser) -> None:
    """The command's words."""
    actions = parser.add_subparsers(dest="action", metavar="ACTION")
    actions.add_parser("show", help="what it lets through, and what it has counted", description="Show the guard.")
    text = "close it, with or without a tunnel"
    on = actions.add_parser("on", help=text, description="Let nothing leave this machine, until `guard off`.")
    on.add_argument("--local", action="store_true", help="let the local networks through, as they are now")
    text = "Open it, as far as no tunnel holds it closed."
    actions.add_parser("off", help="open it, as far as no tunnel holds it closed", description=text)
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
    guard = Guard(context.paths.guard)
    message = ""
    if args.action == "on":
        message = _on(guard, context, local=args.local)
    elif args.action == "off":
        message = _off(guard, context)
    elif args.action == "portal":
        message = _portal(guard, args)
    state = guard.state()
    return GuardResult(state, message, tuple(guard_findings(state)))


def _on(guard: Guard, context: Context, *, local: bool) -> str:
    context.paths.make(context.paths.state)
    known: tuple[LocalNetwork, ...] = ()
    if local:
        with Netlink() as netlink:
            known = local_networks(netlink.on_link_networks())
    since = datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
    before = guard.shares().get(BY_USER)
    guard.put(BY_USER, Share(EVERYTHING, before.since if before else since, WHAT, local=known))
    return "The guard is closed: nothing leaves this machine but what is named here."


def _off(guard: Guard, context: Context) -> str:
    if not context.paths.state.is_dir():
        return "The guard was not closed."
    opened = guard.lift(BY_USER)
    held = ", ".join(share.what for share in guard.holders().values())
    if held:
        return f"The guard stays closed: {held} holds it. `zesty disconnect` ends that."
    return "The guard is open." if opened else "The guard was not closed."


def _portal(guard: Guard, args: Namespace) -> str:
    if not 1 <= args.minutes <= LONGEST_PORTAL:
        raise UsageError(f"--minutes {args.minutes:g} is not between 1 and {LONGEST_PORTAL}")
    user = _user(args.user)
    if not guard.holders():
        raise StateError("the guard is open", why="so sign-in pages are reached as they are", slug="guard-open")
    carried = guard.carried()
    if carried and not args.close:
        raise StateError(
            f"the tunnel {carried[0].what} still routes all traffic into itself",
            next_step="Keep the guard without the tunnel: `zesty guard on`, `zesty disconnect`, `zesty guard portal`.",
            slug="tunnel-in-the-way",
        )
    if args.close:
        guard.open_portal(user, 0)
        return "The opening for a sign-in page is closed."
    # Where another program has removed it, it is set again first.
    guard.put_back()
    guard.open_portal(user, round(args.minutes * 60))
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
