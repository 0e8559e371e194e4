"""Bring a tunnel up, in the foreground or in the background."""

from __future__ import annotations

import logging
import subprocess
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress

from zesty_burrow.carrier.control.control_client import call_with
from zesty_burrow.carrier.control.detach import run_detached
from zesty_burrow.carrier.control.status import StepReport, TunnelStatus
from zesty_burrow.carrier.supervision.options import NOT_CONFIRMED, TunnelEnd, TunnelOptions
from zesty_burrow.carrier.supervision.switch import CALL, switch_body
from zesty_burrow.carrier.supervisor import Supervisor
from zesty_burrow.core.net import TCP, UDP
from zesty_burrow.core.profile import Profile
from zesty_burrow.errors import BurrowError, NoAgreement, ProgramFault, StateError, UsageError, error_of
from zesty_burrow.extras import require
from zesty_burrow.host.bus.desktop import Desktop
from zesty_burrow.host.guard.guard import Guard
from zesty_burrow.host.guard.presence import is_in_force
from zesty_burrow.host.journal.journal import restore
from zesty_burrow.host.journal.lock import is_held, is_left_over
from zesty_burrow.host.names.names_record import NamesRecord
from zesty_burrow.host.paths import MAX_TUNNELS, Paths, TunnelPaths, program_as_root
from zesty_burrow.host.privileges import keep_network_rights, keep_secrets_in_memory
from zesty_burrow.profiles.policy import restrict
from zesty_burrow.protocols.registry import protocol
from zesty_burrow.records import dataclass, replace
from zesty_burrow.store.rows import MACHINE, OWN
from zesty_burrow.use_cases.credentials.choose import Chosen, choose, explained, note_sign_in
from zesty_burrow.use_cases.tunnel.before_connect import (
    refuse_for_a_switch,
    remember_worked,
    require_possible,
    require_ready,
    way_back,
)
from zesty_burrow.use_cases.tunnel.connect_request import ConnectRequest
from zesty_burrow.use_cases.tunnel.running import (
    Running,
    busy,
    refuse_overlap,
    refuse_silent,
    running_tunnels,
    the_one,
)
from zesty_burrow.use_cases.tunnel.wanted import remember
from zesty_burrow.use_cases.verification.look_before import LookBefore, looking_before
from zesty_burrow.use_cases.workspace import Workspace

PROBE_PATIENCE = 2.0
END_PATIENCE = 5.0
"""Seconds in which a tunnel that ends has put everything back."""
SWITCH_TIMEOUT = 200.0
NOT_LOOKED = (
    "What the outside sees without a tunnel was not observed in time, or could not be stored. `zesty verify` compares "
    "with an earlier observation, or says that there is none."
)


@dataclass(frozen=True, slots=True)
class Connected:
    """A tunnel is up, carried by a process in the background. ``beside``: other tunnels are up too."""

    status: TunnelStatus
    beside: bool


@dataclass(frozen=True, slots=True)
class Ended:
    """A tunnel in the foreground has ended. ``status``: as it came up; None if it was ended before."""

    status: TunnelStatus | None
    end: TunnelEnd


def connect(
    request: ConnectRequest, workspace: Workspace, on_up: Callable[[TunnelStatus], None] = lambda _: None
) -> Connected | Ended:
    """Set a tunnel up; in the foreground also carry it, and put this machine back at the end.

    ``on_up`` is called in the foreground, once the tunnel is up. Raises :class:`GatewayUnreachable`,
    :class:`GatewayNotProven`, :class:`SignInRefused`, :class:`StateError`, :class:`MachineError`, :class:`NotFound`,
    :class:`ProfileInvalid`; ``KeyboardInterrupt`` if a signal ends it before the tunnel is up.
    """
    workspace.paths.make(workspace.paths.state)
    workspace.paths.make(workspace.paths.run)
    _restore_left_over(workspace)
    with looking_before(workspace) as looking:
        return _connect(request, workspace, on_up, looking)


