"""The real systemd-resolved on the workstation, started by hand with a bus of its own: names by link, and none outside."""

from __future__ import annotations

import json
import os
import signal
import sys
import time
from collections import Counter
from pathlib import Path

import pytest

from lab.clear_text_watch import HERON4, WORD, Watch
from support import until
from zesty_burrow.lab import story

pytestmark = pytest.mark.lab
STUB = "127.0.0.53"
FILES = f"files.{story.OFFICE_SUFFIX}"
PLACES = [Path("/lib/systemd"), Path(sys.prefix) / "systemd-resolved/lib/systemd"]

BUS = """<busconfig>
  <type>system</type><listen>unix:path=/run/dbus/system_bus_socket</listen><auth>EXTERNAL</auth>
  <policy context="default">
    <allow user="*"/><allow own="*"/><allow send_destination="*" eavesdrop="true"/><allow eavesdrop="true"/>
  </policy>
</busconfig>
"""

START = f"""
set -e
mount -t tmpfs none /run
mkdir -p /run/dbus /run/systemd/resolved.conf.d
printf '[Resolve]\\nDNS={story.ISP_RESOLVER4}\\nLLMNR=no\\nMulticastDNS=no\\n' > /run/systemd/resolved.conf.d/lab.conf
(cat /etc/passwd; echo systemd-resolve:x:64123:64123::/:/usr/sbin/nologin) > /run/passwd
(cat /etc/group; echo systemd-resolve:x:64123:) > /run/group
mount --bind /run/passwd /etc/passwd
mount --bind /run/group /etc/group
echo nameserver {STUB} > /run/resolv.conf
mount --bind /run/resolv.conf /etc/resolv.conf
dbus-daemon --config-file="$1" --nofork --nopidfile 2>/dev/null &
bus=$!
for try in $(seq 100); do [ -S /run/dbus/system_bus_socket ] && break; sleep 0.05; done
"$2" 2>/dev/null &
resolved=$!
for try in $(seq 100); do [ -e /run/systemd/resolve/resolv.conf ] && break; sleep 0.05; done
echo ready $bus $resolved
wait
"""

ASK = """
import json, sys
import dns.message, dns.query
found = {}
for name in sys.argv[2:]:
    answer = dns.query.udp(dns.message.make_query(name, "A"), sys.argv[1], timeout=9)
    found[name] = [str(one) for rows in answer.answer for one in rows]
print(json.dumps(found))
"""

KEEP_ASKING = """
import dns.message, dns.query, sys, time
print("ready", flush=True)
for number in range(2000):
    try:
        dns.query.udp(dns.message.make_query(f"{sys.argv[1]}-resolver-{number}.observatory.example", "A"), "127.0.0.53",
                      timeout=0.5)
    except Exception:
        pass
    time.sleep(0.05)
"""


class Workstation:
    """The workstation as it is with systemd-resolved: in a mount namespace of its own, in the lab's network."""

    def __init__(self, lab, folder):
        found = [place / "systemd-resolved" for place in PLACES if (place / "systemd-resolved").exists()]
        assert found, "the tests need systemd-resolved: `./run tests` unpacks it"
        self.lab = lab
        (folder / "bus.conf").write_text(BUS)
        line = ["unshare", "-m", "sh", "-c", START, "start", str(folder / "bus.conf"), str(found[0])]
        self.process = lab.start("heron", *line)
        ready, *self.pids = self.process.stdout.readline().split()
        assert ready == "ready"
        self.inside = ["nsenter", "-m", "-t", self.pids[-1], "--"]

    def stop(self):
        self.lab.shell("heron", "kill", *self.pids, check=None)
        os.killpg(self.process.pid, signal.SIGKILL)
        self.process.communicate(timeout=10)

    def run(self, *words, check=0):
        return self.lab.shell("heron", *self.inside, *words, check=check)

    def zesty(self, *words, check=0):
        return self.run(sys.executable, "-m", "zesty_burrow", "--json", *words, check=check).json

    def look_up(self, *names):
        return json.loads(self.run(sys.executable, "-c", ASK, STUB, *names).out)

    def servers(self):
        return self.run("cat", "/run/systemd/resolve/resolv.conf").out


@pytest.fixture
def workstation(lab, tmp_path):
    one = Workstation(lab, tmp_path)
    yield one
    one.run(sys.executable, "-m", "zesty_burrow", "disconnect", check=None)
    one.stop()


def test_no_question_outside(workstation, tmp_path):
    """Every name is asked of the tunnel's servers; the file stays the stub's; in the end all is as before."""
    lab, before = workstation.lab, workstation.servers()
    assert workstation.look_up(story.OBSERVATORY_NAME) == {story.OBSERVATORY_NAME: [story.OBSERVATORY4]}
    watch = Watch(lab, tmp_path)
    watch.capture()
    watch.start("heron", *workstation.inside, sys.executable, "-c", KEEP_ASKING, WORD)
    try:
        time.sleep(1)
        began = time.time()
        up = workstation.zesty("connect", "lisbon", "--detach")["tunnel"]
        closed = watch.first_of_ours()
        assert up["name_servers"][0] == story.RESOLVER4 and began < closed
        assert workstation.run("cat", "/etc/resolv.conf").out == f"nameserver {STUB}\n"
        assert workstation.look_up(story.OBSERVATORY_NAME) == {story.OBSERVATORY_NAME: [story.OBSERVATORY4]}
        seen = workstation.zesty("verify")
        assert seen["verdict"] == "sealed"
        assert [row["address"] for row in seen["after"]["resolvers"]] == [story.RESOLVER4]
        ended = time.time()
        workstation.zesty("disconnect")
        time.sleep(1)
    finally:
        for process in watch.processes:
            os.killpg(process.pid, signal.SIGKILL)
            process.communicate(timeout=10)
    names = 'dns.qry.name contains "-resolver-"'
    moments = [float(one) for one in watch.analysed(f"{names} && ip.src=={HERON4}", "frame.time_epoch")]
    assert [one for one in moments if one < closed] and [one for one in moments if one > ended]
    assert Counter(one for one in moments if closed <= one < ended) == {}
    until(lambda: workstation.servers() == before)


def test_split_names(workstation, tmp_path):
    """The office's names of its server, by its link; every other one of the machine's own server."""
    lab, before = workstation.lab, workstation.servers()
    kit = tmp_path / "office.zip"
    lab.run("lab", "account", "tidewrack_resolved", "--to", str(kit), check=0)
    name = lab.heron("import", str(kit), check=0).json["profiles"][0]["name"]
    workstation.zesty("connect", name, "--detach")
    found = workstation.look_up(FILES, story.OBSERVATORY_NAME)
    assert found == {FILES: [story.OFFICE_FILES], story.OBSERVATORY_NAME: [story.OBSERVATORY4]}
    # Killed: its link goes with its process, and what was asked by it with that.
    process = workstation.zesty("status")["tunnel"]["process"]
    lab.shell("heron", "kill", "-9", str(process))
    until(lambda: workstation.servers() == before)
    workstation.zesty("restore")
    assert workstation.look_up(story.OBSERVATORY_NAME) == {story.OBSERVATORY_NAME: [story.OBSERVATORY4]}
    lab.heron("remove", name, check=0)
