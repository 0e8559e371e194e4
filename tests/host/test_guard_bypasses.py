"""What gets past the IP stack's own hooks: frames of guests and packet sockets, new devices; older kernels; and how a table
that somebody has changed is told from one that is as meant.
"""

from __future__ import annotations

import os
import socket
import subprocess
import time
from contextlib import suppress
from dataclasses import replace
from ipaddress import ip_network
from pathlib import Path

import pytest

from host.test_guard import FAR4, GATEWAY4, SHARE, Ear, Guest, ethernet_frame, ip, on_a_machine_of_its_own, send
from support import until
from zesty_burrow.core.net import UDP, LocalNetwork
from zesty_burrow.errors import BurrowError
from zesty_burrow.host.guard.guard import BY_USER, Guard
from zesty_burrow.host.guard.owner.process import take_name
from zesty_burrow.host.guard.owner.service import NAME, GuardService
from zesty_burrow.host.guard.owner.wire import listen, socket_of
from zesty_burrow.host.guard.plan import EVERYTHING, MARK, Opening, Share
from zesty_burrow.host.guard.probe import probe
from zesty_burrow.host.guard.state import Measured
from zesty_burrow.host.guard.tables.kernel import KernelGuard
from zesty_burrow.host.guard.tables.surroundings import look_around

HELD = Share(EVERYTHING, "2026-11-29T00:00:00Z", "set by hand")


def test_a_macvlan_guest(tmp_path):
    """Its frames go to the outer device past every hook of the IP stack; the device's own chain drops and counts them."""

    def act():
        ear, guest = Ear("outer"), Guest("mv0", above="outer")
        guest.send(ethernet_frame("inner", b"a macvlan without a guard"))
        assert ear.hears(b"a macvlan without a guard")
        guard = Guard(tmp_path / "guard.json")
        guard.put(BY_USER, HELD)
        guest.send(ethernet_frame("inner", b"a macvlan under the guard"))
        assert not ear.hears(b"a macvlan under the guard")
        assert guard.state().egress_counts["dropped"].packets >= 1

    on_a_machine_of_its_own(act)


def test_a_bridged_guest_and_this_machine_s_own_bridge(tmp_path):
    """A guest on a bridge with the outer device is held; the local network that this machine is in by the bridge is not."""

    def act():
        for line in ("link add br0 type bridge", "link set outer master br0", "link set br0 up",
                     "link add guest type veth peer name guest-end", "link set guest master br0", "link set guest up",
                     "address flush dev outer", "address add 192.168.77.20/24 dev br0"):  # fmt: skip
            ip(*line.split())
        ip("neigh", "replace", "192.168.77.9", "lladdr", "02:00:00:00:00:09", "dev", "br0")
        ear, guest = Ear("outer"), Guest("guest-end")
        until(lambda: guest.send(ethernet_frame("inner", b"bridged without a guard")) or ear.hears(b"bridged without"))
        guard = Guard(tmp_path / "guard.json")
        local = (LocalNetwork("br0", ip_network("192.168.77.0/24")),)
        guard.put(BY_USER, replace(HELD, local=local))
        guest.send(ethernet_frame("inner", b"bridged under the guard"))
        assert not ear.hears(b"bridged under the guard")
        assert send(b"by the bridge", "192.168.77.9", 631) is None
        assert ear.hears(b"by the bridge")

    on_a_machine_of_its_own(act)


