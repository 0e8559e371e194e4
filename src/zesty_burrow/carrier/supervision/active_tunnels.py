"""The tunnels of one supervisor on one data path: the one that is used, and those that are being ended."""

from __future__ import annotations

import asyncio
import gc
import logging
import time

from zesty_burrow.carrier.control.log_lines import note
from zesty_burrow.carrier.control.totals import Totals
from zesty_burrow.carrier.data_path.data_path import DataPath, offloads_in_use
from zesty_burrow.carrier.data_path.options import PathOptions
from zesty_burrow.carrier.data_path.path_size import LEAST_PATH, PathSize, search
from zesty_burrow.carrier.data_path.tunnel import PathTunnel, Tunnel
from zesty_burrow.carrier.network.path_probe import PathProbe
from zesty_burrow.carrier.sessions import OpenSession
from zesty_burrow.core.net import Address, Endpoint
from zesty_burrow.core.profile import MAX_MTU, MIN_MTU, TunnelSettings
from zesty_burrow.host.tun import TunDevice
from zesty_burrow.host.watches.address_changes import link_mtu
from zesty_burrow.protocols.session import Up

log = logging.getLogger(__name__)
DOUBT_AFTER, LOOK_AGAIN = 1.0, 5.0
"""Seconds of a search after which a claim may be true; and until it is looked up what the kernel has heard since."""


def probe_addresses(event: Up) -> tuple[Address, Address] | None:
    """This side's address and a name server's in the tunnel, between which it can be seen what the path takes."""
    for server in event.network.name_servers:
        for address in event.network.addresses:
            if address.version == server.version and event.channel.allows_out(address.ip.packed + server.packed):
                return address.ip, server
    return None


class ActiveTunnels:
    """``path`` is None until a tunnel is up for the first time; ``mtu``: of the device, 0 until then."""

    def __init__(self, device: TunDevice, disabled: frozenset[str], wake: asyncio.Event, totals: Totals) -> None:
        self.device = device
        self._disabled, self._wake, self._totals = disabled, wake, totals
        self.path: DataPath | None = None
        self.tunnel: PathTunnel | None = None
        self.leaving: dict[OpenSession, PathTunnel] = {}
        self.mtu = 0
        self._probed_by: tuple[Address, Address] | None = None
        self._search: asyncio.Task[int] | None = None
        self._look_again: asyncio.TimerHandle | None = None

    @property
    def tunnels(self) -> list[PathTunnel]:
        """Those whose channels may still carry something."""
        return [*([self.tunnel] if self.tunnel else []), *self.leaving.values()]

    def carry(self, session: OpenSession, event: Up, wanted: TunnelSettings) -> None:
        """Packets go out by this session from now on; the tunnel before it is gone, or was set aside."""
        self._stop_search()
        self._probed_by = probe_addresses(event)
        before = self.tunnel
        tunnel = session.tunnel(event.channel, sized=self._probed_by is not None, wake=self._wake)
        tunnel.measure()
        mtu = wanted.mtu or max(MIN_MTU, min(tunnel.limit, MAX_MTU))
        most = wanted.mtu or max(mtu, min(tunnel.widest(), MAX_MTU))
        options = PathOptions(wanted.dscp, wanted.clamp_tcp_mss)
        if self.path is None:
            # What is loaded by now stays: the collector need not look at it again and again.
            gc.freeze()
            self.path = DataPath(self.device, most, options, self._disabled, self._wake)
            used = ", ".join(offloads_in_use(self.device, session.port)) or "none"
            note(log, logging.DEBUG, "path", offloads=used, largest_inner=tunnel.limit)
        self.path.plain.options = options
        self.mtu = min(mtu, self.path.mtu)
        if before is not None and before not in self.leaving.values():
            self._remove(before)
        self.tunnel = tunnel
        self.path.add(tunnel)
        session.io.path = self.path

    def set_aside(self, session: OpenSession) -> None:
        """The tunnel that is used belongs to this session, which is about to be ended."""
        if self.tunnel is not None:
            self.leaving[session] = self.tunnel

    def left(self, session: OpenSession) -> None:
        """A session that was set aside is over."""
        self._remove(self.leaving.pop(session))
        session.dispose()

    def pause(self) -> None:
        """No session any more; the device keeps what comes, so that nothing leaves."""
        self._stop_search()
        if self.path is not None:
            self.path.stop_reading()
        for one in list(self.leaving):
            self.left(one)

    def wants_rekey(self) -> bool:
        """Whether keys are used up. Raises what has failed while packets were sent."""
        if self.path is not None:
            self.path.raise_failure()
        return self.tunnel is not None and self.tunnel.channel.wants_rekey

    def refresh(self) -> None:
        if self.path is not None:
            self.path.refresh()

    def look_at_path(self) -> bool:
        """Search for what the path takes where somebody claims something; whether a search has changed anything.

        To be called when ``wake`` was set.
        """
        tunnel = self.tunnel
        if not isinstance(tunnel, Tunnel) or tunnel.size is None or self._probed_by is None:
            return False
        loop = asyncio.get_running_loop()
        if self._search is None and tunnel.size.wants_search:
            probe = PathProbe(tunnel, *self._probed_by)
            widest = max(link_mtu(tunnel.peer[0]), LEAST_PATH)
            self._search = loop.create_task(search(probe.arrives, tunnel.size.claim, widest))
            self._search.add_done_callback(lambda _: self._wake.set())
            self._look_again_in(DOUBT_AFTER)
        if self._search is None or not self._search.done():
            return self._has_changed(tunnel)
        confirmed, self._search = self._search.result(), None
        note(log, logging.INFO, "path size", claimed=tunnel.size.claim, confirmed=confirmed or "nobody answers")
        tunnel.size.found(confirmed, time.monotonic())
        self._look_again_in(LOOK_AGAIN)
        return True

    def _has_changed(self, tunnel: PathTunnel) -> bool:
        """While more is sent than the kernel believes in, it tells nobody what else it hears: that is looked up."""
        if self._look_again is None or self._look_again.when() > asyncio.get_running_loop().time():
            return False
        self._look_again_in(LOOK_AGAIN)
        if self._search is not None and tunnel.size is not None:
            # Large packets would be lost for as long as it goes on.
            tunnel.size.doubt()
        before = tunnel.limit
        return tunnel.measure() != before

    def _look_again_in(self, seconds: float) -> None:
        if self._look_again is not None:
            self._look_again.cancel()
        self._look_again = asyncio.get_running_loop().call_later(seconds, self._wake.set)

    def _stop_search(self) -> None:
        if self._search is not None:
            self._search.cancel()
            self._search = None
        if self._look_again is not None:
            self._look_again.cancel()
            self._look_again = None

    def measure(self, peer: Endpoint, wanted: TunnelSettings, *, moved: bool) -> None:
        """What the path to the gateway takes may be another size now; after a move nothing is known of it."""
        if self.tunnel is None or self.path is None:
            return
        if moved and isinstance(self.tunnel, Tunnel) and self.tunnel.size is not None:
            self._stop_search()
            self.tunnel.size = PathSize()
        self.tunnel.peer = peer
        limit = self.tunnel.measure()
        if not wanted.mtu:
            self.mtu = min(limit, self.path.mtu)
        self.path.refresh()
        note(log, logging.DEBUG, "path", gateway=peer[0], largest_inner=limit)

    def close(self) -> None:
        self._stop_search()
        if self.path is not None:
            self.path.close()

    def _remove(self, tunnel: PathTunnel) -> None:
        self._totals.retire(tunnel.channel.counters)
        if self.path is not None:
            self.path.remove(tunnel)
