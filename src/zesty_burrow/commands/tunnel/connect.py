"""``zesty connect``: bring a tunnel up, in the foreground or in the background."""

from __future__ import annotations

import logging
import subprocess
import time
from argparse import ArgumentParser, BooleanOptionalAction, Namespace
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path

from zesty_burrow.carrier.control.control_client import call_with
from zesty_burrow.carrier.control.detach import run_detached
from zesty_burrow.carrier.control.log_lines import ForPeople, InWords
from zesty_burrow.carrier.control.status import StepReport, TunnelStatus
from zesty_burrow.carrier.data_path.options import CAN_BE_DISABLED
from zesty_burrow.carrier.supervision.options import NOT_CONFIRMED, TunnelEnd, TunnelOptions
from zesty_burrow.carrier.supervision.switch import CALL, switch_body
from zesty_burrow.carrier.supervisor import Supervisor
from zesty_burrow.commands.context import Context
from zesty_burrow.commands.credentials.choose_credentials import Chosen, choose, explained, note_sign_in
from zesty_burrow.commands.tunnel.before_connect import (
    refuse_for_a_switch,
    remember_worked,
    require_possible,
    require_ready,
    way_back,
)
from zesty_burrow.commands.tunnel.running import (
    Running,
    busy,
    refuse_overlap,
    refuse_silent,
    running_tunnels,
    the_one,
)
from zesty_burrow.commands.tunnel.wanted_profile import remember, wanted_name
from zesty_burrow.core.net import TCP, UDP, network_list
from zesty_burrow.core.profile import Profile
from zesty_burrow.errors import BurrowError, InputError, ProgramFault, StateError, error_of
from zesty_burrow.host.bus.desktop import Desktop, session_bus
from zesty_burrow.host.guard.guard import Guard
from zesty_burrow.host.journal.journal import restore
from zesty_burrow.host.journal.lock import is_held, is_left_over
from zesty_burrow.host.names.names_record import NamesRecord
from zesty_burrow.host.paths import MAX_TUNNELS, TunnelPaths
from zesty_burrow.host.privileges import keep_network_rights, keep_secrets_in_memory
from zesty_burrow.profiles.policy import restrict
from zesty_burrow.protocols.registry import protocol
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.plain import MessageResult
from zesty_burrow.report.results.tunnel import EndResult, UpResult

EXAMPLE = "zesty connect quillwort-lisbon --detach"
END_PATIENCE = 5.0
"""Seconds in which a tunnel that ends has put everything back."""
SWITCH_TIMEOUT = 200.0


def add_arguments(parser: ArgumentParser) -> None:
    """The command's words."""
    parser.add_argument(
        "name",
        nargs="?",
        help="a profile's name, a city that only one profile has, or a country's two letters; last: the one used last; "
        "nearest, fastest, strongest: by the latest rehearsal; without it you are asked",
    )
    parser.add_argument("--detach", action="store_true", help="continue in the background once the tunnel is up")
    parser.add_argument("--unprotected", action="store_true", help="go over pptp, although it protects next to nothing")
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
        help="set it up beside the tunnels that are up, instead of in the place of one; their networks may not "
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


def _switch(
    args: Namespace, profile: Profile, chosen: Chosen, before: Running, context: Context, *, beside: bool
) -> UpResult:
    """Another tunnel is up: its process sets this one up beside it, and ends it once this one is up."""
    refuse_for_a_switch(args, bool(before.document.get("guarded")))
    if args.detach is False:
        context.reporter.note("The process of the tunnel that is up carries the new one, as before.")
    context.reporter.note(f"Switching from {before.profile or 'a tunnel'}, which stays up until {profile.name} is.")
    body = switch_body(profile, chosen.secrets)
    answer = call_with(before.paths.control, {"call": CALL}, SWITCH_TIMEOUT, body) or {}
    if "up" in answer:
        remember(profile.name, context)
        remember_worked(profile, context)
        note_sign_in(chosen, context)
        return UpResult(TunnelStatus.of(answer["up"]), beside)
    if isinstance(answer.get("error"), dict):
        with explained(chosen):
            raise error_of(answer["error"])
    raise ProgramFault("the tunnel's process has not answered", why=str(answer.get("error", "")))


def _restore_left_over(context: Context) -> None:
    for paths in context.paths.tunnels:
        if is_left_over(paths.journal):
            context.reporter.note("An earlier tunnel left something behind; restoring this machine's settings first.")
            restore(paths.journal)


def _free_place(context: Context, tunnels: list[Running]) -> TunnelPaths:
    """Where no tunnel has its journal yet."""
    known, deadline = [one.paths for one in tunnels], time.monotonic() + END_PATIENCE
    while True:
        held = [paths for paths in context.paths.tunnels if is_held(paths.journal)]
        if all(paths in known for paths in held):
            break
        if time.monotonic() > deadline:
            raise busy("another tunnel begins or ends at this moment")
        time.sleep(0.05)
    free = [paths for paths in context.paths.tunnels if paths not in held]
    if not free:
        raise StateError(f"{MAX_TUNNELS} tunnels are up", next_step="End one first: zesty disconnect NAME")
    return free[0]


@contextmanager
def _told_of_guard(context: Context) -> Iterator[None]:
    """An error under which the guard stays closed says so."""
    try:
        yield
    except BurrowError as problem:
        if context.paths.guard.exists() and Guard(context.paths.guard).holders():
            state = Guard(context.paths.guard).state()
            closed = f"was seen closed at {state.at}" if state.in_force else f"is {state.measured}"
            problem.next_step += (
                f" The guard {closed}: nothing leaves until a tunnel is up, or `zesty disconnect` opens it."
            )
        raise


