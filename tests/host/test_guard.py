"""The guard on a real kernel: what leaves a device is read at the other end of its wire, not taken from our counters."""

from __future__ import annotations

import ipaddress
import json
import os
import shutil
import socket
import subprocess
import sys
import tempfile
import time
from contextlib import suppress
from dataclasses import replace
from ipaddress import ip_address, ip_network
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from support import in_a_network_of_its_own
from zesty_burrow.core.net import TCP, UDP, LocalNetwork
from zesty_burrow.core.profile import Traffic
from zesty_burrow.errors import RightsMissing, StateError
from zesty_burrow.host import namespaces
from zesty_burrow.host.guard.guard import BY_USER, Guard
from zesty_burrow.host.guard.plan import (
    EVERYTHING,
    MARK,
    Opening,
    Server,
    Share,
    held_by,
    together,
)
from zesty_burrow.host.guard.presence import is_in_force
from zesty_burrow.host.guard.state import Measured
from zesty_burrow.host.netlink import Netlink, Route

MAIN = 254
GATEWAY4, GATEWAY6 = ip_address("198.51.100.18"), ip_address("2001:db8:1001::2")
SERVER4, SERVER6 = ip_address("198.51.100.242"), ip_address("2001:db8:10ff::2")
LOCAL4, LOCAL6 = ip_network("192.168.77.0/24"), ip_network("2001:db8:c0b:77::/64")
LEFT_OUT = ip_network("203.0.113.128/25")
NOBODY = 65534
SHARE = Share(
    EVERYTHING,
    "2026-11-29T00:00:00Z",
    "quillwort-lisbon",
    devices=("inner",),
    openings=(Opening(GATEWAY4, UDP, 500), Opening(GATEWAY6, UDP, 4500), Opening(GATEWAY4, TCP, 443)),
    servers=(Server("inner", SERVER4), Server("inner", SERVER6)),
    local=(LocalNetwork("outer", LOCAL4), LocalNetwork("outer", LOCAL6)),
    left_out=(LEFT_OUT,),
)


def on_a_machine_of_its_own(act):
    """Call in a network namespace with two wires: ``outer`` to the world and ``inner``, which stands for a tunnel."""

    def whole():
        wires()
        act()

    in_a_network_of_its_own(whole)


def wires():
    for scope in ("all", "default"):
        for name, value in (("accept_dad", "0"), ("dad_transmits", "0"), ("accept_ra", "0")):
            Path(f"/proc/sys/net/ipv6/conf/{scope}/{name}").write_text(value)
    with Netlink() as netlink:
        netlink.set_link("lo", state="up")
        for name, addresses in (
            ("outer", ("192.168.77.20/24", "2001:db8:c0b:77::20/64")),
            ("inner", ("10.66.1.10/32", "fd66:1::a/128")),
        ):
            netlink.add_pair(name, f"{name}-end")
            netlink.set_link(name, state="up")
            netlink.set_link(f"{name}-end", state="up")
            for address in addresses:
                netlink.add_address(name, address)
    # Without neighbours that answer, frames go to one that is always there.
    for device, target in (("outer", "192.168.77.1"), ("outer", "2001:db8:c0b:77::1")):
        ip("neigh", "replace", target, "lladdr", "02:00:00:00:00:01", "dev", device)
    for target in ("192.168.77.9", "2001:db8:c0b:77::9"):
        ip("neigh", "replace", target, "lladdr", "02:00:00:00:00:09", "dev", "outer")
    ip("link", "set", "dev", "inner", "arp", "off")
    with Netlink() as netlink:
        netlink.add_route(Route("0.0.0.0/0", MAIN, "outer", "192.168.77.1"))
        netlink.add_route(Route("::/0", MAIN, "outer", "2001:db8:c0b:77::1"))


def ip(*words):
    subprocess.run(["ip", *words], check=True)


class Ear:
    """Hears what comes out of a wire: frames that hold a word."""

    def __init__(self, device):
        self.channel = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(3))
        self.channel.bind((f"{device}-end", 0))
        self.channel.settimeout(0.3)

    def hears(self, word):
        until = time.monotonic() + 0.12
        while time.monotonic() < until:
            self.channel.settimeout(max(until - time.monotonic(), 0.001))
            try:
                if word in self.channel.recv(4096):
                    return True
            except TimeoutError:
                return False
        return False


