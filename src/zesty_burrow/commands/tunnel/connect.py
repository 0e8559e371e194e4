"""``zesty connect``: bring a tunnel up, in the foreground or in the background."""

from __future__ import annotations

import logging
from argparse import ArgumentParser, BooleanOptionalAction, Namespace
from pathlib import Path

from zesty_burrow.carrier.control.log_lines import ForPeople, InWords
from zesty_burrow.carrier.control.status import TunnelStatus
from zesty_burrow.carrier.data_path.options import CAN_BE_DISABLED
from zesty_burrow.commands.context import Context
from zesty_burrow.commands.tunnel.wanted_profile import wanted_name
from zesty_burrow.core.net import network_list
from zesty_burrow.errors import InputError
from zesty_burrow.host.bus.desktop import session_bus
from zesty_burrow.host.readiness.remote_session import remote_session
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.plain import MessageResult
from zesty_burrow.report.results.tunnel import EndResult, UpResult
from zesty_burrow.report.results.verification import VerifyResult
from zesty_burrow.use_cases.tunnel.connect import Connected, connect
from zesty_burrow.use_cases.tunnel.connect_request import ConnectRequest
from zesty_burrow.use_cases.verification.verify import VerifyRequest, verify

EXAMPLE = "zesty connect quillwort-lisbon --verify"


def add_arguments(parser: ArgumentParser) -> None:
    parser.add_argument(
        "name",
        nargs="?",
        help="a profile's name, a city that only one profile has, or a country's two letters; last: the one used last; "
        "nearest, fastest, strongest: by the latest rehearsal; without it you are asked",
    )
    parser.add_argument("--detach", action="store_true", help="continue in the background once the tunnel is up")
    parser.add_argument(
        "--verify", action="store_true", help="once it is up, check that nothing leaks; it continues in the background"
    )
    parser.add_argument(
        "--unprotected", action="store_true", help="use a protocol that protects next to nothing as well"
    )
    parser.add_argument("--ask", action="store_true", help="ask for name and password, use them once, store nothing")
    parser.add_argument(
        "--timeout", type=float, default=15.0, metavar="SECONDS", help="wait this long for the gateway to answer (15)"
    )
    parser.add_argument(
        "--keep-trying",
        action=BooleanOptionalAction,
        help="reconnect when the tunnel is lost (the default under the guard); given by name, also wait for a gateway "
        "that cannot be reached yet",
    )
    _add_guard(parser)
    parser.add_argument(
        "--beside",
        action="store_true",
        help="set it up beside the tunnels that are up, instead of replacing one; their networks may not "
        "overlap, but one may take everything",
    )
    parser.add_argument(
        "--accept-partial",
        action="store_true",
        help="be content with a gateway that carries only some of the profile's networks; the others are blocked",
    )
    parser.add_argument(
        "--disable",
        action="append",
        default=[],
        choices=CAN_BE_DISABLED,
        metavar="FEATURE",
        help=f"disable a feature, for testing; may be repeated: {', '.join(CAN_BE_DISABLED)}",
    )
    parser.add_argument(
        "--export-keys",
        type=Path,
        metavar="FILE",
        help="write the session keys to FILE for an analyser; anyone with FILE can read the traffic",
    )


def _add_guard(parser: ArgumentParser) -> None:
    """What may leave beside the tunnel, and who has to confirm that nothing else does."""
    parser.add_argument(
        "--guard",
        action=BooleanOptionalAction,
        help="from now until `disconnect`, let nothing of the tunnel's traffic leave beside it, whatever happens (the "
        "default where all traffic goes through it); --no-guard relies on routes alone",
    )
    parser.add_argument(
        "--confirm-within",
        type=float,
        metavar="SECONDS",
        help="end the tunnel and open the guard again unless `zesty guard confirm` comes in time (the default over "
        "SSH: 60; 0 for never)",
    )
    parser.add_argument(
        "--keep-session",
        action=BooleanOptionalAction,
        help="let the answers of this SSH session leave beside the tunnel, to its other end alone (you are asked)",
    )
    parser.add_argument(
        "--local-networks",
        metavar="LIST",
        default="",
        help="public networks that are reached beside the tunnel where this machine is in them",
    )


def run(args: Namespace, context: Context) -> Result:
    """Set up, carry, put back."""
    _log_to_terminal(everything=args.debug)

    def on_up(status: TunnelStatus) -> None:
        context.reporter.up(status)
        context.reporter.note("        Ctrl-C ends it.")

    made = connect(_request(args, context), context, on_up)
    if isinstance(made, Connected) and args.verify:
        context.reporter.up(made.status)
        return VerifyResult(verify(VerifyRequest(environment=context.environment), context))
    if isinstance(made, Connected):
        return UpResult(made.status, made.beside)
    if made.status is None:
        return MessageResult(f"The tunnel was ended before it was up: {made.end.reason}.")
    return EndResult(made.status, made.end)


def _request(args: Namespace, context: Context) -> ConnectRequest:
    return ConnectRequest(
        wanted_name(args.name, context),
        args.detach or args.verify,
        args.unprotected,
        args.ask,
        args.timeout,
        args.keep_trying,
        args.guard,
        args.confirm_within,
        args.keep_session,
        remote_session(context.environment),
        network_list("--local-networks", args.local_networks),
        args.beside,
        args.accept_partial,
        frozenset(args.disable),
        args.export_keys,
        _session_bus(context),
    )


def _session_bus(context: Context) -> tuple[int, str] | None:
    """Of the user who sits at this machine, where the settings do not say otherwise."""
    wanted = context.settings().notifications
    if wanted not in ("on", "off"):
        raise InputError(f"{context.paths.settings}: notifications", why="it is on or off", next_step="Correct it.")
    return session_bus(context.environment) if wanted == "on" else None


def _log_to_terminal(*, everything: bool) -> None:
    handler = logging.StreamHandler()
    handler.setFormatter(ForPeople() if everything else InWords())
    logging.basicConfig(level=logging.DEBUG if everything else logging.WARNING, handlers=[handler])
    logging.getLogger("asyncio").setLevel(logging.INFO)
