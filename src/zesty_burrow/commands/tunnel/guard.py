"""``zesty guard``: the allow-list by which nothing but the tunnels leaves this machine."""

from __future__ import annotations

import os
import pwd
from argparse import ArgumentParser, Namespace
from dataclasses import replace

from zesty_burrow.commands.context import Context
from zesty_burrow.commands.tunnel.status import look_at_guard
from zesty_burrow.core.net import LocalNetwork, Network, network_list
from zesty_burrow.errors import InputError, RightsMissing, StateError, UsageError
from zesty_burrow.host.guard.guard import BY_USER, Guard
from zesty_burrow.host.guard.judge import judge_guard
from zesty_burrow.host.guard.local_trust import judge_local
from zesty_burrow.host.guard.plan import EVERYTHING, Share
from zesty_burrow.host.guard.state import GuardState, ServiceState, timestamp
from zesty_burrow.host.netlink import Netlink
from zesty_burrow.report.results.status import GuardResult

EXAMPLE = "zesty guard on --local"
LONGEST_PORTAL = 60
"""Minutes."""
WHAT = "set by hand"


def add_arguments(parser: ArgumentParser) -> None:
    """The command's words."""
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
    guard = Guard(context.paths.guard)
    message = ""
    if args.action == "on":
        message = _on(guard, context, local=args.local, named=_named(args))
    elif args.action == "off":
        message = _off(guard, context)
    elif args.action == "confirm":
        message = _confirm(guard)
    elif args.action == "portal":
        message = _portal(guard, args)
    elif args.action == "serve":
        _serve(context)
    state = look_at_guard(context)
    if args.probe:
        state = probed(state)
    return GuardResult(state, message, tuple(judge_guard(state)))


def probed(state: GuardState) -> GuardState:
    """With what probes against it have shown. Raises :class:`RightsMissing`."""
    from zesty_burrow.host.guard.probe import probe
    from zesty_burrow.host.guard.tables.surroundings import look_around

    if not state.everything:
        # Where it does not hold everything, a probe may leave.
        return state
    return replace(state, probe=probe(look_around().devices))


def _serve(context: Context) -> None:
    """Never returns."""
    from zesty_burrow.host.guard.owner.process import serve

    context.paths.make(context.paths.state)
    serve(context.paths.guard, stays=True)


def _named(args: Namespace) -> tuple[Network, ...]:
    if args.local_networks and not args.local:
        raise UsageError("--local-networks says more of --local", next_step="Add --local.")
    return network_list("--local-networks", args.local_networks)


def _on(guard: Guard, context: Context, *, local: bool, named: tuple[Network, ...]) -> str:
    context.paths.make(context.paths.state)
    known: tuple[LocalNetwork, ...] = ()
    left = ""
    if local:
        with Netlink() as netlink:
            trust = judge_local(netlink.on_link_networks(), named)
        known = trust.kept
        if trust.public:
            names = ", ".join(f"{one.network} by {one.device}" for one in trust.public)
            left = f" Not let through, as their addresses are public: {names} (--local-networks names such networks)."
    before = guard.shares().get(BY_USER)
    guard.put(BY_USER, Share(EVERYTHING, before.since if before else timestamp(), WHAT, local=known))
    return "The guard is closed: nothing leaves this machine but what is named here." + left


def _off(guard: Guard, context: Context) -> str:
    opened = guard.lift(BY_USER)
    if not opened and look_at_guard(context).service is ServiceState.OTHER_USER:
        raise RightsMissing("the guard was not opened", why="root holds it", next_step="sudo zesty guard off")
    held = ", ".join(share.what for share in guard.holders().values())
    if held:
        return f"The guard stays closed: {held} holds it. `zesty disconnect` ends that."
    return "The guard is open." if opened else ""


def _confirm(guard: Guard) -> str:
    confirmed = guard.confirm()
    if not confirmed:
        raise StateError("nothing waits to be confirmed", next_step="See `zesty guard`.", slug="nothing-to-confirm")
    return f"Confirmed: {', '.join(confirmed)}. The guard stays closed."


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
    # Where another program has changed it, it is set again first.
    guard.check()
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