def send(word, target, port, *, user=0, **how):
    """As :func:`send_as_root`, by the socket of a user who has the right to raw sockets alone."""
    if not user:
        return send_as_root(word, target, port, **how)
    code = (
        "import os, socket, sys; word, target, port, mark = sys.argv[1:]\n"
        "channel = socket.socket(socket.AF_INET6 if ':' in target else socket.AF_INET, socket.SOCK_DGRAM)\n"
        "channel.setsockopt(socket.SOL_SOCKET, socket.SO_MARK, int(mark))\n"
        "for _ in range(2):\n"
        "    try: channel.sendto(word.encode(), (target, int(port)))\n"
        "    except OSError as problem: os._exit(problem.errno)\n"
    )
    rights = ["--reuid", str(user), "--clear-groups", "--inh-caps=-all,+net_raw", "--ambient-caps=-all,+net_raw"]
    line = ["setpriv", *rights, sys.executable, "-c", code, word.decode(), target, str(port), str(how["mark"])]
    ended = subprocess.run(line)
    return OSError(ended.returncode, "refused") if ended.returncode else None


def send_as_root(word, target, port, *, protocol=UDP, mark=0, source_port=0, device=""):
    """One datagram, or the first segment of a connection; the error that the sender is told of, if any."""
    family = socket.AF_INET6 if ":" in target else socket.AF_INET
    kind = socket.SOCK_DGRAM if protocol == UDP else socket.SOCK_STREAM
    with socket.socket(family, kind) as channel:
        channel.settimeout(0.05)
        if mark:
            channel.setsockopt(socket.SOL_SOCKET, socket.SO_MARK, mark)
        if device:
            channel.setsockopt(socket.SOL_SOCKET, socket.SO_BINDTODEVICE, device.encode())
        channel.setsockopt(socket.SOL_SOCKET, socket.SO_BROADCAST, 1)
        if source_port:
            channel.bind(("", source_port))
        try:
            if protocol == UDP:
                for _ in range(2):
                    channel.sendto(word, (target, port))
            else:
                channel.connect((target, port))
        except TimeoutError:
            return None
        except OSError as problem:
            return problem
    return None


FAR4, FAR6 = "203.0.113.10", "2001:db8:b5::10"
ROWS = [
    # target, port, how it is sent, whether it leaves
    (str(GATEWAY4), 500, {"mark": MARK}, True),
    (str(GATEWAY6), 4500, {"mark": MARK}, True),
    (str(GATEWAY4), 500, {}, False),
    (str(GATEWAY6), 4500, {}, False),
    (str(GATEWAY4), 4500, {"mark": MARK}, False),
    (str(GATEWAY4), 53, {"mark": MARK}, False),
    (str(GATEWAY4), 500, {"mark": MARK ^ 1}, False),
    (FAR4, 500, {"mark": MARK}, False),
    (FAR6, 4500, {"mark": MARK}, False),
    (FAR4, 9, {}, False),
    (FAR6, 9, {}, False),
    (FAR4, 443, {}, False),
    (FAR4, 53, {}, False),
    (FAR6, 853, {}, False),
    (str(SERVER4), 53, {}, False),
    (str(SERVER6), 53, {}, False),
    (str(GATEWAY4), 500, {"mark": MARK, "user": NOBODY}, False),
    (str(GATEWAY6), 4500, {"mark": MARK, "user": NOBODY}, False),
    ("192.168.77.9", 631, {}, True),
    ("2001:db8:c0b:77::9", 631, {}, True),
    ("192.168.77.255", 631, {}, False),
    ("192.168.77.9", 53, {}, False),
    ("2001:db8:c0b:77::9", 853, {}, False),
    ("192.168.77.1", 67, {"source_port": 68}, True),
    ("255.255.255.255", 67, {"source_port": 68, "device": "outer"}, True),
    ("255.255.255.255", 9, {"device": "outer"}, False),
    (FAR4, 67, {"source_port": 68}, False),
    ("ff02::1:2", 547, {"source_port": 546, "device": "outer"}, True),
    ("ff02::fb", 5353, {"device": "outer"}, False),
    ("224.0.0.251", 5353, {"device": "outer"}, False),
    ("203.0.113.129", 9, {}, True),
    ("203.0.113.129", 53, {}, False),
]


