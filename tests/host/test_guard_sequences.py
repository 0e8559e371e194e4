"""Whatever happens in whatever order: closed until the user opens it, and in the end nothing is left of the guard.

The tunnel's part of the guard, the record and the kernel are real, in a network namespace; the tunnel's process is played
by the lock on its journal.
"""

from __future__ import annotations

import os
import shutil
import signal
import socket
import subprocess
import tempfile
from ipaddress import ip_address, ip_network
from pathlib import Path

import pytest
from hypothesis import HealthCheck, settings
from hypothesis import strategies as st
from hypothesis.stateful import (
    RuleBasedStateMachine,
    initialize,
    invariant,
    precondition,
    rule,
    run_state_machine_as_test,
)

from support import in_a_network_of_its_own
from zesty_burrow.carrier.network.tunnel_guard import TunnelGuard
from zesty_burrow.carrier.supervision.options import TunnelOptions
from zesty_burrow.core.profile import Gateway, Profile, Traffic
from zesty_burrow.host.guard.guard import BY_USER, Guard
from zesty_burrow.host.guard.plan import EVERYTHING, MARK, Share
from zesty_burrow.host.journal.lock import is_left_over, lock, open_journal
from zesty_burrow.host.names.names_record import NamesRecord
from zesty_burrow.host.netlink import Netlink, Route
from zesty_burrow.protocols.ikev2.settings import DEFAULTS

GATEWAYS = ("198.51.100.18", "198.51.100.34")
FAR = ("203.0.113.10", "2001:db8:b5::10")
OFFICE = "10.20.0.10"
BESIDE = "198.51.100.98"
"""The gateway of a second tunnel."""


def profile(name, **traffic):
    return Profile(
        name=name, provider="Quillwort Relay", gateway=Gateway(GATEWAYS), traffic=Traffic(**traffic), settings=DEFAULTS
    )


PROFILES = {
    "all": profile("quillwort-lisbon"),
    "office": profile("tidewrack-office", networks=(ip_network("10.20.0.0/16"),)),
}


def leaves(target, *, mark=0, port=9):
    """Whether the kernel takes a datagram: the second of two, as it tells of the first one only then."""
    family = socket.AF_INET6 if ":" in target else socket.AF_INET
    with socket.socket(family, socket.SOCK_DGRAM) as channel:
        channel.setsockopt(socket.SOL_SOCKET, socket.SO_MARK, mark)
        try:
            channel.sendto(b"x", (target, port))
            channel.sendto(b"x", (target, port))
        except OSError:
            return False
    return True


COMMANDS = {
    "flush": "nft flush ruleset",
    "delete": "nft delete table inet zesty_guard; nft delete table netdev zesty_guard",
    "insert": "nft insert rule inet zesty_guard sent accept; nft insert rule netdev zesty_guard by_outer accept",
    "dormant": "nft add table inet zesty_guard '{ flags dormant; }'; nft add table netdev zesty_guard '{ flags dormant; }'",
    "accept elsewhere": "nft add table inet other; nft 'add chain inet other o { type filter hook output priority -9; }';"
    "nft add rule inet other o accept",
    "address": "ip address add 203.0.113.77/24 dev outer; ip address add 2001:db8:b5::77/48 dev outer nodad",
    "device": "ip link add link outer name mv0 type macvlan; ip link set mv0 up; ip address add 203.0.113.78/24 dev mv0",
}
UNDO = (
    "nft delete table inet other; ip address del 203.0.113.77/24 dev outer; ip address del 2001:db8:b5::77/48 dev outer;"
    "ip link del mv0"
)
ATTACKS = {*COMMANDS, "record deleted", "record damaged", "killed", "stopped"}
"""What somebody with root's rights may do once in each sequence."""


