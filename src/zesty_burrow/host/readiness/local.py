"""Checks that ask this machine alone: no packet leaves it, and nothing is changed."""

from __future__ import annotations

import os
import shutil
import socket
import time
from collections.abc import Callable
from pathlib import Path

import zesty_burrow
from zesty_burrow.errors import MachineError, RightsMissing
from zesty_burrow.host.guard.presence import is_in_force
from zesty_burrow.host.journal.lock import is_held, is_left_over
from zesty_burrow.host.names.resolv_conf import RESOLV_CONF, servers_in
from zesty_burrow.host.names.resolved import STUBS, find_resolved
from zesty_burrow.host.netlink import RT_TABLE_MAIN, Netlink
from zesty_burrow.host.paths import Paths, program_as_root
from zesty_burrow.host.plan import FIRST_RULE, WIDEST_HARMLESS
from zesty_burrow.host.readiness.check import Readiness, ReadinessCheck
from zesty_burrow.host.tun import DEVICE, PREFIX
from zesty_burrow.host.udp import UDP_GRO, UDP_SEGMENT

CAP_NET_ADMIN = 12
LEAST_SPACE = 16 << 20
"""Octets: the journal, the log, the store's next pages."""
LEAST_MTU = 1280


def rights() -> ReadinessCheck:
    """The right to configure the network."""
    effective = next(
        (line.split()[1] for line in Path("/proc/self/status").read_text().splitlines() if line.startswith("CapEff")),
        "0",
    )
    if int(effective, 16) >> CAP_NET_ADMIN & 1:
        return ReadinessCheck("rights", Readiness.READY, "this process may configure the network (CAP_NET_ADMIN)")
    return ReadinessCheck(
        "rights",
        Readiness.MISSING,
        "this process may not configure the network",
        "A tunnel needs a device, addresses, routes and the packet filter. Everything else works without.",
        f"Run it as root: {program_as_root()} connect NAME. Or have the machine start it: "
        f"{program_as_root()} startup add NAME",
    )


def tunnel_device() -> ReadinessCheck:
    path = Path(DEVICE)
    if not path.exists():
        remedy: tuple[str, ...] = ("modprobe", "tun")
        return ReadinessCheck(
            "tunnel device", Readiness.MISSING, f"there is no {DEVICE}", "Packets pass by it.", " ".join(remedy), remedy
        )
    if not os.access(path, os.R_OK | os.W_OK):
        why = "Packets pass by it; who may open it still needs the right to configure the network."
        words = f"Run it as root: {program_as_root()} connect NAME"
        return ReadinessCheck("tunnel device", Readiness.MISSING, f"{DEVICE} is closed to this user", why, words)
    return ReadinessCheck("tunnel device", Readiness.READY, DEVICE)


def packet_filter() -> ReadinessCheck:
    why = "The guard lets nothing leave beside the tunnel; without it routes alone do that."
    try:
        closed = is_in_force()
    except RightsMissing:
        return ReadinessCheck("packet filter", Readiness.UNKNOWN, "only root may ask the kernel for it", why)
    except MachineError as problem:
        remedy = ("modprobe", "nf_tables", "nft_reject_inet")
        return ReadinessCheck("packet filter", Readiness.MISSING, problem.why, why, " ".join(remedy), remedy)
    return ReadinessCheck(
        "packet filter", Readiness.READY, "nf_tables" + (", and the guard is closed" if closed else "")
    )


def resolver() -> ReadinessCheck:
    """Who is in charge of name resolution, and whether its settings can be changed."""
    why = "While a tunnel is up, names are asked of its servers."
    try:
        octets = RESOLV_CONF.read_bytes()
    except OSError as problem:
        return ReadinessCheck(
            "resolver", Readiness.ATTENTION, f"{RESOLV_CONF}: {problem.strerror}", why, f"Create {RESOLV_CONF}."
        )
    servers = servers_in(octets)
    target = f" (a link to {RESOLV_CONF.readlink()})" if RESOLV_CONF.is_symlink() else ""
    found = f"{RESOLV_CONF}{target}: {', '.join(map(str, servers)) or 'no name server'}"
    resolved = find_resolved(servers)
    if resolved is not None and resolved.alone:
        return ReadinessCheck(
            "resolver", Readiness.READY, f"{found}: systemd-resolved, which takes a tunnel's name servers"
        )
    if not os.access(RESOLV_CONF, os.W_OK) and os.geteuid() == 0:
        return ReadinessCheck(
            "resolver", Readiness.MISSING, f"{found}; it cannot be written", why, "Mount it writable."
        )
    if any(server in STUBS for server in servers):
        return ReadinessCheck(
            "resolver",
            Readiness.ATTENTION,
            f"{found}: systemd-resolved, but it does not answer on the system's bus",
            f"{why} They are written to {RESOLV_CONF} then, which not every program reads.",
            "See `systemctl status systemd-resolved dbus`.",
        )
    return ReadinessCheck("resolver", Readiness.READY, found)


