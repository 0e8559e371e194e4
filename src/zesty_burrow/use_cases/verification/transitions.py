"""Cause a rekey, a loss, a return, a switch and an end on purpose, and see what leaves in those moments."""

from __future__ import annotations

import socket
import time
from collections.abc import Callable, Iterator

from zesty_burrow.carrier.control.control_client import ask
from zesty_burrow.carrier.control.status import TunnelStatus
from zesty_burrow.core.net import Address
from zesty_burrow.core.outside import transitions as names
from zesty_burrow.core.outside.stun import PORT
from zesty_burrow.core.outside.transitions import Moment, moment_of
from zesty_burrow.core.ways_out.seen import WatchSeen
from zesty_burrow.errors import BurrowError, OutsideError, StateError, UsageError
from zesty_burrow.host.packet_watch.outage import Outage
from zesty_burrow.observe.applications.sender import Sender
from zesty_burrow.records import dataclass
from zesty_burrow.use_cases.observatories import observatories
from zesty_burrow.use_cases.tunnel.connect import connect
from zesty_burrow.use_cases.tunnel.connect_request import ConnectRequest
from zesty_burrow.use_cases.tunnel.disconnect import disconnect
from zesty_burrow.use_cases.tunnel.running import Running, running_tunnels
from zesty_burrow.use_cases.verification import ways_out
from zesty_burrow.use_cases.workspace import Workspace

SETTLE = 0.3
"""Seconds before and behind each moment that count as part of it."""
FIRST_ANSWER = 3.0
LONGEST_REKEY, LONGEST_LOSS, LONGEST_RETURN = 15.0, 600.0, 180.0
LOOK_EACH = 0.1


@dataclass(frozen=True, slots=True)
class TransitionsRequest:
    """Which moments are caused. ``loss``: for how many seconds nothing comes from the gateway, 0: no loss.
    ``switch_to``: a profile's name, empty: no switch. ``observatory``: URL, empty: from the settings; its STUN is what
    the sender asks.
    """

    rekey: bool = True
    loss: float = 5.0
    switch_to: str = ""
    end: bool = False
    observatory: str = ""


@dataclass(frozen=True, slots=True)
class Transitions:
    """``watch``: of the whole time but for the end."""

    profile: str
    moments: tuple[Moment, ...]
    watch: WatchSeen

    @property
    def is_tight(self) -> bool:
        """Whether nothing left beside the tunnel that nothing explains, and somebody watched."""
        return not (self.watch.blind or self.watch.packets or self.watch.lost)


def cause_transitions(request: TransitionsRequest, workspace: Workspace) -> Transitions:
    """Raises :class:`StateError` without a tunnel, :class:`UsageError` without an observatory."""
    tunnel = _tunnel(workspace)
    target = _target(request, workspace)
    moments: list[Moment] = []
    with Sender(target) as sender, _watching(workspace) as watching:
        _wait(lambda: any(one.answered for one in sender.exchanges), FIRST_ANSWER)
        if not any(one.answered for one in sender.exchanges):
            raise OutsideError(f"the observatory does not answer at {target[0]} port {target[1]} by UDP")
        for name, act in _acts(request, tunnel, sender, workspace):
            workspace.interaction.note(f"  causing: {name}")
            before = watching.result().unexplained
            time.sleep(SETTLE)
            began, why = time.monotonic(), ""
            try:
                act()
            except BurrowError as problem:
                why = f"{problem.what}{f': {problem.why}' if problem.why else ''}"
            ended = time.monotonic()
            time.sleep(SETTLE)
            fresh = [row for row in watching.result().unexplained if row not in before]
            made = moment_of(name, began - SETTLE, ended + SETTLE, sender.exchanges, fresh)
            moments.append(made if not why else Moment(name, not_done=why))
        watching.stop()
        seen = watching.result()
    if request.end:
        moments.append(_end(workspace, tunnel, target))
    return Transitions(tunnel.profile, tuple(moments), seen)


def _tunnel(workspace: Workspace) -> Running:
    found = next((one for one in running_tunnels(workspace) if one.document), None)
    if found is None:
        raise StateError("no tunnel is up", next_step="Connect first: zesty connect NAME --detach", slug="no-tunnel-up")
    return found