def _connect(
    request: ConnectRequest,
    workspace: Workspace,
    on_up: Callable[[TunnelStatus], None],
    looking: LookBefore | None,
) -> Connected | Ended:
    # It starts while profile and credentials are read; where nothing is held in the end it ends by itself.
    Guard(workspace.paths.guard).prepare()
    with workspace.layered_store() as layered_store:
        profile, _, whose = layered_store.find_profile(request.name)
        if whose not in (OWN, MACHINE):
            where = workspace.callers_paths()
            workspace.interaction.note(f"The profile {profile.name} is from {whose}'s own store{_in(where)}.")
        profile = restrict(workspace.policy(), profile, unprotected=request.unprotected)
        require(*protocol(profile.tunnel.protocol).extras(profile))
        chosen = choose(profile, layered_store, workspace, ask=request.ask)
    tunnels = running_tunnels(workspace)
    if any(tunnel.profile == profile.name and tunnel.document.get("is_up") for tunnel in tunnels):
        raise StateError(f"the tunnel {profile.name} is up already", next_step="See `zesty status`.", slug="already-up")
    replaced = the_one(tunnels, profile) if tunnels and not request.beside else None
    others = [tunnel for tunnel in tunnels if tunnel is not replaced]
    refuse_overlap(profile, others)
    if replaced is not None:
        refuse_silent(replaced)
    if replaced is not None:
        return _switch(request, profile, chosen, replaced, workspace, beside=bool(others))
    if request.export_keys:
        warning = f"Warning: anyone who can read {request.export_keys} can read all traffic of this tunnel."
        workspace.interaction.note(warning)
    require_ready(workspace)
    require_possible(profile, workspace, waits=bool(request.keep_trying))
    paths = _free_place(workspace, tunnels)
    if looking is not None and not looking.finish():
        workspace.interaction.note(NOT_LOOKED)
    options, bus = _options(request, profile, workspace, paths, others), request.desktop

    def carry(on_step: Callable[[StepReport], None], on_up: Callable[[TunnelStatus], None]) -> TunnelEnd:
        if not keep_secrets_in_memory():
            logging.getLogger(__name__).debug("keys may reach a swap partition: memory could not be locked")
        desktop = _desktop(bus)
        keep_network_rights(raw=_needs_raw_socket(profile))
        return Supervisor(profile, chosen.secrets, replace(options, desktop=desktop), on_step, on_up).run()

    if request.detach:
        with _told_what_is_accepted(profile, workspace), _told_of_guard(workspace), explained(chosen):
            status = run_detached(paths.log, carry, workspace.interaction.step)
        remember(profile.name, workspace)
        remember_worked(profile, workspace)
        note_sign_in(chosen, workspace)
        return Connected(status, bool(others))
    return _in_foreground(carry, profile, chosen, workspace, on_up)


def _in(paths: Paths | None) -> str:
    return f", {paths.store}" if paths is not None else ""


def _options(
    request: ConnectRequest, profile: Profile, workspace: Workspace, paths: TunnelPaths, others: list[Running]
) -> TunnelOptions:
    guarded = profile.traffic.everything if request.guard is None else request.guard
    back = way_back(request, profile, workspace, closes=guarded)
    return TunnelOptions(
        paths.journal,
        paths.control,
        NamesRecord(workspace.paths.names),
        workspace.paths.guard,
        workspace.paths.hooks,
        request.timeout,
        request.export_keys.absolute() if request.export_keys else None,
        guarded=guarded,
        beside=bool(others),
        keep_trying=guarded if request.keep_trying is None else request.keep_trying,
        from_start=bool(request.keep_trying),
        accept_partial=request.accept_partial,
        disabled=request.disabled,
        ways=workspace.paths.ways,
        local_networks=request.local_networks,
        peers=back.peers,
        confirm_within=back.confirm_within if guarded else 0.0,
    )


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


