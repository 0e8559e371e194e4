"""The workstation as it is with systemd-resolved: the real one, started by hand with a bus of its own."""

from __future__ import annotations

import json
import os
import signal
import sys
from pathlib import Path

from zesty_burrow.lab import story

STUB = "127.0.0.53"
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