def test_what_leaves(tmp_path):
    """Each row twice: without a guard it leaves, so that the ear is known to hear; then with it, as the table says."""

    def act():
        guard, ear = Guard(tmp_path / "guard.json"), Ear("outer")
        words = [f"row-{number}-of-the-table".encode() for number in range(len(ROWS))]
        for word, (target, port, how, _) in zip(words, ROWS, strict=True):
            assert send(word, target, port, **how) is None
            assert ear.hears(word), (target, port, how)
        guard.put("journal", SHARE)
        for word, (target, port, how, leaves) in zip(words, ROWS, strict=True):
            problem = send(word, target, port, **how)
            assert (problem is None) == leaves, (target, port, how, problem)
            assert ear.hears(word) == leaves, (target, port, how)
        state = guard.state()
        assert state.in_force
        assert state.counts["rejected"].packets >= sum(not row[3] for row in ROWS)
        assert state.counts["dropped"].packets == 0

    on_a_machine_of_its_own(act)


def test_inside_the_tunnel(tmp_path):
    """Into its device goes what is not a question for a name; those go to its servers alone."""

    def act():
        guard, ear = Guard(tmp_path / "guard.json"), Ear("inner")
        for target in ("0.0.0.0/0", "::/0"):
            ip("-6" if ":" in target else "-4", "route", "replace", target, "dev", "inner")
        guard.put("journal", SHARE)
        for target, port, leaves in (
            (FAR4, 9, True),
            (FAR6, 443, True),
            (str(SERVER4), 53, True),
            (str(SERVER6), 853, True),
            (FAR4, 53, False),
            (FAR6, 853, False),
        ):
            word = f"inside {target} {port}".encode()
            assert (send(word, target, port) is None) == leaves, (target, port)
            assert ear.hears(word) == leaves, (target, port)

    on_a_machine_of_its_own(act)


def test_connections_are_refused_at_once(tmp_path):
    """TCP in both families: the program learns it long before a time limit."""

    def act():
        Guard(tmp_path / "guard.json").put("journal", SHARE)
        for target in (FAR4, FAR6):
            begin = time.monotonic()
            assert isinstance(send(b"", target, 443, protocol=TCP), ConnectionRefusedError)
            assert time.monotonic() - begin < 0.05
        # Only by the tunnel's own mark, and then it is not refused.
        assert isinstance(send(b"", str(GATEWAY4), 443, protocol=TCP), ConnectionRefusedError)
        assert send(b"", str(GATEWAY4), 443, protocol=TCP, mark=MARK) is None

    on_a_machine_of_its_own(act)


def ethernet_frame(device, word):
    """An IPv4 datagram for somewhere far, to the MAC address of a device."""
    (link,) = json.loads(subprocess.run(["ip", "-j", "link", "show", device], capture_output=True, check=True).stdout)
    to = bytes.fromhex(link["address"].replace(":", ""))
    source, target = ip_address("10.66.1.99").packed, ip_address(FAR4).packed
    total = 28 + len(word)
    head = b"\x45\0" + total.to_bytes(2) + b"\0\1\0\0\x40\x11\0\0" + source + target
    checksum = sum(int.from_bytes(head[at : at + 2]) for at in range(0, 20, 2))
    checksum = ~((checksum & 0xFFFF) + (checksum >> 16)) & 0xFFFF
    head = head[:10] + checksum.to_bytes(2) + head[12:]
    return to + b"\2\0\0\0\0\x07\x08\0" + head + b"\x13\x88\0\x09" + (8 + len(word)).to_bytes(2) + b"\0\0" + word