def test_a_new_device_gets_its_chain(tmp_path):
    """Before it is brought up; and one that is renamed or removed takes nothing of the guard with it."""

    def act():
        guard = Guard(tmp_path / "guard.json")
        guard.put(BY_USER, HELD)
        ip("link", "add", "late", "type", "veth", "peer", "name", "late-end")
        until(lambda: {"late", "late-end"} <= set(guard.state().devices))
        ip("link", "set", "late", "up")
        ip("link", "set", "late-end", "up")
        ear = Ear("late")
        with socket.socket(socket.AF_PACKET, socket.SOCK_RAW) as channel:
            channel.bind(("late", 0x0800))
            with pytest.raises(OSError, match="buffer space"):
                channel.send(ethernet_frame("outer", b"by a new device"))
        assert not ear.hears(b"by a new device")
        ip("link", "set", "late", "down")
        ip("link", "set", "late", "name", "later")
        until(lambda: "later" in guard.state().devices and "late" not in guard.state().devices)
        ip("link", "del", "later")
        until(lambda: "later" not in guard.state().devices)
        state = guard.state()
        assert (state.measured, state.without) == (Measured.AS_INTENDED, ())

    on_a_machine_of_its_own(act)


def test_the_tunnel_s_own_fragments(tmp_path):
    """A large packet of a tunnel's own socket leaves whole; nobody else's pieces do, although they have no port."""

    def act():
        guard, ear = Guard(tmp_path / "guard.json"), Ear("outer")
        guard.put("journal", replace(SHARE, openings=(Opening(GATEWAY4, UDP, 500),)))
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as channel:
            channel.setsockopt(socket.IPPROTO_IP, 10, 0)  # IP_MTU_DISCOVER: let the kernel cut it
            channel.setsockopt(socket.SOL_SOCKET, socket.SO_MARK, MARK)
            channel.sendto(b"first piece" + bytes(2000) + b"second piece", (str(GATEWAY4), 500))
        assert ear.hears(b"first piece") and ear.hears(b"second piece")
        assert isinstance(send(bytes(2000) + b"somebody else's piece", str(GATEWAY4), 500), OSError)
        assert not ear.hears(b"somebody else's piece")

    on_a_machine_of_its_own(act)


def serving(path, **how):
    """A guard's process as on an older kernel."""
    process = os.fork()
    if process == 0:
        # By it the guard knows its own changes from others'.
        take_name(NAME)
        service = GuardService(path, **how)
        service.begin()
        service.run(listen(socket_of(path)))
        os._exit(0)
    until(lambda: socket_of(path).exists())
    return process


def test_an_older_kernel_without_owners(tmp_path):
    """Others can change the tables there: each difference is noticed at once, set again, and said with its process."""

    def act():
        path = tmp_path / "guard.json"
        process = serving(path, owned=False)
        guard = Guard(path)
        guard.put(BY_USER, HELD)
        time.sleep(0.5)
        assert guard.state().owned is False
        for number, command in enumerate((
            "flush ruleset", "delete table netdev zesty_guard", "insert rule inet zesty_guard sent accept",
            "add table inet zesty_guard { flags dormant; }", "flush chain netdev zesty_guard by_outer",
            "add chain inet zesty_guard x { type filter hook output priority 1; }",
        ), start=1):  # fmt: skip
            # It stays until it was seen: of a process that is gone nobody can tell the name.
            with subprocess.Popen(
                ["nft", "-i"], stdin=subprocess.PIPE, stdout=subprocess.DEVNULL, text=True
            ) as changing:
                changing.stdin.write(f"{command}\n")
                changing.stdin.flush()
                until(lambda number=number: len(guard.state().events) == number, seconds=5)
            event = guard.state().events[-1]
            assert "restored" in event.what and "nft" in event.process, (command, event)
            assert guard.state().in_force
            assert isinstance(send(b"set again", FAR4, 9), OSError)
        guard.lift(BY_USER)
        os.waitpid(process, 0)

    on_a_machine_of_its_own(act)


def test_an_older_kernel_without_chains_at_devices(tmp_path):
    """It is said which devices have none."""

    def act():
        path = tmp_path / "guard.json"
        process = serving(path, egress=False)
        guard = Guard(path)
        guard.put(BY_USER, HELD)
        state = guard.state()
        assert (state.measured, state.devices) == (Measured.AS_INTENDED, ())
        assert set(state.without) >= {"outer", "inner"}
        assert isinstance(send(b"held all the same", FAR4, 9), OSError)
        guard.lift(BY_USER)
        os.waitpid(process, 0)

    on_a_machine_of_its_own(act)


