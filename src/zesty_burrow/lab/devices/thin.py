"""Thousands of thin devices in one process: an SSH server, and behind each user's name a device of its own.

Each has keys, opens what is sent to it for real, and refuses what came before; it stores nothing and carries no tunnel.
"""

from __future__ import annotations

import argparse
import asyncio
import json
import os
import shlex
import subprocess
import sys
import tempfile
from collections import defaultdict
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import asyncssh

from zesty_burrow.errors import BurrowError, Clash
from zesty_burrow.fleet.bundle import open_bundle
from zesty_burrow.fleet.keys import DEVICE, OwnKeys, make_secret
from zesty_burrow.lab import story
from zesty_burrow.lab.devices.laptop import prepare_keys
from zesty_burrow.records import dataclass, field


@dataclass(slots=True)
class ThinDevice:
    """``number``: of the newest bundle that came."""

    keys: OwnKeys = field(default_factory=lambda: OwnKeys(make_secret()))
    number: int = 0

    def run(self, words: list[str], folder: Path) -> dict[str, Any]:
        """The documents that ``enrol`` and ``receive`` of this program print."""
        if words[:1] == ["enrol"]:
            return {"format": 1, "result": "key", "key": self.keys.public(DEVICE).text, "folder": "/"}
        path = folder / words[1].lstrip("/")
        bundle = open_bundle(path.read_bytes(), self.keys)
        if bundle.number <= self.number:
            raise Clash("this bundle came before", slug="bundle-repeated")
        self.number = bundle.number
        return {"format": 1, "result": "receipt", "state": "imported", "profiles": list(bundle.texts)}


@contextmanager
def thin_devices(folder: Path) -> Iterator[tuple[int, Path, Path]]:
    """All of them in a process of their own, on loopback: port, known hosts, and the key that they let in.

    ``folder``: where keys are put; the lab's folder is laid out like it.
    """
    (folder / story.WORKSTATION).mkdir()
    prepare_keys(folder)
    ours, theirs = folder / story.WORKSTATION / "ssh", folder / story.LAPTOP / "ssh"
    line = [
        sys.executable,
        "-m",
        "zesty_burrow.lab.devices.thin",
        str(theirs / "host_key"),
        str(theirs / "authorized_keys"),
    ]
    with subprocess.Popen(line, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True) as server:
        if server.stdin is None or server.stdout is None:
            raise AssertionError("no pipes")
        port, known = int(server.stdout.readline()), ours / "known_hosts"
        known.write_text(f"[127.0.0.1]:{port} {known.read_text().split(' ', 1)[1]}")
        try:
            yield port, known, ours / "key"
        finally:
            server.stdin.close()


class ThinDevices:
    """All of them. ``folder``: for what is sent."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.devices: dict[str, ThinDevice] = defaultdict(ThinDevice)

    async def serve(self, host_key: str, authorized: str) -> int:
        """Listen on loopback; the port."""
        server = await asyncssh.listen(
            "127.0.0.1",
            0,
            server_host_keys=[host_key],
            authorized_client_keys=authorized,
            process_factory=self._process,
            sftp_factory=lambda channel: asyncssh.SFTPServer(channel, chroot=os.fsencode(self.folder)),
            encoding=None,
            backlog=1000,
        )
        return int(server.sockets[0].getsockname()[1])

    async def _process(self, process: asyncssh.SSHServerProcess[bytes]) -> None:
        words = shlex.split(process.command or "")
        name = str(process.get_extra_info("username"))
        try:
            answer = self.devices[name].run(words[1:], self.folder)
            code = 0
        except BurrowError as problem:
            answer = {"result": "error", "code": problem.slug, "what": problem.what, "why": problem.why}
            code = problem.exit_code
        process.stdout.write(json.dumps(answer).encode() + b"\n")
        process.exit(code)


async def main() -> None:
    """Serve until standard input ends; the port is printed."""
    parser = argparse.ArgumentParser()
    parser.add_argument("host_key")
    parser.add_argument("authorized")
    args = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        port = await ThinDevices(Path(folder)).serve(args.host_key, args.authorized)
        print(port, flush=True)
        await asyncio.get_running_loop().run_in_executor(None, sys.stdin.read)


if __name__ == "__main__":
    asyncio.run(main())
