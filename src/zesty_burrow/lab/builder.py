"""Builds the lab's hosts and wires inside namespaces of its own, then stays as their first process."""

from __future__ import annotations

import os
import signal
import struct
import sys
import traceback
from contextlib import suppress
from pathlib import Path

from zesty_burrow.carrier.fast_path import selector
from zesty_burrow.host import namespaces
from zesty_burrow.host.netlink import Netlink, Route
from zesty_burrow.lab import story
from zesty_burrow.lab.hosts import Secrets, close_inherited, serve_host
from zesty_burrow.lab.private_files import make_private

ROUTERS = frozenset({"hub", "cobblewire", *story.PLACE_BY_NAME})
RESOLVERS = dict.fromkeys((story.WORKSTATION, *(one.name for one in story.DEVICES)), (story.ISP_RESOLVER4,))
MAIN = 254


def _sysctl(path: str, value: str) -> None:
    with suppress(OSError):
        Path("/proc/sys/net", path).write_text(value)


def prepare_network(name: str) -> None:
    """Settings of a fresh network namespace, before there are links."""
    for scope in ("all", "default"):
        # Duplicate address detection would cost the first second of IPv6.
        _sysctl(f"ipv6/conf/{scope}/accept_dad", "0")
        _sysctl(f"ipv6/conf/{scope}/dad_transmits", "0")
        # The workstation takes what a router advertises, routes too (RFC 4191).
        _sysctl(f"ipv6/conf/{scope}/accept_ra", "1" if name == story.WORKSTATION else "0")
        _sysctl(f"ipv6/conf/{scope}/accept_ra_rt_info_max_plen", "128")
    if name in ROUTERS:
        _sysctl("ipv4/ip_forward", "1")
        _sysctl("ipv6/conf/all/forwarding", "1")
    with Netlink() as netlink:
        netlink.set_link("lo", state="up")


def prepare_files(name: str, folder: Path) -> None:
    """The host's own files in place of the machine's, its resolver settings among them, in its own mount namespace."""
    folder.mkdir(mode=0o700, exist_ok=True)
    make_private(folder.parent)
    servers = "".join(f"nameserver {address}\n" for address in RESOLVERS.get(name, ()))
    files = {
        "resolv.conf": servers,
        "nsswitch.conf": "passwd: files\ngroup: files\nhosts: files dns\nprotocols: files\nservices: files\n",
        "hosts": f"127.0.0.1 localhost {name}\n::1 localhost\n",
    }
    for file_name, text in files.items():
        own = folder / file_name
        own.write_text(text)
        namespaces.mount(str(own), f"/etc/{file_name}", flags=namespaces.MS_BIND)


def configure_ports(name: str) -> None:
    """Addresses, then routes, of a host's devices."""
    ports = [port for link in story.links() for port in (link.one, link.other) if port.host == name and port.is_used]
    with Netlink() as netlink:
        for port in ports:
            netlink.set_link(port.device, state="up")
            for address in port.addresses:
                netlink.add_address(port.device, address)
        for port in ports:
            for destination, gateway in port.routes:
                netlink.add_route(Route(destination, MAIN, port.device, gateway))


def _host_process(name: str, folder: Path, secrets: Secrets, keeper: Path, told: int, wait: int) -> None:
    """A host, from fork to its end. Never returns."""
    try:
        close_inherited({told, wait})
        namespaces.die_with_parent(signal.SIGKILL)
        namespaces.unshare(namespaces.CLONE_NEWNET | namespaces.CLONE_NEWNS | namespaces.CLONE_NEWUTS)
        namespaces.set_host_name(name)
        prepare_files(name, folder / f"host-{name}")
        prepare_network(name)
        os.write(told, b"1")
        os.read(wait, 1)
        configure_ports(name)
        selector.run(serve_host(name, secrets, keeper))
    except BaseException:
        traceback.print_exc()
    os._exit(1)


def _fork_hosts(folder: Path, secrets: Secrets, keeper: Path) -> dict[str, tuple[int, int, int]]:
    """All hosts, each with its process, the pipe it tells on and the pipe it waits on."""
    hosts = {}
    for name in story.hosts():
        told_read, told_write = os.pipe()
        wait_read, wait_write = os.pipe()
        pid = os.fork()
        if pid == 0:
            _host_process(name, folder, secrets, keeper, told_write, wait_read)
        os.close(told_write)
        os.close(wait_read)
        hosts[name] = (pid, told_read, wait_write)
    return hosts


def build(folder: Path, secrets: Secrets, keeper: Path) -> None:
    """The lab's first process: the hub. Never returns; when it ends, the kernel ends all hosts."""
    try:
        with suppress(OSError):
            namespaces.mount("proc", "/proc", "proc", namespaces.MS_NOSUID | namespaces.MS_NODEV)
        namespaces.set_host_name("hub")
        prepare_network("hub")
        hosts = _fork_hosts(folder, secrets, keeper)
        for _, told, _ in hosts.values():
            if os.read(told, 1) != b"1":
                raise OSError("a host of the lab did not start")
        _wire({name: row[0] for name, row in hosts.items()})
        configure_ports("hub")
        for _, _, wait in hosts.values():
            os.write(wait, b"1")
        while True:
            os.waitpid(-1, 0)
    except ChildProcessError:
        os._exit(0)
    except BaseException:
        traceback.print_exc()
        sys.stderr.flush()
        os._exit(1)


def _wire(pids: dict[str, int]) -> None:
    """Make each wire here, and hand its ends to their hosts under their own names."""
    with Netlink() as netlink:
        for number, link in enumerate(story.links()):
            names = [f"w{number}a", f"w{number}b"]
            netlink.add_pair(*names)
            for name, port in zip(names, (link.one, link.other), strict=True):
                if port.host == "hub":
                    netlink.set_link(name, ifname=port.device)
                else:
                    netlink.set_link(name, ifname=port.device, net_ns_pid=pids[port.host])


def enter_fresh_namespaces() -> None:
    """Namespaces of the lab's own; without root inside a user namespace. For the process that forks the hub."""
    flags = namespaces.CLONE_NEWNS | namespaces.CLONE_NEWNET | namespaces.CLONE_NEWPID | namespaces.CLONE_NEWUTS
    uid, gid = os.geteuid(), os.getegid()
    if uid != 0:
        namespaces.unshare(namespaces.CLONE_NEWUSER)
        namespaces.map_to_root(uid, gid)
    namespaces.unshare(flags)
    namespaces.mount("none", "/", flags=namespaces.MS_REC | namespaces.MS_PRIVATE)
    namespaces.die_with_parent(signal.SIGKILL)


def peer_process(credentials: bytes) -> int:
    """The process at the other end of a Unix socket, as seen from here."""
    pid: int = struct.unpack("3i", credentials)[0]
    return pid