CHANGES = {
    "nft flush chain inet zesty_guard sent": "chain sent has",
    "nft insert rule inet zesty_guard leaving accept": "chain leaving has 1 rules more",
    "nft add rule netdev zesty_guard by_outer accept": "at the devices: chain by_outer has 1 rules more",
    "nft add table inet zesty_guard '{ flags dormant; }'": "the table is dormant",
    "nft 'add chain inet zesty_guard x { type filter hook output priority 1; }'": "chain x is foreign",
    "nft delete table netdev zesty_guard": "at the devices: the table is missing",
    "nft delete table inet zesty_guard": "the table is missing",
    "nft replace rule inet zesty_guard sent handle HANDLE accept": "chain sent has other rules",
}


@pytest.mark.parametrize("command", CHANGES, ids=list(CHANGES.values()))
def test_what_differs_is_told(command):
    """A table without an owner that somebody has changed; and before that, none differs, whatever is let through."""

    def act():
        kernel = KernelGuard(owned=False)
        kernel.look_around()
        for share in (HELD, SHARE, replace(SHARE, held=(ip_network("10.20.0.0/16"),))):
            kernel.set(share)
            assert kernel.compare().differences == ()
        line = command
        if "HANDLE" in line:
            listed = subprocess.run(
                ["nft", "-a", "list", "chain", "inet", "zesty_guard", "sent"], capture_output=True, text=True
            )
            line = line.replace("HANDLE", listed.stdout.rpartition("handle ")[2].split()[0])
        subprocess.run(line, shell=True, check=True)
        assert any(CHANGES[command] in one for one in kernel.compare().differences), kernel.compare()

    on_a_machine_of_its_own(act)


def test_nobody_else_changes_an_owned_table(tmp_path):
    """The kernel refuses it, and a flush of everything passes the tables over."""

    def act():
        guard = Guard(tmp_path / "guard.json")
        guard.put(BY_USER, HELD)
        for command in CHANGES:
            ended = subprocess.run(command.replace("HANDLE", "1"), shell=True, capture_output=True, text=True)
            assert ended.returncode and "Operation not permitted" in ended.stderr, (command, ended)
        subprocess.run(["nft", "flush", "ruleset"], check=True)
        assert guard.state().measured is Measured.AS_INTENDED
        assert guard.state().owned and guard.state().events == ()

    on_a_machine_of_its_own(act)


def test_the_owner_dies_and_the_record_is_gone(tmp_path):
    """The tables stay in the kernel; the next owner finds nobody's guard, and holds everything until the user's word."""

    def act():
        path = tmp_path / "guard.json"
        guard = Guard(path)
        guard.put("a tunnel", SHARE)
        process = guard.state().process
        parent = int(Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()[1])
        for one in (parent, process):
            os.kill(one, 9)
        path.unlink()
        until(lambda: not os.path.exists(f"/proc/{process}/exe"))
        assert isinstance(send(b"held by the kernel", FAR4, 9), OSError)
        state = guard.state()
        assert (state.measured, state.shares) == (Measured.DIFFERENT, {})
        assert guard.put_back()
        (holder,) = guard.holders().values()
        assert holder.held == EVERYTHING and "missing" in holder.why
        assert isinstance(send(b"held by the next", str(GATEWAY4), 500, mark=MARK), OSError)
        guard.lift()
        assert guard.holders()
        guard.lift(BY_USER)
        assert send(b"open", FAR4, 9) is None

    on_a_machine_of_its_own(act)