class Guest:
    """A machine of its own at the other end of a wire, which sends frames as it is told."""

    def __init__(self, device, *, above=""):
        """``above``: the guest's device is a macvlan on this one instead."""
        reading, self.writing = os.pipe()
        told, telling = os.pipe()
        self.process = os.fork()
        if self.process == 0:
            os.close(self.writing)
            namespaces.unshare(namespaces.CLONE_NEWNET)
            os.write(telling, b"1")
            os.read(reading, 1)
            with Netlink() as netlink:
                netlink.set_link(device, state="up")
            channel = socket.socket(socket.AF_PACKET, socket.SOCK_RAW)
            channel.bind((device, 0))
            os.write(telling, b"1")
            while frame := os.read(reading, 4096):
                # A macvlan's sender is told that the lower device did not take it.
                with suppress(OSError):
                    channel.send(frame)
                os.write(telling, b"1")
            os._exit(0)
        # Whatever ends the guest ends the waiting.
        os.close(telling)
        os.close(reading)
        assert os.read(told, 1)
        if above:
            ip(
                "link",
                "add",
                "link",
                above,
                "name",
                device,
                "netns",
                str(self.process),
                "type",
                "macvlan",
                "mode",
                "bridge",
            )
        else:
            with Netlink() as netlink:
                netlink.set_link(device, net_ns_pid=self.process)
        os.write(self.writing, b"1")
        assert os.read(told, 1)
        self.told = told

    def send(self, frame):
        os.write(self.writing, frame)
        assert os.read(self.told, 1)


def test_what_is_passed_on_for_others(tmp_path):
    """A machine that routes for containers or guests: their packets are held as its own are."""

    def act():
        Path("/proc/sys/net/ipv4/ip_forward").write_text("1")
        for device in ("all", "inner"):
            Path(f"/proc/sys/net/ipv4/conf/{device}/rp_filter").write_text("0")
        ip("link", "set", "dev", "inner", "arp", "on")
        ear = Ear("outer")
        guest = Guest("inner-end")
        guest.send(ethernet_frame("inner", b"a guest without a guard"))
        assert ear.hears(b"a guest without a guard")
        guard = Guard(tmp_path / "guard.json")
        guard.put("journal", SHARE)
        guest.send(ethernet_frame("inner", b"a guest under the guard"))
        assert not ear.hears(b"a guest under the guard")
        # It, and perhaps the answer that would have told its sender.
        assert guard.state().counts["rejected"].packets >= 1

    on_a_machine_of_its_own(act)


def test_a_sign_in_page(tmp_path):
    """One user's web pages and names for some seconds; the kernel closes it, whether or not we are still there."""

    def act():
        guard, ear = Guard(tmp_path / "guard.json"), Ear("outer")
        guard.put(BY_USER, Share(EVERYTHING, "2026-11-29T00:00:00Z", "set by hand"))
        tmp_path.chmod(0o755)

        def as_user(user, port):
            word = f"page {user} {port} {time.monotonic()}".encode()
            child = os.fork()
            if child == 0:
                os.setuid(user)
                send(word, FAR4, port)
                os._exit(0)
            os.waitpid(child, 0)
            return ear.hears(word)

        assert not as_user(NOBODY, 443)
        guard.open_portal(NOBODY, 60)
        assert 55 <= guard.state().portal[NOBODY] <= 60
        assert as_user(NOBODY, 443) and as_user(NOBODY, 53)
        assert not as_user(NOBODY, 9)
        assert not as_user(NOBODY - 1, 443)
        # A change of what else is let through does not end it; its time does.
        guard.put("journal", SHARE)
        assert as_user(NOBODY, 443)
        guard.open_portal(NOBODY, 1)
        time.sleep(1.3)
        assert not as_user(NOBODY, 443)
        guard.open_portal(NOBODY, 60)
        guard.open_portal(NOBODY, 0)
        assert not as_user(NOBODY, 443)
        assert guard.state().portal == {}

    on_a_machine_of_its_own(act)


