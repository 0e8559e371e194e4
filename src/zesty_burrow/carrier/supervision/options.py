"""How a tunnel is to be carried, and how it ended."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

from zesty_burrow.carrier.control.status import StepReport, TunnelStatus
from zesty_burrow.core.net import Network
from zesty_burrow.errors import BurrowError, GatewayUnreachable
from zesty_burrow.host.bus.desktop import Desktop
from zesty_burrow.host.guard.plan import Peer
from zesty_burrow.host.journal.journal import Restored
from zesty_burrow.host.names.names_record import NamesRecord
from zesty_burrow.records import dataclass

NOT_CONFIRMED = "not confirmed in time"
WANTED = frozenset({"disconnect", "signal SIGINT", NOT_CONFIRMED})
"""Ends that the user has asked for by name: these alone open the guard."""


class Listener(NamedTuple):
    """Who has started the tunnel: told of each step, and once it is up for the first time."""

    on_step: Callable[[StepReport], None]
    on_up: Callable[[TunnelStatus], None]


@dataclass(frozen=True, slots=True)
class TunnelOptions:
    """``timeout``: seconds to wait for a silent gateway; ``export_keys``: a file for an analyser, or None.

    ``guard``: the record of the guard; ``guarded``: it is to be closed, and not routes alone relied on. ``hooks``: a
    folder of programs to run when something happens. ``beside``: other tunnels are up, whose routes would take this
    one's own packets. ``keep_trying``: a tunnel that is lost is set up again; ``from_start``: a gateway that is not
    reached at first is tried again as well.
    ``accept_partial``: a gateway that carries less than the profile asks for is as good as one that carries all.
    ``local_networks``: public networks that count as local ones; ``peers``: whose sessions are not cut;
    ``confirm_within``: seconds in which the user has to confirm the closed guard, or the tunnel ends and opens it;
    0: need not.
    ``desktop``: who is told besides the hooks. ``ways``: a file that remembers which transport was answered where.
    ``disabled``: what the data path does without, by the names in ``CAN_BE_DISABLED``.
    """

    journal: Path
    control: Path
    names: NamesRecord
    guard: Path
    hooks: Path
    timeout: float = 15.0
    export_keys: Path | None = None
    guarded: bool = False
    beside: bool = False
    keep_trying: bool = False
    from_start: bool = False
    accept_partial: bool = False
    disabled: frozenset[str] = frozenset()
    desktop: Desktop | None = None
    ways: Path | None = None
    local_networks: tuple[Network, ...] = ()
    peers: tuple[Peer, ...] = ()
    confirm_within: float = 0.0

    def tries_again(self, problem: BurrowError, *, was_up: bool) -> bool:
        """A tunnel that was up comes back, whatever has happened; one that never was, where it was not reached."""
        return self.keep_trying if was_up else self.from_start and isinstance(problem, GatewayUnreachable)


@dataclass(frozen=True, slots=True)
class TunnelEnd:
    """How the tunnel ended, and what was put back. ``closed``: the guard is left as it is, and nothing leaves."""

    reason: str
    restored: Restored
    closed: bool = False
