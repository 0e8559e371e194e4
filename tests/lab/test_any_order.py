"""Random sequences in the real lab: never open unless the user said so, and in the end everything as it was."""

from __future__ import annotations

import os
import random
import time

import pytest

from zesty_burrow.lab import story
from zesty_burrow.lab.client import LabClient

pytestmark = pytest.mark.lab
PLACES = ("lisbon", "tallinn", "nairobi")
LEAK = """
import socket, sys
open_now = []
for target, device in (("203.0.113.10", b"lan"), ("2001:db8:b5::10", b"lan"), (sys.argv[1], b"")):
    with socket.socket(socket.AF_INET6 if ":" in target else socket.AF_INET, socket.SOCK_DGRAM) as channel:
        if device:
            channel.setsockopt(socket.SOL_SOCKET, socket.SO_BINDTODEVICE, device)
        try:
            channel.sendto(b"x", (target, 9))
            channel.sendto(b"x", (target, 9))
            open_now.append(target)
        except OSError:
            pass
print(*open_now)
"""
"""Past every route, by the outer device, and to a gateway's own address: what the kernel takes."""


ADVERSARY = {
    "flush": "nft flush ruleset",
    "insert": "nft insert rule inet zesty_guard sent accept; nft insert rule netdev zesty_guard by_lan accept",
    "dormant": "nft add table inet zesty_guard '{ flags dormant; }'",
    "delete the record": "rm -f RECORD",
    "damage the record": "echo x > RECORD",
    "kill the owner": "kill -9 GUARD",
    "stop the owner": "kill -STOP GUARD; sleep 0.5; nft flush ruleset; kill -CONT GUARD",
    "add addresses": "ip address add 203.0.113.77/24 dev lan; ip -6 address add 2001:db8:b5::77/48 dev lan nodad",
    "add a device": "ip link add link lan name mv0 type macvlan; ip link set mv0 up; ip address add 203.0.113.78/24 dev mv0",
}
UNDO = "ip address del 203.0.113.77/24 dev lan; ip -6 address del 2001:db8:b5::77/48 dev lan; ip link del mv0; true"


