"""What is asked of :func:`zesty_burrow.use_cases.tunnel.connect.connect`."""

from __future__ import annotations

from pathlib import Path

from zesty_burrow.core.net import Network
from zesty_burrow.host.readiness.remote_session import RemoteSession
from zesty_burrow.records import dataclass


@dataclass(frozen=True, slots=True)
class ConnectRequest:
    """``name``: a profile's. None of an option that may be left out: the default that fits the profile.

    ``detach``: return once the tunnel is up, and carry it in the background. ``unprotected``: also by a protocol that
    protects next to nothing. ``ask``: for credentials that are used once. ``timeout``: seconds for the gateway.
    ``keep_trying``: reconnect; True also waits for a gateway that cannot be reached yet. ``guard``: let nothing of the
    tunnel's traffic leave beside it. ``confirm_within``: seconds until the guard opens again unconfirmed, 0: never.
    ``keep_session``: let answers of the SSH session ``session`` leave. ``local_networks``: public ones that count as
    local. ``beside``: beside tunnels that are up, not in place of one. ``accept_partial``: a gateway may carry only
    some of the profile's networks. ``disabled``: features, for testing. ``export_keys``: a new file for session keys.
    ``desktop``: a user's number and the address of that user's bus, for notifications.
    """

    name: str
    detach: bool = False
    unprotected: bool = False
    ask: bool = False
    timeout: float = 15.0
    keep_trying: bool | None = None
    guard: bool | None = None
    confirm_within: float | None = None
    keep_session: bool | None = None
    session: RemoteSession | None = None
    local_networks: tuple[Network, ...] = ()
    beside: bool = False
    accept_partial: bool = False
    disabled: frozenset[str] = frozenset()
    export_keys: Path | None = None
    desktop: tuple[int, str] | None = None
