"""The laptop ``curlew``: it runs this program, and is reached by OpenSSH's own server."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from contextlib import suppress
from pathlib import Path
from typing import Any

from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat, PublicFormat

from zesty_burrow.host import namespaces
from zesty_burrow.host.paths import HOME_VARIABLE
from zesty_burrow.host.replace_file import replace_file
from zesty_burrow.lab import story
from zesty_burrow.lab.devices import faults as every_device
from zesty_burrow.records import dataclass, field
from zesty_burrow.store.seal import write_private

SERVER = "sshd"
UNPACKED = Path(sys.prefix, "openssh-server/usr")
"""Debian's package, where it was unpacked and not installed."""
PLACES = ("/usr/sbin", "/usr/local/sbin", str(UNPACKED / "sbin"))
PARTS = {"SshdSessionPath": "lib/openssh/sshd-session", "SshdAuthPath": "lib/openssh/sshd-auth"}
"""Of newer versions, which are in several parts, by the keys that name them."""
USER = "sshd"
SMALL = "4k"
"""Of a full disk: what is left on it."""


def prepare_keys(folder: Path) -> None:
    """Keys and settings by which the workstation reaches the laptop, and the laptop's own; in their homes."""
    ours, theirs = folder / story.WORKSTATION / "ssh", folder / story.LAPTOP / "ssh"
    theirs.parent.mkdir(mode=0o700)
    for one in (ours, theirs):
        one.mkdir(mode=0o700)
    own = _make_key(ours / "key")
    host = _make_key(theirs / "host_key")
    _make_key(theirs / "other_host_key")
    write_private(theirs / "authorized_keys", own + b"\n")
    write_private(ours / "known_hosts", story.LAPTOP4.encode() + b" " + host + b"\n")
    settings = f"""Host {story.LAPTOP}
  HostName {story.LAPTOP4}
  User root
  IdentityFile {ours / "key"}
  IdentitiesOnly yes
  UserKnownHostsFile {ours / "known_hosts"}
"""
    write_private(ours / "config", settings.encode())


def _make_key(path: Path) -> bytes:
    """Write a key; its public half as OpenSSH has it."""
    key = Ed25519PrivateKey.generate()
    write_private(path, key.private_bytes(Encoding.PEM, PrivateFormat.OpenSSH, NoEncryption()))
    return key.public_key().public_bytes(Encoding.OpenSSH, PublicFormat.OpenSSH)


@dataclass(slots=True)
class Laptop:
    """``home``: where its own files lie."""

    home: Path
    faults: frozenset[str] = frozenset()
    note: str = ""
    _server: subprocess.Popen[bytes] | None = field(default=None)

    def start(self) -> None:
        """Serve SSH, where there is a server for it."""
        os.environ[HOME_VARIABLE] = str(self.home)
        if os.geteuid() != 0 or Path("/proc/self/uid_map").read_text().split()[2] == "1":
            self.note = "no SSH: its server needs root"
            return
        found = shutil.which(SERVER, path=os.pathsep.join((os.environ["PATH"], *PLACES)))
        if found is None:
            self.note = "no SSH: OpenSSH's server is not installed"
            return
        self._prepare()
        self._serve(found)

    def _prepare(self) -> None:
        """The server wants a folder and a user of its own; they are made in the lab's mount namespace alone."""
        users = Path("/etc/passwd").read_text()
        if f"\n{USER}:" not in users:
            own = self.home / "passwd"
            replace_file(own, f"{users}{USER}:x:65533:65534::/run/sshd:/usr/sbin/nologin\n".encode(), 0o644)
            namespaces.mount(str(own), "/etc/passwd", flags=namespaces.MS_BIND)
        Path("/run/sshd").mkdir(mode=0o755, exist_ok=True)

    def _serve(self, program: str) -> None:
        ssh = self.home / "ssh"
        key = "other_host_key" if "wrong-host-key" in self.faults else "host_key"
        path = os.pathsep.join((str(Path(sys.executable).parent), os.environ["PATH"]))
        settings = f"""ListenAddress {story.LAPTOP4}
HostKey {ssh / key}
AuthorizedKeysFile {ssh / ("nobody" if "refuses" in self.faults else "authorized_keys")}
PidFile none
StrictModes no
UsePAM no
PasswordAuthentication no
KbdInteractiveAuthentication no
PermitRootLogin prohibit-password
PrintMotd no
PrintLastLog no
MaxStartups 100:30:200
Subsystem sftp internal-sftp
SetEnv {HOME_VARIABLE}={self.home} PATH={path} PYTHONPATH={every_device.clock_folder(self.home)}
"""
        if Path(program).is_relative_to(UNPACKED):
            known = {key: UNPACKED / part for key, part in PARTS.items()}
            settings += "".join(f"{key} {part}\n" for key, part in known.items() if part.exists())
        replace_file(ssh / "sshd_config", settings.encode(), 0o600)
        self.stop()
        with (ssh / "log").open("ab") as log:
            line = [program, "-D", "-e", "-f", str(ssh / "sshd_config")]
            self._server = subprocess.Popen(line, stdin=subprocess.DEVNULL, stdout=log, stderr=log)

    def stop(self) -> None:
        if self._server is not None:
            self._server.terminate()
            self._server.wait(5)
            self._server = None

    def set_faults(self, faults: frozenset[str]) -> None:
        """Inject these faults from now on, and no others."""
        before, self.faults = self.faults, faults
        every_device.set_network(story.LAPTOP, before, faults)
        every_device.set_clock(self.home, faults)
        incoming = self.home / "incoming"
        if ("full-disk" in faults) != ("full-disk" in before):
            with suppress(OSError):
                namespaces.unmount(str(incoming))
            if "full-disk" in faults:
                incoming.mkdir(mode=0o700, exist_ok=True)
                namespaces.mount("none", str(incoming), "tmpfs", data=f"size={SMALL},mode=0700")
                (incoming / "full").write_bytes(bytes(4096))
        if self._server is not None and {"wrong-host-key", "refuses"} & (faults ^ before):
            self._serve(str(self._server.args[0]))  # type: ignore[index]

    def status(self) -> dict[str, Any]:
        """For ``lab status``."""
        running = self._server is not None and self._server.poll() is None
        ended = f"its SSH server has ended: {self.home / 'ssh' / 'log'}" if self._server is not None else ""
        return {"faults": sorted(self.faults), "note": self.note or ("" if running else ended), "ssh": running}
