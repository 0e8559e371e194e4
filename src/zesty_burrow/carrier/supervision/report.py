"""What a tunnel reports about itself: its status when it came up, and what has been counted and noticed since."""

from __future__ import annotations

import asyncio
from collections import deque
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any

from zesty_burrow.carrier.control.describe import describe
from zesty_burrow.carrier.control.notices import BLOCKED, UNTIL_RENEWED, Notices
from zesty_burrow.carrier.control.status import TunnelStatus, algorithms_of
from zesty_burrow.carrier.control.totals import Totals
from zesty_burrow.carrier.data_path.data_path import offloads_in_use
from zesty_burrow.carrier.data_path.options import PACKET_WATCH
from zesty_burrow.carrier.network.host_config import Applied
from zesty_burrow.carrier.network.tunnel_guard import TunnelGuard
from zesty_burrow.carrier.sessions import OpenSession
from zesty_burrow.carrier.supervision.active_tunnels import ActiveTunnels
from zesty_burrow.carrier.supervision.hooks import Hooks
from zesty_burrow.carrier.supervision.options import TunnelOptions
from zesty_burrow.carrier.supervision.outside_watch import OutsideWatch
from zesty_burrow.core.profile import Profile
from zesty_burrow.errors import BurrowError, ProgramFault
from zesty_burrow.host.guard.plan import held_by
from zesty_burrow.protocols.registry import protocol
from zesty_burrow.protocols.session import NegotiatedSuite, Rekeyed, Up
from zesty_burrow.records import replace

if TYPE_CHECKING:
    from zesty_burrow.carrier.network.encrypted_names import TlsNameServer

MAX_LOSSES = 20


def _now() -> str:
    return datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


def _since_heard(active: ActiveTunnels, one: OpenSession | None, now: float) -> float:
    heard = one.session.last_heard if one else 0.0
    if active.tunnel is not None:
        heard = max(heard, active.tunnel.channel.last_received)
    return round(max(now - heard, 0.0), 1) if heard else -1.0


class Loss:
    """A tunnel that is lost: when, why, by the loop's clock, and what the guard had rejected until then."""

    def __init__(self, since: str, why: str, at: float, guard: TunnelGuard) -> None:
        self._since, self._why, self._at, self._guard = since, why, at, guard
        self._before = guard.rejected_packets()

    def row(self, now: float) -> tuple[str, str, float, int]:
        """As the status has it; ``now``: 0 while it lasts."""
        rejected_packets = max(self._guard.rejected_packets() - self._before, 0)
        return self._since, self._why, round(now - self._at, 1) if now else 0.0, rejected_packets


TOLD = ("profile", "provider", "country", "city", "gateway", "gateway_address", "device", "addresses", "name_servers",
        "ipv6", "guarded", "is_partial")  # fmt: skip
"""What of a status hooks get."""