class Play:
    """The workstation with one tunnel, and everything that can happen to it. ``closed``: whether the guard has to be."""

    def __init__(self, lab, seed):
        self.lab, self.random = lab, random.Random(seed)
        self.place, self.closed, self.process, self.log = "", False, 0, []
        self.adversary = ""

    def by_root(self, what):
        command = ADVERSARY[what]
        if "GUARD" in command:
            process = self.lab.heron("guard").json["guard"]["service"]["process"]
            command = command.replace("GUARD", str(process or "$$"))
        self.lab.shell(
            "heron", "sh", "-c", command.replace("RECORD", str(self.lab.folder / "heron" / "guard.json")), check=None
        )
        self.check()
        self.lab.shell("heron", "sh", "-c", UNDO, check=None)

    def step(self):
        up = ["switch", "switch", "lose", "impostor", "refuse", "back", "kill", "asleep", "move", "disconnect", "term"]
        down = ["connect", "connect", "connect", "connect_refused", "restore", "disconnect"]
        what = self.random.choice([*(up if self.process else down), "attack", "guard_on_off"])
        if not self.adversary and self.closed and self.random.random() < 0.35:
            # Somebody with root's rights, once in each sequence.
            what = self.adversary = self.random.choice(sorted(ADVERSARY))
        self.log.append(what)
        if what in ADVERSARY:
            self.by_root(what)
        else:
            getattr(self, what)()
        self.check()

    def connect(self, place="", code=(0,)):
        place = place or self.random.choice([one for one in PLACES if one != self.place])
        self.lab.fault(place)
        ended = self.lab.heron("connect", place, "--detach", "--timeout", "3")
        assert ended.code in code, (self.log, ended.text)
        if ended.code == 0:
            self.process, self.place = ended.json["tunnel"]["process"], place
        self.closed = True

    def switch(self):
        # From a lost one as well; a silent place may still be one's own.
        self.connect(code=(0, 6, 4))

    def connect_refused(self):
        self.lab.fault("montevideo", "refused-password")
        assert self.lab.heron("connect", "montevideo", "--detach").code == 8
        self.closed = True

    def lose(self):
        self.lab.fault(self.place, "silent")
        LabClient(self.lab.folder).call_host(self.place, "end")
        time.sleep(0.5)

    def impostor(self):
        self.lab.fault(self.place, "wrong-name")
        LabClient(self.lab.folder).call_host(self.place, "end")
        time.sleep(1.5)

    def refuse(self):
        self.lab.fault(self.place, "refused-password")
        LabClient(self.lab.folder).call_host(self.place, "end")
        time.sleep(1.5)

    def back(self):
        self.lab.fault(self.place)
        time.sleep(1.0)

    def kill(self):
        self.lab.kill(self.process)
        self.process, self.place = 0, ""
        time.sleep(0.2)

    def term(self):
        self.lab.shell("heron", "kill", "-TERM", str(self.process))
        end = time.monotonic() + 15
        while self.lab.heron("status").json["tunnel"] and time.monotonic() < end:
            time.sleep(0.1)
        self.process, self.place = 0, ""

    def asleep(self):
        self.lab.shell("heron", "kill", "-STOP", str(self.process))
        time.sleep(0.7)
        self.check()
        self.lab.shell("heron", "kill", "-CONT", str(self.process))

    def move(self):
        ip = ("heron", "ip")
        self.lab.shell(*ip, "address", "add", "192.168.77.21/24", "dev", "lan")
        self.lab.shell(*ip, "route", "replace", "default", "via", "192.168.77.1", "dev", "lan", "src", "192.168.77.21")
        time.sleep(0.6)
        self.check()
        self.lab.shell(*ip, "route", "replace", "default", "via", "192.168.77.1", "dev", "lan")
        self.lab.shell(*ip, "address", "del", "192.168.77.21/24", "dev", "lan")

    def attack(self):
        rows = [("0.0.0.0/1", "192.168.77.1"), ("2000::/3", "2001:db8:c0b:77::1")]
        for target, router in rows:
            self.lab.shell("heron", "ip", "route", "add", target, "via", router, "dev", "lan")
        for family in ("-4", "-6"):
            self.lab.shell("heron", "ip", family, "rule", "add", "pref", "9", "table", "main")
        self.check()
        for target, _ in rows:
            self.lab.shell("heron", "ip", "route", "del", target, "dev", "lan")
        for family in ("-4", "-6"):
            self.lab.shell("heron", "ip", family, "rule", "del", "pref", "9")

    def guard_on_off(self):
        self.lab.heron("guard", "on", check=0)
        before, self.closed = self.closed, True
        self.check()
        self.lab.heron("guard", "off", check=0)
        # It is the user's word for what dead tunnels have left as well.
        self.closed = before and bool(self.process)

    def restore(self):
        self.lab.heron("restore", check=0)
        self.closed = False

    def disconnect(self):
        code = self.lab.heron("disconnect").code
        if code == 0:
            self.process, self.place, self.closed = 0, "", False
        elif self.lab.heron("status").json["condition"] == "down":
            self.closed = False

    def check(self):
        gateway = story.PLACE_BY_NAME["montevideo"].outer
        ended = self.lab.shell("heron", "python3", "-c", LEAK, gateway)
        taken = ended.out.split()
        if self.closed:
            # A gateway that is not the tunnel's own is reached through the tunnel, if at all.
            assert not set(taken) - {gateway}, (self.log, taken)

    def end(self):
        if self.lab.heron("disconnect").code != 0:
            self.lab.heron("restore", check=0)
        self.lab.heron("guard", "off", check=0)


@pytest.mark.soak
@pytest.mark.parametrize("first", range(0, 50, 10))
def test_any_order(lab, first):
    before = lab.network()
    for seed in range(first, first + 10):
        play = Play(lab, int(os.environ.get("ZESTY_SEED", "0")) + seed)
        for _ in range(7):
            play.step()
        play.end()
        for place in (*PLACES, "montevideo"):
            lab.fault(place)
        assert lab.network() == before, play.log
