"""Which packets leave this machine, and by which device, beside what its tunnels are meant to carry."""

from __future__ import annotations

import threading
from collections.abc import Callable, Mapping, Sequence
from ipaddress import ip_address, ip_network
from pathlib import Path

from zesty_burrow.carrier.control.status import TunnelStatus
from zesty_burrow.core.net import TCP, UDP
from zesty_burrow.core.ways_out.beside import (
    Allowed,
    Meant,
)
from zesty_burrow.core.ways_out.capture_filter import WatchedPackets
from zesty_burrow.core.ways_out.names_seen import NamesSeen
from zesty_burrow.core.ways_out.seen import WatchSeen, WaysSeen
from zesty_burrow.errors import MachineError, RightsMissing
from zesty_burrow.host.guard.plan import EVERYTHING, Share
from zesty_burrow.host.guard.state import GuardState
from zesty_burrow.host.packet_watch.allowances import look_beside
from zesty_burrow.host.packet_watch.watch import PacketWatch, WatchedDevice, write_capture
from zesty_burrow.host.ways_out.look import Answers, Towards, look_at_ways
from zesty_burrow.records import dataclass
from zesty_burrow.use_cases.tunnel.running import running_tunnels
from zesty_burrow.use_cases.tunnel.status import guard_state, look_at_guard
from zesty_burrow.use_cases.verification.names import DNS_PORT, NamesNamed, is_address, names_seen
from zesty_burrow.use_cases.workspace import Workspace

READ_FOR = 0.1
"""Seconds after which the watch looks whether it is to stop."""


@dataclass(frozen=True, slots=True)
class Meaning:
    """What this machine's tunnels are meant to carry. ``allowed``: by version of IP, what may leave beside them;
    ``names``: their devices; ``outer``: all others that lead outside.
    """

    tunnels: tuple[Meant, ...]
    allowed: dict[int, tuple[Allowed, ...]]
    names: tuple[str, ...]
    outer: tuple[WatchedDevice, ...]


def meaning_of(statuses: Sequence[TunnelStatus], guard: GuardState | None, share: Share) -> Meaning:
    """``share``: what all tunnels let through beside them. Raises :class:`MachineError`."""
    names = tuple(status.device for status in statuses)
    beside = look_beside(share, guard.portal if guard is not None else {}, names)
    tunnels = tuple(meant_of(status, beside.devices, share) for status in statuses)
    return Meaning(tunnels, beside.allowed, names, beside.outer)


def meaning_now(workspace: Workspace) -> Meaning:
    """Of the tunnels that are up, with the guard as it is. Raises :class:`MachineError`."""
    statuses = [TunnelStatus.of(one.document) for one in running_tunnels(workspace) if one.document]
    return meaning_of(statuses, guard_state(workspace), look_at_guard(workspace).whole)


def look(meaning: Meaning, names: NamesNamed) -> tuple[WaysSeen, NamesSeen]:
    """What cannot be looked at is undecided."""
    towards = [Towards(ip_address(server.address), UDP, DNS_PORT) for server in names.servers]
    towards += [Towards(ip_address(proxy.host), TCP, proxy.port) for proxy in names.proxies if is_address(proxy.host)]
    answers: Answers = {}
    try:
        allowed = {version: list(rows) for version, rows in meaning.allowed.items()}
        ways, answers = look_at_ways(meaning.tunnels, allowed, meaning.names, towards)
    except RightsMissing:
        ways = WaysSeen(undecided=("the packet filter: only root may read it",))
    except MachineError as problem:
        ways = WaysSeen(undecided=(f"{problem.what}: {problem.why}",))
    return ways, names_seen(names, answers)


def _watched(meaning: Meaning) -> WatchedPackets:
    belonging = dict.fromkeys(network for tunnel in meaning.tunnels for network in tunnel.networks)
    return WatchedPackets(tuple(belonging), meaning.allowed)


class Watching:
    """A packet watch that goes on in a thread of its own; a context manager. ``now``: what the tunnels are meant to
    carry at a moment. ``blind``: why there is no watch.
    """

    def __init__(self, meaning: Meaning, now: Callable[[], Meaning] | None = None) -> None:
        again = (lambda: _watched(now())) if now is not None else None
        self._watch = PacketWatch(_watched(meaning), meaning.outer, again)
        self._stopped = threading.Event()
        self._thread = threading.Thread(target=self._read, daemon=True, name="packet watch")
        self._lock = threading.Lock()
        self.blind = ""

    def __enter__(self) -> Watching:
        try:
            self._watch.open()
        except MachineError as problem:
            self.blind = f"{problem.what}: {problem.why}" if problem.why else problem.what
        else:
            self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self.stop()
        self._watch.close()

    def _read(self) -> None:
        while not self._stopped.is_set():
            with self._lock:
                self._watch.wait(READ_FOR)

    def stop(self) -> None:
        """Read what has come, and no more."""
        if self._thread.is_alive():
            self._stopped.set()
            self._thread.join()
            self._watch.read()

    def result(self) -> WatchSeen:
        """What was seen so far."""
        if self.blind:
            return WatchSeen(blind=self.blind)
        with self._lock:
            return self._watch.result()

    def write(self, path: Path) -> None:
        """What nothing explains, as a file for analysers."""
        write_capture(path, self._watch.kept)


def meant_of(status: TunnelStatus, devices: Mapping[str, int], share: Share) -> Meant:
    """A tunnel as it is meant, by its own word."""
    networks = [ip_network(one) for one in status.networks]
    if status.ipv6 == "blocked":
        networks.append(EVERYTHING[1])
    elif status.ipv6 == "outside":
        networks = [network for network in networks if network.version == 4]
    known = [ip_address(status.gateway_address)] if status.gateway_address else []
    gateways = tuple(dict.fromkeys([*known, *(opening.address for opening in share.openings)]))
    left_out = tuple(ip_network(one) for one in status.left_out)
    return Meant(status.profile, devices.get(status.device, 0), tuple(dict.fromkeys(networks)), gateways, left_out)
