"""Close and open the guard by hand, confirm it, let a sign-in page through, and probe it."""

from __future__ import annotations

from zesty_burrow.core.net import LocalNetwork, Network
from zesty_burrow.errors import RightsMissing, StateError, UsageError
from zesty_burrow.host.guard.guard import BY_USER, Guard
from zesty_burrow.host.guard.local_trust import judge_local
from zesty_burrow.host.guard.plan import EVERYTHING, Share
from zesty_burrow.host.guard.state import GuardState, ServiceState, timestamp
from zesty_burrow.host.netlink import Netlink
from zesty_burrow.records import dataclass, replace
from zesty_burrow.use_cases.tunnel.status import look_at_guard
from zesty_burrow.use_cases.workspace import Workspace

LONGEST_PORTAL = 60
"""Minutes."""
WHAT = "set by hand"


@dataclass(frozen=True, slots=True)
class OpenedGuard:
    """``was_held``: by the user. ``held_by``: tunnels that hold it closed still."""

    was_held: bool
    held_by: tuple[str, ...]


def close_guard(
    workspace: Workspace, *, local: bool = False, named: tuple[Network, ...] = ()
) -> tuple[LocalNetwork, ...]:
    """Let nothing leave this machine, with or without a tunnel.

    ``local``: let the private local networks through, as they are now, and public ones that are ``named``. Returns the
    public local networks that are not let through. Raises :class:`RightsMissing`, :class:`MachineError`.
    """
    guard = Guard(workspace.paths.guard)
    workspace.paths.make(workspace.paths.state)
    known: tuple[LocalNetwork, ...] = ()
    public: tuple[LocalNetwork, ...] = ()
    if local:
        with Netlink() as netlink:
            trust = judge_local(netlink.on_link_networks(), named)
        known = trust.kept
        public = tuple(trust.public)
    before = guard.shares().get(BY_USER)
    guard.put(BY_USER, Share(EVERYTHING, before.since if before else timestamp(), WHAT, local=known))
    return public


def open_guard(workspace: Workspace) -> OpenedGuard:
    """Release what the user holds closed; tunnels may hold it still. Raises :class:`RightsMissing` if root holds it."""
    guard = Guard(workspace.paths.guard)
    opened = guard.lift(BY_USER)
    if not opened and look_at_guard(workspace).service is ServiceState.OTHER_USER:
        raise RightsMissing("the guard was not opened", why="root holds it", next_step="sudo zesty guard off")
    return OpenedGuard(bool(opened), tuple(share.what for share in guard.holders().values()))


def probed(state: GuardState) -> GuardState:
    """With what probes against it have shown. Raises :class:`RightsMissing`."""
    from zesty_burrow.host.guard.probe import probe
    from zesty_burrow.host.guard.tables.surroundings import look_around

    if not state.everything:
        # Where it does not hold everything, a probe may leave.
        return state
    return replace(state, probe=probe(look_around().devices))


def confirm_guard(workspace: Workspace) -> tuple[str, ...]:
    """Keep a guard closed that would open again by itself; whose. Raises :class:`StateError` if none waits."""
    confirmed = Guard(workspace.paths.guard).confirm()
    if not confirmed:
        raise StateError("nothing waits to be confirmed", next_step="See `zesty guard`.", slug="nothing-to-confirm")
    return tuple(confirmed)


def open_portal(user: int, minutes: float, workspace: Workspace) -> None:
    """Let one user's web pages and questions for names out, for 1 to 60 minutes; 0 closes it now.

    Raises :class:`StateError` if the guard is open, or a tunnel routes all traffic into itself.
    """
    guard = Guard(workspace.paths.guard)
    if minutes and not 1 <= minutes <= LONGEST_PORTAL:
        raise UsageError(f"--minutes {minutes:g} is not between 1 and {LONGEST_PORTAL}")
    if not guard.holders():
        raise StateError("the guard is open", why="so sign-in pages are reached as they are", slug="guard-open")
    carried = guard.carried()
    if carried and minutes:
        raise StateError(
            f"the tunnel {carried[0].what} still routes all traffic into itself",
            next_step="Keep the guard without the tunnel: `zesty guard on`, `zesty disconnect`, `zesty guard portal`.",
            slug="tunnel-in-the-way",
        )
    if minutes:
        # Where another program has changed it, it is set again first.
        guard.check()
    guard.open_portal(user, round(minutes * 60))
