"""Two hosts in network namespaces of their own, a wire between them, and every contender's tunnel over that wire."""

from __future__ import annotations

import contextlib
import json
import os
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

from bench.datapath.far_end import PLACE, SHARED_KEY
from zesty_burrow.carrier.fast_path.switch import COMPILING, PLAIN

MTU = 1400
NEAR, FAR = PLACE.address4(1), PLACE.outer
PROGRAM = str(Path(sys.executable).with_name("zesty"))
NEEDED = {
    "iperf3": "iperf3",
    "ssh": "openssh-client",
    "sshd": "openssh-server",
    "ssh-keygen": "openssh-client",
    "socat": "socat",
    "ip": "iproute2",
    "ping": "iputils-ping",
    "unshare": "util-linux",
    "nsenter": "util-linux",
    "openssl": "openssl",
}
"""Programs, and the Debian packages that have them."""
SEARCHED = f"{os.environ.get('PATH', '')}:/usr/sbin:/sbin"
TICKS = os.sysconf("SC_CLK_TCK")


@dataclass(slots=True)
class Contender:
    """A way between the hosts: what the far host is called on it, and the processes that carry it."""

    name: str
    far: str
    processes: tuple[int, ...] = ()

    def cpu(self) -> float:
        """Seconds of processor time that its processes have used."""
        total = 0
        for process in self.processes:
            fields = Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()
            total += int(fields[11]) + int(fields[12])
        return total / TICKS


def missing() -> dict[str, str]:
    """Programs that are not here, with their packages."""
    return {name: package for name, package in NEEDED.items() if shutil.which(name, path=SEARCHED) is None}


def path_of(name: str) -> str:
    """Where a program is."""
    found = shutil.which(name, path=SEARCHED)
    if found is None:
        raise SystemExit(f"{name} is missing: apt install {NEEDED.get(name, name)}")
    return found


class Host:
    """A process that keeps namespaces alive, and everything that is started in them."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        folder.mkdir(mode=0o700)
        self._started: list[subprocess.Popen[str]] = []
        self._keeper = subprocess.Popen([path_of("unshare"), "--net", "--mount", "sleep", "infinity"])
        while Path(f"/proc/{self._keeper.pid}/ns/net").readlink() == Path("/proc/self/ns/net").readlink():
            time.sleep(0.01)
        self.process = self._keeper.pid

    def words(self, *words: str) -> list[str]:
        """A command line that runs on this host."""
        return [path_of("nsenter"), "-t", str(self.process), "-n", "-m", f"--wd={Path.cwd()}", *words]

    def run(self, *words: str, check: bool = True, **settings: object) -> str:
        """Run a program to its end; what it said."""
        ended = subprocess.run(self.words(*words), capture_output=True, text=True, check=False, **settings)  # type: ignore[call-overload]
        if check and ended.returncode:
            raise SystemExit(f"{' '.join(words)}: {ended.stderr or ended.stdout}")
        return str(ended.stdout)

    def start(self, *words: str, **settings: object) -> subprocess.Popen[str]:
        """Start a program that goes on."""
        process = subprocess.Popen(self.words(*words), text=True, **settings)  # type: ignore[call-overload]
        self._started.append(process)
        return process  # type: ignore[no-any-return]

    def bind(self, name: str, text: str) -> None:
        """A file of this host's own in /etc."""
        own = self.folder / name
        own.write_text(text)
        self.run("mount", "--bind", str(own), f"/etc/{name}")

    def stop(self) -> None:
        """End what was started here."""
        for process in reversed((self._keeper, *self._started)):
            process.send_signal(signal.SIGTERM)
            try:
                process.wait(5)
            except subprocess.TimeoutExpired:
                process.kill()
                process.wait()
            for stream in (process.stdin, process.stdout, process.stderr):
                if stream is not None:
                    stream.close()


def children(process: int) -> list[int]:
    """A process's children, and theirs."""
    found = []
    for child in Path(f"/proc/{process}/task/{process}/children").read_text().split():
        found += [int(child), *children(int(child))]
    return found