def _log_to_terminal(*, everything: bool) -> None:
    handler = logging.StreamHandler()
    handler.setFormatter(ForPeople() if everything else InWords())
    logging.basicConfig(level=logging.DEBUG if everything else logging.WARNING, handlers=[handler])
    logging.getLogger("asyncio").setLevel(logging.INFO)


def _options(
    args: Namespace, profile: Profile, context: Context, paths: TunnelPaths, others: list[Running]
) -> TunnelOptions:
    guarded = profile.traffic.everything if args.guard is None else args.guard
    back = way_back(args, profile, context, closes=guarded)
    return TunnelOptions(
        paths.journal,
        paths.control,
        NamesRecord(context.paths.names),
        context.paths.guard,
        context.paths.hooks,
        args.timeout,
        args.export_keys.absolute() if args.export_keys else None,
        guarded=guarded,
        beside=bool(others),
        keep_trying=guarded if args.keep_trying is None else args.keep_trying,
        from_start=bool(args.keep_trying),
        accept_partial=args.accept_partial,
        disabled=frozenset(args.disable),
        ways=context.paths.ways,
        local_networks=network_list("--local-networks", args.local_networks),
        peers=back.peers,
        confirm_within=back.confirm_within if guarded else 0.0,
    )


def _session_bus(context: Context) -> tuple[int, str] | None:
    """Of the user who sits at this machine, where the settings do not say otherwise."""
    wanted = context.settings().notifications
    if wanted not in ("on", "off"):
        raise InputError(f"{context.paths.settings}: notifications", why="it is on or off", next_step="Correct it.")
    return session_bus(context.environment) if wanted == "on" else None


def _desktop(bus: tuple[int, str] | None) -> Desktop | None:
    """Without it the tunnel is carried as well."""
    try:
        return Desktop(*bus) if bus else None
    except (OSError, ValueError, subprocess.SubprocessError) as problem:
        logging.getLogger(__name__).debug("no notifications: %s", problem)
        return None


def _needs_raw_socket(profile: Profile) -> bool:
    """Whether its packets are of no protocol that has sockets of its own."""
    return any(number not in (TCP, UDP) for number, _ in protocol(profile.tunnel.protocol).outer_ports(profile))


def run(args: Namespace, context: Context) -> Result:
    """Set up, carry, put back."""
    _log_to_terminal(everything=args.debug)
    context.paths.make(context.paths.state)
    context.paths.make(context.paths.run)
    _restore_left_over(context)
    # It starts while profile and credentials are read; where nothing is held in the end it ends by itself.
    Guard(context.paths.guard).prepare()
    with context.layered_store() as layered_store:
        profile, _, _ = layered_store.find_profile(wanted_name(args.name, layered_store, context))
        profile = restrict(context.policy(), profile, unprotected=args.unprotected)
        chosen = choose(profile, layered_store, context, ask=args.ask)
    tunnels = running_tunnels(context)
    if any(one.profile == profile.name and one.document.get("is_up") for one in tunnels):
        raise StateError(f"the tunnel {profile.name} is up already", next_step="See `zesty status`.", slug="already-up")
    replaced = the_one(tunnels, profile) if tunnels and not args.beside else None
    others = [one for one in tunnels if one is not replaced]
    refuse_overlap(profile, others)
    if replaced is not None:
        refuse_silent(replaced)
    if replaced is not None:
        return _switch(args, profile, chosen, replaced, context, beside=bool(others))
    if args.export_keys:
        context.reporter.note(f"Warning: anyone who can read {args.export_keys} can read all traffic of this tunnel.")
    require_ready(context)
    require_possible(profile, context, waits=bool(args.keep_trying))
    paths = _free_place(context, tunnels)
    options, bus = _options(args, profile, context, paths, others), _session_bus(context)

    def carry(on_step: Callable[[StepReport], None], on_up: Callable[[TunnelStatus], None]) -> TunnelEnd:
        if not keep_secrets_in_memory():
            logging.getLogger(__name__).debug("keys may reach a swap partition: memory could not be locked")
        desktop = _desktop(bus)
        keep_network_rights(raw=_needs_raw_socket(profile))
        return Supervisor(profile, chosen.secrets, replace(options, desktop=desktop), on_step, on_up).run()

    if args.detach:
        with _told_of_guard(context), explained(chosen):
            status = run_detached(paths.log, carry, context.reporter.step)
        remember(profile.name, context)
        remember_worked(profile, context)
        note_sign_in(chosen, context)
        return UpResult(status, beside=bool(others))
    return _in_foreground(carry, profile, chosen, context)


Carry = Callable[[Callable[[StepReport], None], Callable[[TunnelStatus], None]], TunnelEnd]


def _in_foreground(carry: Carry, profile: Profile, chosen: Chosen, context: Context) -> Result:
    seen: list[TunnelStatus] = []

    def up(status: TunnelStatus) -> None:
        seen.append(status)
        remember(profile.name, context)
        remember_worked(profile, context)
        context.reporter.up(status)
        context.reporter.note("        Ctrl-C ends it.")

    with _told_of_guard(context), explained(chosen):
        end = carry(context.reporter.step, up)
    if not seen:
        if end.reason in ("disconnect", NOT_CONFIRMED):
            return MessageResult(f"The tunnel was ended before it was up: {end.reason}.")
        # Ctrl-C, or another signal.
        raise KeyboardInterrupt
    note_sign_in(chosen, context)
    return EndResult(seen[0], end)
