"""What `connect` looks at before the guard closes: afterwards this machine is offline until it works."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from contextlib import suppress

from zesty_burrow.carrier.network.addresses import look_up, names_of
from zesty_burrow.core.finding import Severity
from zesty_burrow.core.net import Network
from zesty_burrow.core.profile import Profile
from zesty_burrow.errors import GatewayUnreachable, MachineError, StateError, UsageError
from zesty_burrow.host.guard.guard import Guard
from zesty_burrow.host.guard.local_trust import judge_local
from zesty_burrow.host.guard.plan import Peer
from zesty_burrow.host.netlink import Netlink
from zesty_burrow.host.readiness.check import Readiness
from zesty_burrow.host.readiness.local import cheap
from zesty_burrow.host.readiness.remote_session import RemoteSession
from zesty_burrow.host.replace_file import replace_file
from zesty_burrow.profiles.checks import check_profile
from zesty_burrow.records import dataclass
from zesty_burrow.use_cases.tunnel.connect_request import ConnectRequest
from zesty_burrow.use_cases.workspace import Workspace

CONFIRM_WITHIN = 60.0
"""Seconds, over SSH."""
HOPELESS = ("profile-authority-missing",)
"""Findings with which no gateway can prove itself."""
MAX_REMEMBERED = 500
OPEN = "The guard was not closed, and this machine is as it was."


def require_ready(workspace: Workspace) -> None:
    """What would stop it half-way stops it before anything is changed."""
    for look in cheap(workspace.now().timestamp()):
        check = look()
        if check.state is Readiness.MISSING:
            next_step = f"{check.remedy} See `zesty ready`."
            raise MachineError(f"{check.name}: {check.found}", why=check.why, next_step=next_step, slug="not-ready")


def require_possible(profile: Profile, workspace: Workspace, *, waits: bool) -> None:
    """Raise what can be known to fail: trust, names, routes. ``waits``: the gateway need not be reachable yet.

    Where something is held closed already, names and routes cannot be looked at from here.
    """
    for finding in check_profile(profile, workspace.now()):
        if finding.code.slug in HOPELESS and finding.severity is Severity.SERIOUS:
            step = f"{finding.code.remedy} {OPEN}"
            what = f"{profile.name}: {finding.code.title}"
            raise StateError(what, why=finding.code.why, next_step=step, slug=finding.code.slug)
    if why := contradiction(profile):
        step = f"Change it: zesty change {profile.name} --edit. {OPEN}"
        raise StateError(f"{profile.name} contradicts itself", why=why, next_step=step, slug="profile-contradiction")
    if waits or Guard(workspace.paths.guard).holders():
        return
    try:
        names = names_of(profile) if profile.proxy is None else [profile.proxy.address]
        addresses = look_up(names)
    except GatewayUnreachable as problem:
        problem.next_step += f" {OPEN}"
        raise
    with Netlink() as netlink:
        if not any(netlink.device_towards(address) for address in addresses):
            raise GatewayUnreachable(
                "this machine has no route to the gateway",
                why=f"none of {', '.join(addresses)} is reached by any device",
                next_step=f"Connect this machine to a network, or add --keep-trying to wait for one. {OPEN}",
                slug="gateway-no-route",
            )


def contradiction(profile: Profile) -> str:
    """What a profile says that cannot all be so; empty where there is nothing."""
    traffic = profile.traffic
    for server in traffic.name_servers:
        if any(server in network for network in traffic.left_out):
            return f"its name server {server} is in a network that it leaves out of the tunnel"
    rest = [one for one in traffic.networks if not any(_within(one, other) for other in traffic.left_out)]
    return "" if rest else "all that it sends through the tunnel is also left out of it"


def _within(network: Network, other: Network) -> bool:
    return network.version == other.version and network.subnet_of(other)  # type: ignore[arg-type]


def _digest(profile: Profile) -> str:
    return hashlib.sha256(f"{profile.gateway.addresses[0]} {profile.tunnel.protocol}".encode()).hexdigest()[:24]


def has_worked(profile: Profile, workspace: Workspace) -> bool:
    """Whether a tunnel to this gateway by this protocol was up from here before."""
    try:
        return _digest(profile) in workspace.paths.worked.read_text().split()
    except (OSError, UnicodeDecodeError):
        return False


def remember_worked(profile: Profile, workspace: Workspace) -> None:
    """A tunnel to it is up. Where that cannot be written, the next `connect` says once more what may happen."""
    if not has_worked(profile, workspace):
        known = workspace.paths.worked.read_text().split()[-MAX_REMEMBERED:] if workspace.paths.worked.exists() else []
        with suppress(OSError):
            replace_file(workspace.paths.worked, "\n".join([*known, _digest(profile), ""]).encode(), 0o600)


@dataclass(frozen=True, slots=True)
class WayBack:
    """``peers``: whose sessions are let through; ``confirm_within``: seconds until the guard opens again
    unconfirmed.
    """

    peers: tuple[Peer, ...] = ()
    confirm_within: float = 0.0


def way_back(request: ConnectRequest, profile: Profile, workspace: Workspace, *, closes: bool) -> WayBack:
    """So that nobody locks himself out: an exception for an SSH session, and a time to confirm."""
    if request.confirm_within is not None and request.confirm_within < 0:
        raise UsageError(f"--confirm-within {request.confirm_within:g} is not a time")
    session = request.session
    named = request.local_networks
    is_cut = session is not None and _cuts(profile, session, named)
    if request.keep_session and session is None:
        raise UsageError("--keep-session needs an SSH session", why="this command was not started by SSH")
    if closes and not has_worked(profile, workspace):
        workspace.interaction.note(
            f"{profile.gateway.addresses[0]} has not worked from here before. If it fails, nothing leaves this "
            f"machine until "
            "`zesty disconnect`; with --confirm-within SECONDS it opens again by itself."
        )
    within = request.confirm_within
    if within is None:
        within = CONFIRM_WITHIN if is_cut and closes else 0.0
    peers: tuple[Peer, ...] = ()
    if session is not None and is_cut:
        if _keeps(request, session, workspace):
            peers = (Peer(session.peer, session.port),)
        else:
            note = f"The SSH session from {session.peer} will be cut: its answers belong in the tunnel."
            workspace.interaction.note(note)
    if within and closes:
        workspace.interaction.note(
            f"Without `zesty guard confirm` within {within:g} s the tunnel ends and the guard opens again."
        )
    return WayBack(peers, within)


def _keeps(request: ConnectRequest, session: RemoteSession, workspace: Workspace) -> bool:
    if request.keep_session is not None:
        return bool(request.keep_session)
    if not workspace.interaction.can_ask:
        return False
    question = f"The SSH session from {session.peer} would be cut. Let its answers through beside the tunnel? [Y/n] "
    return workspace.interaction.ask(question).lower() in ("", "y", "yes")


def _cuts(profile: Profile, session: RemoteSession, named: Sequence[Network]) -> bool:
    """Whether answers to the session's other end belong in the tunnel, or are held."""
    traffic, peer = profile.traffic, session.peer
    if not any(peer in network for network in traffic.networks if network.version == peer.version):
        return False
    if any(peer in network for network in traffic.beside):
        return False
    if not traffic.everything or traffic.local_network != "outside":
        return True
    with Netlink() as netlink:
        local = judge_local(netlink.on_link_networks(), (*traffic.local_networks, *named))
    return not any(peer in one.network for one in local.kept)


def refuse_for_a_switch(request: ConnectRequest, guarded: bool) -> None:
    """Options that a switch cannot follow: the process of the tunnel that is up goes on with its own."""
    given = {
        "--guard": request.guard is True and not guarded,
        "--no-guard": request.guard is False and guarded,
        "--keep-trying": bool(request.keep_trying),
        "--no-keep-trying": request.keep_trying is False,
        "--accept-partial": request.accept_partial,
        "--export-keys": request.export_keys is not None,
        "--disable": bool(request.disabled),
        "--local-networks": bool(request.local_networks),
        "--keep-session": bool(request.keep_session),
        "--confirm-within": request.confirm_within is not None,
    }
    refused = [name for name, is_given in given.items() if is_given]
    if refused:
        raise StateError(
            f"a switch cannot follow {', '.join(refused)}",
            why="the process of the tunnel that is up carries the new one, with the options that it was started with",
            next_step="Leave the options out, or `zesty disconnect` first (keep the guard closed by `zesty guard on`).",
            slug="switch-options",
        )
