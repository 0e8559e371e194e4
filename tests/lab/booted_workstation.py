"""The workstation with a real systemd as its first process, in namespaces of its own, in the lab's network."""

from __future__ import annotations

import os
import signal
import sys
from pathlib import Path

from support import until

SYSTEMD = next(
    (one for one in ("/lib/systemd/systemd", "/usr/lib/systemd/systemd") if Path(one).exists()), "/lib/systemd/systemd"
)
UNITS = Path("/lib/systemd/system")
NEEDED = [
    "sysinit.target",
    "basic.target",
    "shutdown.target",
    "umount.target",
    "final.target",
    "network-pre.target",
    "network.target",
    "local-fs.target",
    "multi-user.target",
    "poweroff.target",
    "systemd-poweroff.service",
    "timers.target",
    "sockets.target",
    "paths.target",
    "slices.target",
]
"""Of the distribution's own units those alone without which there is no start and no end."""

BOOT = f"""
set -e
mount --make-rprivate /
mount -t tmpfs none /run
mount -t tmpfs none /sys/fs/cgroup
mount -t cgroup2 none /sys/fs/cgroup
mkdir /run/units
for unit in {" ".join(NEEDED)}; do cp {UNITS}/$unit /run/units/; done
mount --bind "$1" /etc/systemd/system
export container=lab SYSTEMD_UNIT_PATH=/etc/systemd/system:/run/units
exec {SYSTEMD} --system --unit=multi-user.target --log-target=null --show-status=no
"""
START = """
unshare -m -p -f -C --kill-child --mount-proc sh -c "$1" boot "$2" >/dev/null 2>&1 &
for try in $(seq 100); do child=$(pgrep -P $!) && break; sleep 0.05; done
echo ready $child
wait
"""


class BootedWorkstation:
    """A start of the machine, as far as programs see it; ``units``: the folder of units, which outlives it."""

    def __init__(self, lab, units):
        assert Path(SYSTEMD).exists(), "the tests need systemd: `./run tests` installs it"
        self.lab, self.units = lab, units
        units.mkdir(exist_ok=True)
        self.process = self.first = None

    def boot(self, *, wait=True):
        self.process = self.lab.start("heron", "sh", "-c", START, "start", BOOT, str(self.units))
        word, self.first = self.process.stdout.readline().split()
        assert word == "ready"
        until(lambda: self.run("systemctl", "list-units", check=None).code == 0)
        if wait:
            until(lambda: self.state("multi-user.target") == "active")

    def run(self, *words, check=0):
        return self.lab.shell("heron", "nsenter", "-t", self.first, "-m", "-p", "-C", "--", *words, check=check)

    def zesty(self, *words, check=0):
        return self.run(sys.executable, "-m", "zesty_burrow", "--json", *words, check=check).json

    def state(self, unit):
        return self.run("systemctl", "is-active", unit, check=None).out.strip()

    def main_process(self, unit):
        return self.run("systemctl", "show", "-P", "MainPID", unit).out.strip()

    def show(self, unit, what):
        return self.run("systemctl", "show", "-P", what, unit).out.strip()

    def power_off(self):
        self.run("systemctl", "--no-block", "poweroff", check=None)
        self.process.wait(timeout=60)
        self.process.communicate()

    def pull_the_plug(self):
        if self.process is not None and self.process.poll() is None:
            self.lab.shell("heron", "kill", "-9", self.first, check=None)
            os.killpg(self.process.pid, signal.SIGKILL)
            self.process.communicate(timeout=20)