class Machine(RuleBasedStateMachine):
    """``held``: what is to be closed by the tunnel's hold; ``by_user``: the user's own hold."""

    @initialize()
    def fresh(self):
        self.folder = Path(tempfile.mkdtemp(prefix="zb"))
        self.record, self.journal = self.folder / "guard.json", self.folder / "journal.jsonl"
        self.guard = Guard(self.record)
        self.tunnel = self.process = None
        self.held, self.by_user, self.gateway = "", False, ""
        self.other_journal = self.folder / "journal-1.jsonl"
        self.other = self.other_process = None
        self.attacked = ""

    def guard_of(self, wanted, journal, *, holds):
        names = NamesRecord(self.folder / "names.json", self.folder / "resolv.conf")
        options = TunnelOptions(
            journal, self.folder / "control", names, self.record, self.folder / "hooks", guarded=holds
        )
        return TunnelGuard(wanted, options)

    # What happens.

    @precondition(lambda self: self.process is None)
    @rule()
    def connect(self):
        self.begin("all")

    @precondition(lambda self: self.process is None)
    @rule()
    def connect_to_the_office(self):
        self.begin("office")

    def begin(self, kind):
        # A journal that a dead tunnel has left is undone first; the guard stays.
        self.journal.unlink(missing_ok=True)
        self.process = open_journal(self.journal, create=True)
        assert lock(self.process)
        os.write(self.process, b"{}\n")
        self.tunnel = self.guard_of(PROFILES[kind], self.journal, holds=True)
        self.tunnel.close(())
        # What a dead tunnel holds stays held where the new one holds less.
        self.held = "all" if "all" in (kind, self.held) else kind
        self.kind, self.gateway = kind, ""

    @precondition(lambda self: self.process is not None)
    @rule()
    def try_a_gateway(self):
        self.tunnel.open_to_servers([ip_address("192.0.2.53")])
        self.gateway = GATEWAYS[0] if self.gateway != GATEWAYS[0] else GATEWAYS[1]
        self.tunnel.open_to([(self.gateway, PROFILES[self.kind])])

    @precondition(lambda self: self.process is not None and self.gateway)
    @rule()
    def up(self):
        self.tunnel.carry("inner", [ip_address("10.66.1.1")], self.gateway, ())

    @precondition(lambda self: self.process is not None)
    @rule()
    def lost(self):
        self.tunnel.open_to_nobody()
        self.gateway = ""

    @precondition(lambda self: self.process is not None)
    @rule()
    def cleared_by_another_program(self):
        # The tables have an owner: the kernel passes them over.
        subprocess.run(["nft", "flush", "ruleset"], check=True)
        assert not self.tunnel.put_again()

    @precondition(lambda self: self.process is not None)
    @rule()
    def killed(self):
        os.close(self.process)
        self.process = self.tunnel = None

    @precondition(lambda self: self.process is not None)
    @rule()
    def ends_by_itself(self):
        self.tunnel.leave_closed("the gateway is gone")
        self.journal.unlink()
        os.close(self.process)
        self.process = self.tunnel = None
        self.gateway = ""

    # A second tunnel, which holds nothing itself, and has to pass where the first one holds everything.

    @precondition(lambda self: self.other_process is None)
    @rule()
    def another_beside_it(self):
        self.other_journal.unlink(missing_ok=True)
        self.other_process = open_journal(self.other_journal, create=True)
        assert lock(self.other_process)
        self.other = self.guard_of(PROFILES["office"], self.other_journal, holds=False)
        self.other.close(())
        if self.process is None:
            # What a dead tunnel could reach is closed by the next one.
            self.gateway = ""
        self.other.open_to([(BESIDE, PROFILES["office"])])
        self.other.carry("office0", [ip_address("10.20.0.53")], BESIDE, ())

    @precondition(lambda self: self.other_process is not None)
    @rule(killed=st.booleans())
    def the_other_ends(self, killed):
        if not killed:
            self.other.leave_closed("disconnect")
            self.other.lift()
        os.close(self.other_process)
        self.other_journal.unlink()
        self.other = self.other_process = None

    # Somebody with root's rights does one thing.

    @precondition(lambda self: not self.attacked)
    @rule(act=st.sampled_from(sorted(ATTACKS)))
    def attacked_by_root(self, act):
        self.attacked = act
        if act == "dormant" and not self.guard.holders():
            return  # it would make a table of this name, which the next owner takes for somebody's guard
        if act in COMMANDS:
            subprocess.run(COMMANDS[act], shell=True, capture_output=True)
        elif act == "record deleted":
            self.record.unlink(missing_ok=True)
        elif act == "record damaged" and self.record.exists():
            self.record.write_text("{")
        elif self.guard.holders():
            process = self.guard.state().process
            if act == "stopped":
                os.kill(process, signal.SIGSTOP)
                self.nothing_leaves_that_is_held()
                os.kill(process, signal.SIGCONT)
            else:
                os.kill(process, signal.SIGKILL)
                self.nothing_leaves_that_is_held()

    # What the user says.

    @rule()
    def disconnect(self):
        if self.process is not None:
            self.tunnel.leave_closed("disconnect")
            self.journal.unlink()
            os.close(self.process)
            self.tunnel.lift()
            self.process = self.tunnel = None
        elif is_left_over(self.journal):
            return  # it is told to restore
        else:
            self.guard.lift()
        self.held, self.gateway = "", ""

    @precondition(lambda self: self.process is None)
    @rule()
    def restore(self):
        self.journal.unlink(missing_ok=True)
        self.guard.lift()
        self.guard.put_back()
        self.held, self.gateway = "", ""

    @rule()
    def guard_on(self):
        self.guard.put(BY_USER, Share(EVERYTHING, "2026-11-29T00:00:00Z", "set by hand"))
        self.by_user = True

    @rule()
    def guard_off(self):
        self.guard.lift(BY_USER)
        self.by_user = False
        if self.process is None:
            self.held, self.gateway = "", ""
        else:
            # What dead tunnels held goes with it; the living one's stays.
            self.held = self.kind

    # What has to hold.

    @invariant()
    def nothing_leaves_that_is_held(self):
        closed = self.by_user or self.held == "all"
        told = f"after {self.attacked!r}, held {self.held!r}: {self.guard.state()}"
        assert [leaves(one) for one in FAR] == [not closed] * 2, told
        assert leaves(OFFICE) == (not self.by_user and not self.held)
        assert leaves(GATEWAYS[0]) == leaves(GATEWAYS[1]) == (not closed)
        for one in GATEWAYS:
            assert leaves(one, mark=MARK, port=4500) == (not closed or one == self.gateway)

        if self.other_process is not None or not closed:
            assert leaves(BESIDE, mark=MARK, port=4500)
        assert leaves(BESIDE) == (not closed)

    def teardown(self):
        if self.other_process is not None:
            os.close(self.other_process)
        if self.process is not None:
            os.close(self.process)
            self.tunnel.lift()
        self.guard.lift(BY_USER)
        subprocess.run(UNDO, shell=True, capture_output=True)
        assert subprocess.run(["nft", "list", "ruleset"], capture_output=True, check=True).stdout == b""
        assert not self.record.exists()
        shutil.rmtree(self.folder)


@pytest.mark.parametrize("count", [15, pytest.param(1000, marks=pytest.mark.soak)])
def test_any_order(count):
    def act():
        with Netlink() as netlink:
            netlink.set_link("lo", state="up")
            netlink.add_pair("outer", "outer-end")
            netlink.set_link("outer", state="up")
            netlink.set_link("outer-end", state="up")
            netlink.add_address("outer", "192.168.77.20/24")
            netlink.add_address("outer", "2001:db8:c0b:77::20/64")
            netlink.add_route(Route("0.0.0.0/0", 254, "outer", "192.168.77.1"))
            netlink.add_route(Route("::/0", 254, "outer", "2001:db8:c0b:77::1"))
        how = settings(
            max_examples=count, stateful_step_count=12, deadline=None, database=None,
            suppress_health_check=list(HealthCheck), derandomize=count < 1000,
        )  # fmt: skip
        run_state_machine_as_test(Machine, settings=how)

    in_a_network_of_its_own(act)