class Wires:
    """Everything that is measured, up at once."""

    def __init__(self, folder: Path, rough: tuple[float, float, float] | None = None) -> None:
        self._folder = folder
        self.near, self.far = Host(folder / "near"), Host(folder / "far")
        self._middle = Host(folder / "middle") if rough else None
        self._link: subprocess.Popen[str] | None = None
        self._gateway: subprocess.Popen[str] | None = None
        self.environment = {**os.environ, "ZESTY_BURROW_HOME": str(folder / "home")}
        self._wire()
        if self._middle is not None and rough is not None:
            self._roughen(self._middle, rough)

    def serve(self) -> None:
        """What the measures talk to."""
        self.far.start(path_of("iperf3"), "-s", stdout=subprocess.DEVNULL)

    def _wire(self) -> None:
        for host in (self.near, self.far):
            host.run("ip", "link", "set", "lo", "up")
            host.run("mount", "--make-rprivate", "/")
        if self._middle is None:
            self._pair(self.near, "near0", self.far, "far0")
        else:
            self._pair(self.near, "near0", self._middle, "one")
            self._pair(self._middle, "other", self.far, "far0")
        for host, name, address in ((self.near, "near0", NEAR), (self.far, "far0", FAR)):
            host.run("ip", "address", "add", f"{address}/28", "dev", name)
            host.run("ip", "link", "set", name, "up")
        self.near.bind("hosts", f"127.0.0.1 localhost\n{FAR} {PLACE.host_name}\n")
        self.near.bind("resolv.conf", "")

    @staticmethod
    def _pair(one: Host, name: str, other: Host, peer: str) -> None:
        one.run("ip", "link", "add", name, "type", "veth", "peer", "name", peer)
        one.run("ip", "link", "set", peer, "netns", str(other.process))

    def _roughen(self, middle: Host, rough: tuple[float, float, float]) -> None:
        """Frames pass through a process that loses, delays and forges; pieces of many datagrams are taken apart."""
        for device in ("one", "other"):
            middle.run("ip", "link", "set", device, "promisc", "on", "up")
        for host, device in ((self.near, "near0"), (self.far, "far0")):
            host.run("ip", "link", "set", device, "gso_max_segs", "1")
        script = str(Path(__file__).with_name("rough_link.py"))
        self._link = middle.start(
            sys.executable, script, "one", "other", *map(str, rough), stdin=subprocess.PIPE, stdout=subprocess.PIPE
        )
        assert self._link.stdout is not None
        self._link.stdout.readline()

    def link_says(self) -> list[list[int]]:
        """End a rough link; for each direction how many frames it has passed, lost, held back and forged."""
        assert self._link is not None
        said, _ = self._link.communicate(timeout=20)
        return [[int(word) for word in line.split()] for line in said.splitlines()]

    def carry(self, far: str, octets: int, *, back: str = "") -> tuple[str, str]:
        """Octets over one TCP connection to ``far``, or the other way to ``back``; what both ends say of them."""
        script = str(Path(__file__).with_name("carry.py"))
        source, target, address = (self.far, self.near, back) if back else (self.near, self.far, far)
        receiver = target.start(sys.executable, script, "receive", address, "7007", stdout=subprocess.PIPE)
        assert receiver.stdout is not None
        receiver.stdout.readline()
        sent = source.run(sys.executable, script, "send", address, "7007", str(octets))
        received, _ = receiver.communicate(timeout=120)
        return sent.strip(), received.strip()

    def plain(self) -> Contender:
        """The wire itself."""
        return Contender("plain veth", FAR)

    def ours(
        self,
        without: Sequence[str] = (),
        encryption: str = "",
        choices: Sequence[str] = (),
        options: Sequence[str] = (),
    ) -> Contender:
        """Our tunnel: the lab's gateway, and the real program's ``connect``, with ``options``.

        ``without``: offloads left out at both ends; ``encryption``: for ESP; ``choices``: for ``zesty choose``.
        """
        left_out = ",".join(without)
        module = "bench.datapath.far_end"
        gateway = self.far.start(
            sys.executable, "-m", module, str(self._folder), encryption, left_out,
            stdin=subprocess.PIPE, stdout=subprocess.PIPE,
        )  # fmt: skip
        assert gateway.stdout is not None
        self._gateway = gateway
        said = gateway.stdout.readline().strip()
        if said != "ready":
            raise SystemExit(f"the gateway did not start: {said}")
        self.near.run(PROGRAM, "import", str(self._folder / "kit.zip"), env=self.environment)
        return self.up(choices, [*options, *(word for one in without for word in ("--disable", one))])

    def up(self, choices: Sequence[str] = (), options: Sequence[str] = (), name: str = "ours") -> Contender:
        """Connect; the gateway is there already. ``choices``: for ``zesty choose``."""
        assert self._gateway is not None
        if choices:
            self.near.run(PROGRAM, "choose", PLACE.name, *choices, env=self.environment)
        self.near.run(PROGRAM, "connect", PLACE.name, "--detach", *options, env=self.environment)
        return Contender(name, f"{PLACE.pool4}1", (int(str(self.status()["process"])), self._gateway.pid))

    def keep_shared_key(self) -> None:
        """For L2TP over IPsec."""
        words = ("credentials", "change", "Quillwort Relay", "--kind", "pre-shared-key", "--from", "-")
        self.near.run(PROGRAM, *words, env=self.environment, input=SHARED_KEY)

    def down(self) -> None:
        """Disconnect; the gateway stays."""
        self.near.run(PROGRAM, "disconnect", env=self.environment)

    def loops(self) -> tuple[str, str]:
        """How our client and our gateway work on packets."""
        assert self._gateway is not None and self._gateway.stdin is not None and self._gateway.stdout is not None
        self._gateway.stdin.write("loops\n")
        self._gateway.stdin.flush()
        return str(self.status()["data_path"]), self._gateway.stdout.readline().strip()

    def warm_up(self, far: str, timeout: float = 180.0) -> tuple[str, str]:
        """Carry much until both ends have compiled their loops, or will not; which path carries then."""
        end = time.monotonic() + timeout
        while time.monotonic() < end:
            said = self.loops()
            if not {PLAIN, COMPILING} & set(said):
                return said
            if PLAIN in said:
                self.carry(far, 8 << 20)
            else:
                time.sleep(0.5)
        raise SystemExit(f"the loops were not compiled in {timeout:.0f} s: {said}")

    def status(self) -> dict[str, object]:
        """What our program says of its tunnel."""
        said = json.loads(self.near.run(PROGRAM, "--json", "status", env=self.environment))
        return dict(said["tunnel"])

    def ssh(self) -> Contender:
        """``ssh -w`` with aes256-gcm."""
        folder = self._folder / "ssh"
        folder.mkdir(mode=0o700)
        for name in ("host", "user"):
            words = [path_of("ssh-keygen"), "-q", "-t", "ed25519", "-N", "", "-f", str(folder / name)]
            subprocess.run(words, check=True)
        (folder / "allowed").write_text((folder / "user.pub").read_text())
        (folder / "sshd_config").write_text(
            f"ListenAddress {FAR}:2222\nHostKey {folder}/host\nAuthorizedKeysFile {folder}/allowed\nPermitTunnel yes\n"
            "PermitRootLogin yes\nStrictModes no\nUsePAM no\nCiphers aes256-gcm@openssh.com\nPidFile none\n"
        )
        Path("/run/sshd").mkdir(exist_ok=True)
        server = self.far.start(path_of("sshd"), "-D", "-f", str(folder / "sshd_config"), stderr=subprocess.DEVNULL)
        time.sleep(0.5)
        client = self.near.start(
            path_of("ssh"), "-F", "none", "-N", "-w", "5:5", "-p", "2222", "-i", str(folder / "user"),
            "-o", "StrictHostKeyChecking=no", "-o", f"UserKnownHostsFile={folder}/known", "-o", "IPQoS=none",
            "-c", "aes256-gcm@openssh.com", f"root@{FAR}", stderr=subprocess.DEVNULL,
        )  # fmt: skip
        self._address("tun5", 97)
        return Contender("ssh -w", "10.97.0.2", (client.pid, *children(server.pid)))

    def socat(self, *, over_tcp: bool = False) -> Contender:
        """``socat``: a TUN device at each end, DTLS between them, or TLS over TCP."""
        number, device_name = (99, "tls0") if over_tcp else (98, "dtls0")
        listen = "OPENSSL-LISTEN" if over_tcp else "OPENSSL-DTLS-SERVER"
        connect = "OPENSSL" if over_tcp else "OPENSSL-DTLS-CLIENT"
        folder = self._folder / f"socat-{device_name}"
        folder.mkdir(mode=0o700)
        words = [
            path_of("openssl"), "req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:prime256v1", "-nodes",
            "-days", "2", "-subj", f"/CN={FAR}", "-keyout", f"{folder}/key.pem", "-out", f"{folder}/cert.pem",
        ]  # fmt: skip
        subprocess.run(words, check=True, capture_output=True)
        both = Path(f"{folder}/both.pem")
        both.write_text((folder / "key.pem").read_text() + (folder / "cert.pem").read_text())
        own, device = f"cert={both},verify=0", f"iff-no-pi,tun-name={device_name}"
        server = self.far.start(
            path_of("socat"), f"TUN,{device}", f"{listen}:44{number},{own}", stderr=subprocess.DEVNULL
        )
        time.sleep(0.3)
        client = self.near.start(
            path_of("socat"), f"TUN,{device}", f"{connect}:{FAR}:44{number},{own}", stderr=subprocess.DEVNULL
        )
        self._address(device_name, number)
        name = "socat TLS" if over_tcp else "socat DTLS"
        return Contender(name, f"10.{number}.0.2", (client.pid, *children(server.pid), server.pid))

    def _address(self, device: str, number: int) -> None:
        for host, last in ((self.near, 1), (self.far, 2)):
            until = time.monotonic() + 10
            while f"{device}:" not in host.run("ip", "-o", "link"):
                if time.monotonic() > until:
                    raise SystemExit(f"{device} did not appear")
                time.sleep(0.1)
            host.run("ip", "link", "set", device, "mtu", str(MTU), "up")
            host.run("ip", "address", "add", f"10.{number}.0.{last}/24", "dev", device)

    def close(self) -> None:
        """End everything."""
        with contextlib.suppress(SystemExit):
            self.near.run(PROGRAM, "disconnect", check=False, env=self.environment)
        for host in (self.near, self.far, self._middle):
            if host is not None:
                host.stop()


@contextlib.contextmanager
def wires(folder: Path, rough: tuple[float, float, float] | None = None) -> Iterator[Wires]:
    """Two hosts, until the end of the block. ``rough``: shares of frames lost and held back, and forged a second."""
    made = Wires(folder, rough)
    try:
        yield made
    finally:
        made.close()