def _switch(
    request: ConnectRequest, profile: Profile, chosen: Chosen, before: Running, workspace: Workspace, *, beside: bool
) -> Connected:
    """Ask the running tunnel's process to switch: it sets the new tunnel up before it ends the old one."""
    refuse_for_a_switch(request, bool(before.document.get("guarded")))
    if not request.detach:
        workspace.interaction.note("The process of the tunnel that is up carries the new one, as before.")
    old = before.profile or "a tunnel"
    workspace.interaction.note(f"Switching from {old}, which stays up until {profile.name} is.")
    body = switch_body(profile, chosen.secrets)
    answer = call_with(before.paths.control, {"call": CALL}, SWITCH_TIMEOUT, body) or {}
    if "up" in answer:
        remember(profile.name, workspace)
        remember_worked(profile, workspace)
        note_sign_in(chosen, workspace)
        return Connected(TunnelStatus.of(answer["up"]), beside)
    if isinstance(answer.get("error"), dict):
        with explained(chosen):
            raise error_of(answer["error"])
    raise ProgramFault("the tunnel's process has not answered", why=str(answer.get("error", "")))


def _restore_left_over(workspace: Workspace) -> None:
    for paths in workspace.paths.tunnels:
        if is_left_over(paths.journal):
            workspace.interaction.note("An earlier tunnel ended badly; restoring this machine's settings first.")
            restore(paths.journal)


def _free_place(workspace: Workspace, tunnels: list[Running]) -> TunnelPaths:
    """Where no tunnel has its journal yet."""
    known, deadline = [tunnel.paths for tunnel in tunnels], time.monotonic() + END_PATIENCE
    while True:
        held = [paths for paths in workspace.paths.tunnels if is_held(paths.journal)]
        if all(paths in known for paths in held):
            break
        if time.monotonic() > deadline:
            raise busy("another tunnel begins or ends at this moment")
        time.sleep(0.05)
    free = [paths for paths in workspace.paths.tunnels if paths not in held]
    if not free:
        raise StateError(f"{MAX_TUNNELS} tunnels are up", next_step="End one first: zesty disconnect NAME")
    return free[0]


@contextmanager
def _told_of_guard(workspace: Workspace) -> Iterator[None]:
    """An error under which the guard stays closed says so."""
    try:
        yield
    except BurrowError as problem:
        if workspace.paths.guard.exists() and Guard(workspace.paths.guard).holders():
            state = Guard(workspace.paths.guard).state()
            closed = f"was seen closed at {state.at}" if state.in_force else f"is {state.measured}"
            problem.next_step += (
                f" The guard {closed}: nothing leaves until a tunnel is up, or `zesty disconnect` opens it."
            )
        raise


@contextmanager
def _told_what_is_accepted(profile: Profile, workspace: Workspace) -> Iterator[None]:
    """A gateway with which nothing could be agreed is asked what it accepts."""
    try:
        yield
    except NoAgreement as problem:
        best = f"zesty choose {profile.name} --best"
        if is_in_force():
            # Nobody can be asked before it is open.
            first = f"{program_as_root()} disconnect"
            problem.next_step = f"Open the guard, which is closed, and take what both ends know: {first}; {best}"
            raise
        with suppress(UsageError):
            from zesty_burrow.use_cases.profiles.choose import advised  # slow to load, and seldom needed

            accepted = advised(profile, workspace.policy(), PROBE_PATIENCE)
            problem.why += f"; asked what it accepts, it says {accepted}"
        problem.next_step = f"Take what both ends and the policy know: {best}"
        raise


Carry = Callable[[Callable[[StepReport], None], Callable[[TunnelStatus], None]], TunnelEnd]


def _in_foreground(
    carry: Carry, profile: Profile, chosen: Chosen, workspace: Workspace, on_up: Callable[[TunnelStatus], None]
) -> Ended:
    seen: list[TunnelStatus] = []

    def up(status: TunnelStatus) -> None:
        seen.append(status)
        remember(profile.name, workspace)
        remember_worked(profile, workspace)
        on_up(status)

    with _told_what_is_accepted(profile, workspace), _told_of_guard(workspace), explained(chosen):
        end = carry(workspace.interaction.step, up)
    if not seen:
        if end.reason in ("disconnect", NOT_CONFIRMED):
            return Ended(None, end)
        # Ctrl-C, or another signal.
        raise KeyboardInterrupt
    note_sign_in(chosen, workspace)
    return Ended(seen[0], end)