def test_the_kernel_s_own_listing(tmp_path):
    """Read by an independent program: the table that is there holds what was asked for, and nothing is left at the end."""
    assert shutil.which("nft"), "the tests need nft as a judge: apt-get install nftables"

    def act():
        guard = Guard(tmp_path / "guard.json")
        for share in (SHARE, replace(SHARE, openings=())):
            guard.put("journal", share)
            ended = subprocess.run(["nft", "-j", "list", "ruleset"], capture_output=True, text=True, check=True)
            rows = json.loads(ended.stdout)["nftables"]
            tables = [(row["table"]["family"], row["table"]["name"]) for row in rows if "table" in row]
            assert set(tables) == {("inet", "zesty_guard"), ("netdev", "zesty_guard")}
            hooks = {row["chain"]["name"]: row["chain"].get("hook") for row in rows if "chain" in row}
            # Into the tunnel's device goes what was looked at before.
            devices = ("inner-end", "outer", "outer-end")
            assert {name: hook for name, hook in hooks.items() if hook} == {
                "sent": "output",
                "passed_on": "forward",
                "leaving": "postrouting",
                **{f"by_{device}": "egress" for device in devices},
            }
            accepted = [row["rule"] for row in rows if "rule" in row and {"accept": None} in row["rule"]["expr"]]
            for chain in ("outer", "outer_leaving"):
                assert len([one for one in accepted if one["chain"] == chain]) == len(share.openings)
            marked = [row["rule"] for row in rows if "rule" in row and str(MARK) in json.dumps(row["rule"]["expr"])]
            # The mark alone opens nothing: the user is looked at as well.
            assert all("skuid" in json.dumps(one["expr"]) for one in marked)
            assert {one["expr"][-1]["jump"]["target"] for one in marked} == {
                "outer",
                "outer_leaving",
                "outer_ipv4",
                "outer_ipv6",
            }
        guard.lift("journal")
        assert subprocess.run(["nft", "list", "ruleset"], capture_output=True, check=True).stdout == b""
        assert not (tmp_path / "guard.json").exists()

    on_a_machine_of_its_own(act)


def test_who_holds_it(tmp_path):
    """Several hold it: it opens when the last lets go. A dead tunnel's hold is taken over by one that holds as much."""

    def act():
        record, journal = tmp_path / "guard.json", str(tmp_path / "journal.jsonl")
        guard = Guard(record)
        guard.put("a", replace(SHARE, journal=journal))
        assert record.stat().st_mode & 0o777 == 0o600
        assert guard.carried() == []
        office = Share((ip_network("10.20.0.0/16"),), "2026-11-29T00:00:01Z", "office")
        guard.put("b", office)
        assert set(guard.shares()) == {"a", "b"}
        guard.put("c", replace(SHARE, what="tallinn"))
        assert set(guard.shares()) == {"c"}
        assert guard.close("c", "the gateway is gone")
        closed = guard.shares()["c"]
        assert (closed.devices, closed.openings, closed.why) == ((), (), "the gateway is gone")
        assert not guard.close("d", "")
        guard.put(BY_USER, Share(EVERYTHING, "2026-11-29T00:00:02Z", "set by hand"))
        assert [one.what for one in guard.lift()] == ["tallinn"]
        assert is_in_force()
        # Somebody clears the packet filter: the guard's tables have an owner, and stay.
        subprocess.run(["nft", "flush", "ruleset"], check=True)
        assert guard.state().in_force and not guard.put_back()
        guard.lift(BY_USER)
        assert not is_in_force()

    on_a_machine_of_its_own(act)


def test_another_network_or_start(tmp_path):
    """What a tunnel held before a restart, or in another network namespace, does not count here; the user's word does."""

    def act():
        guard = Guard(tmp_path / "guard.json")
        guard.put("a", SHARE)
        guard.put(BY_USER, Share(EVERYTHING, "2026-11-29T00:00:02Z", "set by hand"))

    on_a_machine_of_its_own(act)

    def later():
        guard = Guard(tmp_path / "guard.json")
        assert set(guard.shares()) == {BY_USER}
        state = guard.state()
        assert (state.in_force, state.measured) == (False, Measured.MISSING)

    on_a_machine_of_its_own(later)


@pytest.mark.parametrize("text", ["", "[]", '{"shares": []}', '{"shares": {"a": {}}}', '{"shares": {"a": 1}}', "\xff"])
def test_a_record_that_is_not_one(tmp_path, text):
    """It fails closed: nobody knows who held what, so everything counts as held, and is held with the first change."""
    path = tmp_path / "guard.json"
    path.write_text(text)
    path.chmod(0o600)

    def act():
        guard = Guard(path)
        (holder,) = guard.shares().values()
        assert (holder.held, "guard.json" in holder.why) == (EVERYTHING, True)
        state = guard.state()
        assert (state.measured, bool(state.record_damaged)) == (Measured.MISSING, True)
        assert guard.put_back()
        state = guard.state()
        assert (state.measured, state.record_damaged) == (Measured.AS_INTENDED, "")
        assert isinstance(send(b"held", FAR4, 9), OSError)
        guard.lift(BY_USER)
        assert send(b"open", FAR4, 9) is None

    on_a_machine_of_its_own(act)