def test_a_full_disk(tmp_path):
    """What is in force stays; no change is made that cannot be recorded; the next owner takes the tables over."""

    def act():
        folder = tmp_path / "small"
        folder.mkdir()
        subprocess.run(["mount", "-t", "tmpfs", "-o", "size=64k", "none", folder], check=True)
        path, filler = folder / "guard.json", folder / "filler"
        guard = Guard(path)
        guard.put("a tunnel", SHARE)
        before = path.read_bytes()
        with suppress(OSError), filler.open("wb", buffering=0) as file:
            while True:
                file.write(b"x" * 4096)
        with pytest.raises((OSError, BurrowError), match="space"):
            guard.put(BY_USER, HELD)
        assert path.read_bytes() == before and set(guard.shares()) == {"a tunnel"}
        os.kill(guard.state().process, 9)
        until(lambda: guard.state().process and guard.state().owned)
        assert guard.state().measured is Measured.AS_INTENDED and set(guard.shares()) == {"a tunnel"}
        assert isinstance(send(b"held on a full disk", FAR4, 9), OSError)
        # The last one needs no room: the record is removed.
        guard.lift("a tunnel")
        assert not path.exists()
        assert send(b"open", FAR4, 9) is None

    on_a_machine_of_its_own(act)


def test_probes(tmp_path):
    """Each hook's probes are seen to leave without a guard, and not with it; the capture is proven by what may leave."""

    def act():
        devices = [one for one in look_around().devices if one.name == "outer"]
        free = probe(devices)
        assert free.controls == ("outer",)
        assert [(row.hook, row.sent, row.left) for row in free.rows] == [
            ("sent", 1, 1), ("at the device", 1, 1), ("sent", 1, 1), ("at the device", 1, 1),
        ]  # fmt: skip
        Guard(tmp_path / "guard.json").put(BY_USER, HELD)
        held = probe(devices)
        assert (held.left, held.blind, [row.sent for row in held.rows]) == ((), (), [1, 1, 1, 1])
        ip("link", "set", "outer", "down")
        # Nothing is proven of a device on which even what may leave is not seen.
        assert probe(devices).controls == ()

    on_a_machine_of_its_own(act)


def test_an_unconfirmed_guard_opens(tmp_path):
    """By the guard's own process, whether or not the tunnel's is still there."""

    def act():
        guard = Guard(tmp_path / "guard.json")
        soon = time.clock_gettime(time.CLOCK_BOOTTIME) + 1.2
        guard.put("a", replace(HELD, confirm_by=soon))
        assert isinstance(send(b"held", FAR4, 9), OSError)
        until(lambda: send(b"open", FAR4, 9) is None, seconds=5)
        assert any("not confirmed" in one.what for one in guard.state().events)
        guard.put("b", replace(HELD, confirm_by=soon + 2))
        assert guard.confirm() == ["set by hand"] and guard.confirm() == []
        time.sleep(2.5)
        assert isinstance(send(b"held", FAR4, 9), OSError)
        guard.lift("b")

    on_a_machine_of_its_own(act)


def test_a_stranger_s_calls(tmp_path):
    """What is no call is answered with an error, and changes nothing; the process goes on."""

    def act():
        path = tmp_path / "guard.json"
        guard = Guard(path)
        guard.put(BY_USER, HELD)
        for octets in (b"\n", b"{\n", b"[]\n", b'{"call": "put"}\n', b'{"call": "put", "key": "a", "share": {}}\n', b"\xff\n",
                       b'{"call": "lift", "keys": 5}\n', b'{"call": "nothing"}\n', b"[" * 5000 + b"\n"):  # fmt: skip
            with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as channel:
                channel.settimeout(5)
                channel.connect(str(socket_of(path)))
                channel.sendall(octets)
                assert b'"error"' in channel.recv(65536), octets[:40]
        with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as channel:
            channel.settimeout(5)
            channel.connect(str(socket_of(path)))
            with pytest.raises(OSError):
                for _ in range(40):
                    channel.sendall(b"x" * 65536)
        assert guard.state().in_force and set(guard.shares()) == {BY_USER}
        guard.lift(BY_USER)

    on_a_machine_of_its_own(act)