class TunnelReport:
    """``status`` is None until the tunnel is up for the first time."""

    def __init__(self, profile: Profile, options: TunnelOptions) -> None:
        self._profile = profile
        self._guarded, self._accept_partial = options.guarded, options.accept_partial
        self._hooks, self._desktop = Hooks(options.hooks), options.desktop
        self._encrypted: TlsNameServer | None = None
        self._outside = None if PACKET_WATCH in options.disabled else OutsideWatch(options.guard)
        self.status: TunnelStatus | None = None
        self.totals = Totals()
        self.notices = Notices()
        self._suites: tuple[NegotiatedSuite, ...] = ()
        self._proof = ""
        self._up_at = 0.0
        self._lost: Loss | None = None
        self._losses: deque[tuple[str, str, float, int]] = deque(maxlen=MAX_LOSSES)

    def become(self, profile: Profile) -> None:
        """What comes is another profile's tunnel, and counts its own time."""
        self._profile, self.status = profile, None

    def lost(self, problem: BurrowError, guard: TunnelGuard) -> None:
        """The tunnel is lost, or an attempt to reconnect has failed."""
        self.notices.blocked(self._profile.name, problem)
        if self.status is not None and not self._lost:
            self._lost = Loss(_now(), str(problem), asyncio.get_running_loop().time(), guard)
            self._tell("lost", self.status, str(problem))

    def proven(self, words: str) -> None:
        """The gateway has proven its identity."""
        self._proof = words

    def agreed(self, suites: tuple[NegotiatedSuite, ...]) -> None:
        """The algorithms are known; they are the tunnel's once it is up."""
        self._suites = suites

    def rekeyed(self, event: Rekeyed) -> None:
        """Keys were renewed, perhaps with other algorithms than the first ones."""
        self.agreed(event.suites)
        if self.status is not None:
            self.status = replace(self.status, **algorithms_of(event.suites))
        self.totals.rekeys += 1
        self.notices.drop(UNTIL_RENEWED)

    def up(
        self, session: OpenSession, event: Up, applied: Applied, active: ActiveTunnels, way: str = ""
    ) -> TunnelStatus:
        """The tunnel is up, for the first time or again; ``way``: what was found out on the way to it."""
        self._encrypted = applied.encrypted
        before, came_back = self.status, self._lost is not None
        if self._lost:
            self._losses.append(self._lost.row(asyncio.get_running_loop().time()))
            self._lost = None
        lacks = self._profile.lacks_name_servers and not applied.servers
        self.notices.granted(self._profile.name, applied, lacks_servers=lacks)
        self.notices.drop(BLOCKED)
        status = replace(
            describe(self._profile, event.network, applied, self._suites),
            gateway_address=session.session.peer[0],
            protocol=protocol(session.profile.tunnel.protocol).title(session.profile),
            over=way or f"over {session.profile.settings.over()}",
            device=active.device.name,
            offloads=offloads_in_use(active.device, session.port),
            mtu=active.mtu,
            is_partial=bool(applied.not_granted) and not self._accept_partial,
            guarded=self._guarded,
            proof=self._proof,
            findings=self.notices.rows,
        )
        if before is None:
            self._up_at = asyncio.get_running_loop().time()
        else:
            status = replace(status, since=before.since)
        self.status = status
        if self._outside is not None:
            self._outside.begin(status.device, held_by(self._profile.traffic))
        self._tell("back" if came_back and before else "up", status)
        return status

    def ended(self, why: str, *, closed: bool) -> None:
        """The tunnel's process is about to end."""
        if self.status is not None:
            self._tell("blocked" if closed else "down", self.status, why)
        if self._outside is not None:
            self._outside.stop()
        self._hooks.finish()
        if self._desktop is not None:
            self._desktop.finish()

    def _tell(self, event: str, status: TunnelStatus, why: str = "") -> None:
        """Run the hooks, and tell the desktop; no secret is among what they get."""
        told = {**{name: getattr(status, name) for name in TOLD}, "why": why}
        self._hooks.tell(event, told)
        if self._desktop is not None:
            self._desktop.tell(event, told)

    def document(self, active: ActiveTunnels, one: OpenSession | None, *, is_up: bool) -> dict[str, Any] | None:
        """The status at this moment as plain values; None before there is one."""
        return self.now(active, one, is_up=is_up).document() if self.status is not None else None

    def now(self, active: ActiveTunnels, one: OpenSession | None, *, is_up: bool) -> TunnelStatus:
        """The status at this moment."""
        path, now = active.path, asyncio.get_running_loop().time()
        if self.status is None or path is None:
            raise ProgramFault("a tunnel reports before it is up")
        counted = self.totals.with_channels([tunnel.channel for tunnel in active.tunnels])
        counted["rejected"] += path.unknown
        return replace(
            self.status,
            **counted,
            dropped=path.dropped,
            seconds_up=round(now - self._up_at, 1),
            mtu=active.mtu,
            round_trip=one.session.round_trip if one and one.session.round_trip < float("inf") else 0.0,
            last_heard=_since_heard(active, one, now),
            losses=(*self._losses, *([self._lost.row(0.0)] if self._lost else [])),
            data_path=path.words,
            encrypted_dns=self._encrypted.state if self._encrypted is not None else "",
            is_up=is_up,
            findings=self.notices.rows,
            watch=self._outside.document() if self._outside is not None else {},
        )
