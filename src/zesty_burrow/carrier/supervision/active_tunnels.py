"""The tunnels of one supervisor on one data path: the one that is used, and those that are being ended."""

from __future__ import annotations

import asyncio
import gc
import logging

from zesty_burrow.carrier.control.log_lines import note
from zesty_burrow.carrier.control.totals import Totals
from zesty_burrow.carrier.data_path.data_path import DataPath, offloads_in_use
from zesty_burrow.carrier.data_path.options import PathOptions
from zesty_burrow.carrier.data_path.tunnel import Tunnel
from zesty_burrow.carrier.sessions import OpenSession
from zesty_burrow.core.net import Endpoint
from zesty_burrow.core.profile import MAX_MTU, MIN_MTU, TunnelSettings
from zesty_burrow.host.tun import TunDevice
from zesty_burrow.protocols.session import Up

log = logging.getLogger(__name__)


class ActiveTunnels:
    """``path`` is None until a tunnel is up for the first time; ``mtu``: of the device, 0 until then."""

    def __init__(self, device: TunDevice, disabled: frozenset[str], wake: asyncio.Event, totals: Totals) -> None:
        self.device = device
        self._disabled, self._wake, self._totals = disabled, wake, totals
        self.path: DataPath | None = None
        self.tunnel: Tunnel | None = None
        self.leaving: dict[OpenSession, Tunnel] = {}
        self.mtu = 0

    @property
    def tunnels(self) -> list[Tunnel]:
        """Those whose channels may still carry something."""
        return [*([self.tunnel] if self.tunnel else []), *self.leaving.values()]

    def carry(self, one: OpenSession, event: Up, wanted: TunnelSettings) -> None:
        """Packets go out by this session from now on; the tunnel before it is gone, or was set aside."""
        before, tunnel = self.tunnel, Tunnel(event.channel, one.port, one.session.peer)
        tunnel.measure()
        mtu = wanted.mtu or max(MIN_MTU, min(tunnel.limit, MAX_MTU))
        options = PathOptions(wanted.dscp, wanted.clamp_tcp_mss)
        if self.path is None:
            # What is loaded by now stays: the collector need not look at it again and again.
            gc.freeze()
            self.path = DataPath(self.device, mtu, options, self._disabled, self._wake)
            used = ", ".join(offloads_in_use(self.device, tunnel.port)) or "none"
            note(log, logging.DEBUG, "path", offloads=used, largest_inner=tunnel.limit)
        self.path.plain.options = options
        self.mtu = min(mtu, self.path.mtu)
        if before is not None and before not in self.leaving.values():
            self._remove(before)
        self.tunnel = tunnel
        self.path.add(tunnel)
        one.io.path = self.path

    def set_aside(self, one: OpenSession) -> None:
        """The tunnel that is used belongs to this session, which is about to be ended."""
        if self.tunnel is not None:
            self.leaving[one] = self.tunnel

    def left(self, one: OpenSession) -> None:
        """A session that was set aside is over."""
        self._remove(self.leaving.pop(one))
        one.dispose()

    def pause(self) -> None:
        """No session any more; the device keeps what comes, so that nothing leaves."""
        if self.path is not None:
            self.path.stop_reading()
        for one in list(self.leaving):
            self.left(one)

    def refresh(self) -> None:
        """A channel has changed."""
        if self.path is not None:
            self.path.refresh()

    def measure(self, peer: Endpoint, wanted: TunnelSettings) -> None:
        """What the path to the gateway takes may be another size now."""
        if self.tunnel is None or self.path is None:
            return
        self.tunnel.peer = peer
        limit = self.tunnel.measure()
        if not wanted.mtu:
            self.mtu = min(limit, self.path.mtu)
        self.path.refresh()
        note(log, logging.DEBUG, "path", gateway=peer[0], largest_inner=limit)

    def close(self) -> None:
        """Carry nothing any more."""
        if self.path is not None:
            self.path.close()

    def _remove(self, tunnel: Tunnel) -> None:
        self._totals.retire(tunnel.channel.counters)
        if self.path is not None:
            self.path.remove(tunnel)