def others() -> ReadinessCheck:
    """Rules, routes and devices of another tunnel or manager."""
    why = "Two programs that lead all traffic somewhere undo each other's work."
    found = []
    with Netlink() as netlink:
        for rule in netlink.rules():
            if 0 < rule.priority < FIRST_RULE:
                found.append(f"rule {rule.priority} (IPv{rule.version}) to table {rule.table}")
        for route in netlink.routes(RT_TABLE_MAIN):
            if 0 < int(route.destination.partition("/")[2] or 128) <= WIDEST_HARMLESS[route.version]:
                found.append(f"route to {route.destination} by {route.device}")
        devices = [name for name in netlink.point_to_point() if not name.startswith(PREFIX)]
    found += [f"device {name}" for name in devices]
    if found:
        return ReadinessCheck(
            "other tunnels",
            Readiness.ATTENTION,
            ", ".join(found),
            why,
            "End the other tunnel, if it takes all traffic.",
        )
    return ReadinessCheck("other tunnels", Readiness.READY, "no rules, wide routes or tunnel devices of others")


def own_state(paths: Paths) -> ReadinessCheck:
    """What an earlier tunnel has left."""
    journals = [tunnel.journal for tunnel in paths.tunnels]
    if any(map(is_left_over, journals)):
        why = "Its routes block all traffic."
        return ReadinessCheck(
            "earlier tunnels", Readiness.ATTENTION, "one was not restored", why, "zesty restore", ("zesty", "restore")
        )
    up = sum(map(is_held, journals))
    found = "a tunnel is up" if up == 1 else f"{up} tunnels are up" if up else "none has left anything"
    return ReadinessCheck("earlier tunnels", Readiness.READY, found)


def space(paths: Paths) -> ReadinessCheck:
    nearest = next(one for one in (paths.state, *paths.state.parents) if one.exists())
    free = shutil.disk_usage(nearest).free
    why = "Each change is written down before it is made; without room for that, none is made."
    if free < LEAST_SPACE:
        return ReadinessCheck(
            "disk space", Readiness.MISSING, f"{free >> 20} MiB free at {nearest}", why, f"Make room at {nearest}."
        )
    return ReadinessCheck("disk space", Readiness.READY, f"{free >> 20} MiB free at {nearest}")


def clock(now: float) -> ReadinessCheck:
    """Certificates have dates. ``now``: seconds since 1970. A clock that was never set is found by our own files."""
    made = Path(zesty_burrow.__file__).stat().st_mtime
    stamp = time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime(now))
    why = "Certificates are judged by it: with a wrong one every gateway seems false."
    if now < made - 86400:
        return ReadinessCheck(
            "clock", Readiness.MISSING, f"{stamp}, before this program was made", why, "Set the clock (date -s)."
        )
    return ReadinessCheck("clock", Readiness.READY, stamp)


def links() -> list[ReadinessCheck]:
    """The way out in both families, and the largest packet that it takes."""
    checks = []
    with Netlink() as netlink:
        devices = {
            version: netlink.device_towards(address) for version, address in ((4, "203.0.113.1"), (6, "2001:db8::1"))
        }
        sizes = {device: netlink.mtu(device) for device in devices.values() if device}
    for version, device in devices.items():
        name = f"IPv{version}"
        if device:
            checks.append(ReadinessCheck(name, Readiness.READY, f"by {device}"))
        else:
            state = Readiness.ATTENTION if version == 4 else Readiness.READY
            text = "no way out" if version == 4 else "no way out; a tunnel may bring one"
            checks.append(ReadinessCheck(name, state, text, "A gateway may be reached by the other family alone."))
    small = [f"{device} {size}" for device, size in sizes.items() if size < LEAST_MTU + 100]
    if small:
        why = "A tunnel's packets are larger than what they carry; IPv6 needs 1280 octets inside."
        checks.append(
            ReadinessCheck("MTU", Readiness.ATTENTION, ", ".join(small), why, "Raise it, if the network allows it.")
        )
    elif sizes:
        checks.append(
            ReadinessCheck("MTU", Readiness.READY, ", ".join(f"{device} {size}" for device, size in sizes.items()))
        )
    return checks


def offloads() -> ReadinessCheck:
    """Many datagrams by one call."""
    missing = []
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as channel:
        for name, option in (("UDP_SEGMENT", UDP_SEGMENT), ("UDP_GRO", UDP_GRO)):
            try:
                channel.setsockopt(socket.SOL_UDP, option, 0)
            except OSError:
                missing.append(name)
    if missing:
        why = "Without them each datagram is a call of its own, and a tunnel carries a fraction."
        return ReadinessCheck(
            "offloads",
            Readiness.ATTENTION,
            f"the kernel has no {', '.join(missing)}",
            why,
            "Linux 5.0 or newer has them.",
        )
    return ReadinessCheck("offloads", Readiness.READY, "UDP_SEGMENT, UDP_GRO")


def cheap(now: float) -> list[Callable[[], ReadinessCheck]]:
    """What `connect` looks at before it begins, as it would stop it half-way. The journal tells of a full disk."""
    return [resolver, lambda: clock(now)]