def _target(request: TransitionsRequest, workspace: Workspace) -> tuple[str, int]:
    asked = observatories(workspace, request.observatory)
    if not asked:
        raise UsageError(
            "no observatory is known, so the sender has nobody to ask",
            next_step="Name one with --observatory URL; you can run your own: zesty observatory serve",
        )
    try:
        rows = socket.getaddrinfo(asked[0].host, PORT, socket.AF_INET, socket.SOCK_DGRAM)
        rows = rows or socket.getaddrinfo(asked[0].host, PORT, type=socket.SOCK_DGRAM)
    except OSError as problem:
        raise OutsideError(f"{asked[0].host} cannot be resolved", why=str(problem)) from None
    return str(rows[0][4][0]), PORT


def _watching(workspace: Workspace) -> ways_out.Watching:
    return ways_out.Watching(ways_out.meaning_now(workspace), lambda: ways_out.meaning_now(workspace))


def _acts(
    request: TransitionsRequest, tunnel: Running, sender: Sender, workspace: Workspace
) -> Iterator[tuple[str, Callable[[], None]]]:
    if request.rekey:
        yield names.REKEY, lambda: _rekey(tunnel, workspace)
    if request.loss:
        outage = Outage(_gateways(workspace))
        yield names.LOSS, lambda: _lose(outage, request.loss)
        yield names.RETURN, lambda: _come_back(outage, sender)
    if request.switch_to:
        yield names.SWITCH, lambda: _switch(request, workspace)


def _gateways(workspace: Workspace) -> tuple[Address, ...]:
    """Addresses of the other ends, or of a proxy on the way."""
    return tuple(dict.fromkeys(address for one in ways_out.meaning_now(workspace).tunnels for address in one.gateways))


def _status(workspace: Workspace) -> TunnelStatus | None:
    found = next((one for one in running_tunnels(workspace) if one.document), None)
    return TunnelStatus.of(found.document) if found else None


def _wait(holds: Callable[[], bool], seconds: float) -> bool:
    until = time.monotonic() + seconds
    while not holds():
        if time.monotonic() > until:
            return False
        time.sleep(LOOK_EACH)
    return True


def _rekey(tunnel: Running, workspace: Workspace) -> None:
    before = _status(workspace)
    answer = ask(tunnel.paths.control, "rekey") or {}
    if not answer.get("rekeying"):
        raise StateError("no new keys were asked for", why="the tunnel's protocol has none of its own, or it is not up")
    if before is not None and not _wait(
        lambda: (now := _status(workspace)) is not None and now.rekeys > before.rekeys, LONGEST_REKEY
    ):
        raise StateError("no new keys came", why=f"within {LONGEST_REKEY:.0f} s")


def _lose(outage: Outage, seconds: float) -> None:
    outage.__enter__()
    time.sleep(min(seconds, LONGEST_LOSS))


def _come_back(outage: Outage, sender: Sender) -> None:
    """Until the sender has an answer again: the tunnel may have stayed up, or had to be set up again."""
    outage.__exit__()
    began = time.monotonic()
    if not _wait(lambda: any(one.sent > began and one.answered for one in sender.exchanges), LONGEST_RETURN):
        raise StateError("the tunnel did not carry again", why=f"within {LONGEST_RETURN:.0f} s")


def _switch(request: TransitionsRequest, workspace: Workspace) -> None:
    connect(ConnectRequest(request.switch_to, detach=True), workspace, lambda _: None)


def _end(workspace: Workspace, tunnel: Running, target: tuple[str, int]) -> Moment:
    """Behind it packets leave without the tunnel: the user has opened the machine."""
    with Sender(target) as sender:
        time.sleep(SETTLE)
        began = time.monotonic()
        now = _status(workspace)
        disconnect((now.profile if now else tunnel.profile,), workspace)
        ended = time.monotonic()
        time.sleep(SETTLE)
        return moment_of(names.END, began - SETTLE, ended + SETTLE, sender.exchanges, [])