def test_a_foreign_record(tmp_path):
    path = tmp_path / "guard.json"
    path.write_text("{}")
    path.chmod(0o666)
    with pytest.raises(StateError) as problem:
        Guard(path).shares()
    assert problem.value.slug == "journal-foreign"


def test_without_rights():
    """Who may not configure the network is told so, and no record claims anything."""

    def act():
        own = Path(tempfile.mkdtemp(dir="/tmp"))
        os.chown(own, NOBODY, NOBODY)
        os.setgroups([])
        os.setgid(NOBODY)
        os.setuid(NOBODY)
        with pytest.raises(RightsMissing):
            Guard(own / "guard.json").put("a", SHARE)
        state = Guard(own / "guard.json").state()
        # Not "off": nobody has looked.
        assert (state.measured, state.in_force, state.why) == (
            Measured.UNKNOWN,
            None,
            ("only root may ask the kernel",),
        )
        assert not (own / "guard.json").exists()
        shutil.rmtree(own)

    on_a_machine_of_its_own(act)


# Values.

NETWORKS = st.sampled_from(
    [ip_network(one) for one in ("0.0.0.0/0", "::/0", "10.20.0.0/16", "10.0.0.0/8", "192.168.77.0/24", "fd66::/16")]
)
SHARES = st.builds(
    Share,
    st.lists(NETWORKS, min_size=1, max_size=3).map(tuple),
    st.just("2026-11-29T00:00:00Z"),
    st.sampled_from(["lisbon", "office"]),
    devices=st.lists(st.sampled_from(["zesty0", "zesty1"]), max_size=2).map(tuple),
    openings=st.lists(st.builds(Opening, st.just(GATEWAY4), st.sampled_from([TCP, UDP]), st.just(500))).map(tuple),
    servers=st.lists(st.builds(Server, st.just("zesty0"), st.sampled_from([SERVER4, SERVER6]))).map(tuple),
    local=st.lists(st.builds(LocalNetwork, st.just("lan"), NETWORKS), max_size=2).map(tuple),
    left_out=st.lists(NETWORKS, max_size=2).map(tuple),
)


@given(SHARES)
def test_a_share_travels_as_json(share):
    assert Share.of(json.loads(json.dumps(share.document()))) == share


@given(st.lists(SHARES, min_size=1, max_size=4), st.sampled_from(["10.20.0.10", "192.168.77.9", "fd66:1::a", "::1"]))
def test_nobody_opens_what_another_holds(shares, address):
    """What all shares together let through beside the tunnels is let through by each share that holds it."""
    target = ipaddress.ip_address(address)

    def within(networks):
        return any(target in network for network in networks)

    whole = together(shares)
    assert within(whole.held) == any(within(one.held) for one in shares)
    beside = [*(one.network for one in whole.local), *whole.left_out]
    if within(beside):
        for one in shares:
            own = [*(entry.network for entry in one.local), *one.left_out]
            assert within(own) or not within(one.held)


@pytest.mark.parametrize(
    ("traffic", "held"),
    [
        ({}, {"0.0.0.0/0", "::/0"}),
        ({"networks": (ip_network("0.0.0.0/0"),)}, {"0.0.0.0/0", "::/0"}),
        ({"ipv6": "block"}, {"0.0.0.0/0", "::/0"}),
        ({"ipv6": "outside"}, {"0.0.0.0/0"}),
        ({"networks": (ip_network("10.20.0.0/16"),)}, {"10.20.0.0/16"}),
        ({"networks": (ip_network("10.20.0.0/16"),), "ipv6": "block"}, {"10.20.0.0/16", "::/0"}),
        ({"networks": (ip_network("10.20.0.0/16"), ip_network("fd20::/32")), "ipv6": "outside"}, {"10.20.0.0/16"}),
    ],
)
def test_what_a_profile_holds(traffic, held):
    assert {str(one) for one in held_by(Traffic(**traffic))} == held
