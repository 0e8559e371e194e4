"""The guard as one tunnel needs it: closed before its first packet, opened to the one gateway that is tried."""

from __future__ import annotations

import logging
import secrets
import socket
import time
from collections.abc import Iterable
from datetime import UTC, datetime
from ipaddress import ip_address

from zesty_burrow.carrier.control.log_lines import note
from zesty_burrow.carrier.supervision.options import TunnelOptions
from zesty_burrow.core.net import TCP, UDP, Address, LocalNetwork, Network
from zesty_burrow.core.profile import Profile
from zesty_burrow.errors import BurrowError, MachineError
from zesty_burrow.host.guard.guard import Guard
from zesty_burrow.host.guard.local_trust import places
from zesty_burrow.host.guard.plan import ANY_PORT, Opening, Server, Share, held_by
from zesty_burrow.host.guard.tables.allow_list import DNS_PORTS, DROPPED, REJECTED
from zesty_burrow.protocols.registry import protocol
from zesty_burrow.records import replace

log = logging.getLogger(__name__)
PLAIN_DNS = DNS_PORTS[:2]


class TunnelGuard:
    """A tunnel's share of the guard. What is asked for here is in force when the call returns.

    ``holds``: nothing of the tunnel's traffic leaves beside it. A tunnel that does not want that has a share as well,
    by which it passes where others hold everything.
    """

    def __init__(self, profile: Profile, options: TunnelOptions) -> None:
        self._guard, self.holds = Guard(options.guard), options.guarded
        self._profile, self._key = profile, f"tunnel {secrets.token_hex(8)}"
        waits = self.holds and options.confirm_within
        confirm_by = time.clock_gettime(time.CLOCK_BOOTTIME) + options.confirm_within if waits else 0.0
        since = datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
        self._share = Share((), since, "", str(options.journal), peers=options.peers, confirm_by=confirm_by)
        self._in_force: Share | None = None
        self._touched = False
        self._local: tuple[LocalNetwork, ...] = ()
        self.become(profile)
        self._to_servers: tuple[Opening, ...] = ()
        self._to_gateway: tuple[Opening, ...] = ()

    def close(self, local: Iterable[LocalNetwork]) -> None:
        """From here on nothing that belongs in the tunnel leaves. ``local``: the networks that are reached beside
        it.
        """
        self._local = tuple(local)
        self.become(self._profile)
        self._put(self._share)

    def become(self, profile: Profile) -> None:
        """The tunnel is about to be another profile's; in force with the next call."""
        self._profile, traffic = profile, profile.traffic
        kept = self._local if traffic.everything and traffic.local_network == "outside" else ()
        held = held_by(traffic) if self.holds else ()
        inside = places(traffic.networks, traffic.name_servers)
        self._share = replace(
            self._share, held=held, what=profile.name, local=kept, left_out=traffic.beside, inside=inside
        )

    def open_to_servers(self, servers: Iterable[Address]) -> None:
        """To ask these name servers for the gateway's address, by sockets of ours alone."""
        self._to_servers = tuple(Opening(server, kind, port) for server in servers for kind, port in PLAIN_DNS)
        self._open()

    def open_to(self, gateways: Iterable[tuple[str, Profile]]) -> None:
        """To these gateways, each by its own profile's ports, and to no other any more."""
        self._to_gateway = tuple(opening for gateway, profile in gateways for opening in _openings(gateway, profile))
        self._open()

    def open_to_nobody(self) -> None:
        """No gateway is tried at present."""
        self._to_servers = self._to_gateway = ()
        self._open()

    def carry(self, device: str, servers: Iterable[Address], gateway: str, inside: Iterable[Network]) -> None:
        """The tunnel is up: what goes into its device passes, and questions to its name servers. ``inside``: what
        belongs in the tunnel, so that no local network is let through that overlaps it.
        """
        self._to_servers = ()
        self._to_gateway = tuple(one for one in self._to_gateway if str(one.address) == gateway)
        known = tuple(Server(device, address) for address in servers)
        share = replace(self._share, devices=(device,), servers=known, openings=self._to_gateway)
        self._put(replace(share, inside=tuple(dict.fromkeys((*share.inside, *inside)))))

    def put_again(self) -> bool:
        """Look at it, and set again what somebody has changed of it. Whether that was so."""
        if self._in_force is None or not self.is_closed:
            return False
        known = self._guard.shares().get(self._key)
        if known is None or known.held != self._in_force.held or known.devices != self._in_force.devices:
            self._guard.put(self._key, self._in_force)
            return True
        return self._guard.check()

    def follow(self) -> socket.socket | None:
        """A connection that becomes readable when the guard's process dies; None where nothing is held."""
        return self._guard.follow() if self._in_force is not None and self.is_closed else None

    @property
    def is_confirmed(self) -> bool:
        """Whether the user has confirmed the closed guard, or need not."""
        share = self._guard.shares().get(self._key)
        return share is not None and not share.confirm_by

    def rejected_packets(self) -> int:
        """How many packets were rejected since the guard was set, by all who hold it; 0 for one that does not."""
        if not self.holds:
            return 0
        counts = self._guard.state().counts
        return sum(counts[name].packets for name in (REJECTED, DROPPED) if name in counts)

    def leave_closed(self, why: str) -> None:
        """The tunnel's process ends, and nobody has asked to open the machine.

        Where that cannot be noted (a full disk), the rules that are in force stay, and the machine is restored all the
        same.
        """
        if self._touched:
            try:
                if self.holds:
                    self._guard.close(self._key, why)
                else:
                    self._guard.drop(self._key)
            except BurrowError as problem:
                note(log, logging.ERROR, "guard not updated", what=problem.what, why=problem.why)

    @property
    def is_closed(self) -> bool:
        """Whether somebody holds traffic, so that nothing leaves but by the openings."""
        return self.holds or bool(self._guard.holders())

    def lift(self) -> None:
        """The user wants the machine open."""
        if self._touched and self.holds:
            self._guard.lift(self._key)

    def _open(self) -> None:
        self._put(replace(self._share, openings=(*self._to_servers, *self._to_gateway)))

    def _put(self, share: Share) -> None:
        self._share = share
        if share != self._in_force:
            # Also where an interrupt comes before the call has returned.
            self._touched = True
            try:
                self._guard.put(self._key, share)
            except MachineError as problem:
                if not self.holds and problem.slug == "packet-filter-missing":
                    # A kernel without a packet filter: nobody holds anything there that this tunnel had to pass.
                    note(log, logging.INFO, "no packet filter", why=problem.why)
                    return
                problem.next_step += " Without a guard, on routes alone: connect --no-guard."
                raise
            self._in_force = share


def _openings(gateway: str, profile: Profile) -> list[Opening]:
    """To the gateway by its protocol's ports, or to the proxy on the way alone; it names a port for datagrams later."""
    ports = protocol(profile.tunnel.protocol).outer_ports(profile)
    if profile.proxy is None:
        return [Opening(ip_address(gateway), *port) for port in ports]
    proxy = ip_address(profile.proxy.address)
    relay = [Opening(proxy, UDP, ANY_PORT)] if any(kind == UDP for kind, _ in ports) else []
    return [Opening(proxy, TCP, profile.proxy.port), *relay]
