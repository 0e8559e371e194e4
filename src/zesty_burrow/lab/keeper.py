"""The lab's keeper: forks the hosts, knows their processes, and answers ``lab`` commands until it has to stop."""

from __future__ import annotations

import asyncio
import importlib
import json
import os
import secrets as random_secrets
import shutil
import signal
import socket
import sys
import traceback
from contextlib import suppress
from pathlib import Path
from typing import Any

from zesty_burrow.core.crypto.jws import public_text
from zesty_burrow.errors import MachineError
from zesty_burrow.lab import kit, story
from zesty_burrow.lab.authority import make_authority, write_certificate
from zesty_burrow.lab.builder import build, enter_fresh_namespaces, peer_process
from zesty_burrow.lab.devices.laptop import prepare_keys
from zesty_burrow.lab.hosts import Secrets
from zesty_burrow.observe.observatory.signing import load_or_make
from zesty_burrow.store.seal import write_private

START_SECONDS = 60.0
"""Ten hosts on two busy cores; a real failure is reported at once."""
GONE_SECONDS = 8.0
MAX_LINE = 65536


class Keeper:
    """Runs in a process of its own."""

    def __init__(self, folder: Path, ready: int) -> None:
        self._folder = folder
        self._ready = ready
        self._hosts: dict[str, tuple[int, asyncio.StreamReader, asyncio.StreamWriter]] = {}
        self._locks: dict[str, asyncio.Lock] = {}
        self._all_here = asyncio.Event()
        self._stop = asyncio.Event()
        self._errors: list[str] = []

    async def run(self, builder: int, listening: socket.socket) -> None:
        """Serve until told to stop or until the builder's process ends."""
        server = await asyncio.start_unix_server(self._serve, sock=listening, limit=MAX_LINE)
        loop = asyncio.get_running_loop()
        for number in (signal.SIGTERM, signal.SIGINT, signal.SIGHUP):
            loop.add_signal_handler(number, self._stop.set)
        gone = loop.run_in_executor(None, os.waitpid, builder, 0)
        gone.add_done_callback(lambda _: self._stop.set())
        arrival = asyncio.create_task(self._all_here.wait())
        stopping = asyncio.create_task(self._stop.wait())
        await asyncio.wait({arrival, stopping}, timeout=START_SECONDS, return_when=asyncio.FIRST_COMPLETED)
        if not arrival.done() or self._errors:
            missing = sorted(set(story.hosts()) - set(self._hosts))
            why = "; ".join(self._errors) or f"no answer from {', '.join(missing)}; {self._last_words()}"
            self._tell({"error": why})
        else:
            self._tell({"ready": True})
            await stopping
        with suppress(ProcessLookupError):
            os.kill(builder, signal.SIGKILL)
        await gone
        server.close()
        await self._until_all_are_gone()

    async def _until_all_are_gone(self) -> None:
        """The kernel ends the hosts with their first process; wait until it has, so that "stopped" is true."""
        deadline = asyncio.get_running_loop().time() + GONE_SECONDS
        while any(_is_alive(row[0]) for row in self._hosts.values()):
            if asyncio.get_running_loop().time() > deadline:
                break
            await asyncio.sleep(0.01)

    def _last_words(self) -> str:
        with suppress(OSError):
            lines = (self._folder / "log").read_text().strip().splitlines()
            return lines[-1] if lines else "nothing in its log"
        return "it left no log"

    def _tell(self, document: dict[str, Any]) -> None:
        with suppress(OSError):
            os.write(self._ready, json.dumps(document).encode() + b"\n")
            os.close(self._ready)

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with suppress(OSError, ValueError):
            line = await reader.readline()
            request = json.loads(line) if line else {}
            if "hello" in request:
                await self._welcome(request, reader, writer)
                return
            answer = await self._answer(request)
            writer.write(json.dumps(answer).encode() + b"\n")
            await writer.drain()
        writer.close()

    async def _welcome(
        self, request: dict[str, Any], reader: asyncio.StreamReader, writer: asyncio.StreamWriter
    ) -> None:
        channel = writer.get_extra_info("socket")
        pid = peer_process(channel.getsockopt(socket.SOL_SOCKET, socket.SO_PEERCRED, 12))
        name = str(request["hello"])
        if "error" in request:
            self._errors.append(f"{name}: {request['error']}")
        self._hosts[name] = (pid, reader, writer)
        self._locks[name] = asyncio.Lock()
        if set(self._hosts) == set(story.hosts()):
            self._all_here.set()

    async def _answer(self, request: dict[str, Any]) -> dict[str, Any]:
        call = request.get("call")
        if call == "stop":
            self._stop.set()
            return {"stopping": True}
        if call == "status":
            rows = {name: {"process": self._hosts[name][0]} for name in story.hosts()}
            for name in story.FAULTS_OF:
                rows[name].update(await self._call_host(name, {"call": "status"}))
            return {"process": os.getpid(), "folder": str(self._folder), "hosts": rows}
        name = str(request.get("host"))
        if name not in self._hosts:
            return {"error": f"there is no host {name!r}; there are {', '.join(sorted(self._hosts))}"}
        if call == "where":
            return {"process": self._hosts[name][0], "folder": str(self._folder)}
        return await self._call_host(name, request)

    async def _call_host(self, name: str, request: dict[str, Any]) -> dict[str, Any]:
        _, reader, writer = self._hosts[name]
        async with self._locks[name]:
            writer.write(json.dumps(request).encode() + b"\n")
            await writer.drain()
            document = json.loads(await reader.readline())
        return document if isinstance(document, dict) else {}


def _is_alive(process: int) -> bool:
    """Whether a process runs; one that has ended and is only not yet collected does not."""
    try:
        state = Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()[0]
    except (OSError, IndexError):
        return False
    return state != "Z"


def prepare_folder(folder: Path) -> Secrets:
    """The kit that the provider hands over, and the workstation's home with its settings."""
    if folder.exists():
        shutil.rmtree(folder)
    folder.mkdir(mode=0o700, parents=True)
    secrets = Secrets(
        make_authority(story.PROVIDER),
        random_secrets.token_urlsafe(12),
        make_authority(story.OFFICE_PROVIDER),
        random_secrets.token_urlsafe(12),
        random_secrets.token_urlsafe(12),
    )
    files = kit.kit_files(secrets.authority.pem(), secrets.password)
    write_private(folder / "quillwort-relay.zip", kit.kit_archive(files))
    every = kit.protocols_kit_files(secrets.authority.pem(), secrets.password, secrets.shared_key)
    write_private(folder / "quillwort-relay-protocols.zip", kit.kit_archive(every))
    write_private(folder / "portal-account.txt", f"{story.PORTAL_ACCOUNT}\n{secrets.portal_password}\n".encode())
    write_private(folder / "portal-authority.pem", secrets.authority.pem())
    write_private(folder / "shared-key.txt", f"{secrets.shared_key}\n".encode())
    home = folder / story.WORKSTATION
    home.mkdir(mode=0o700)
    prepare_keys(folder)
    for name in (*story.PHONES, story.BOX):
        (folder / name).mkdir(mode=0o700)
    settings = _prepare_observatory(folder)
    for one in (home, folder / story.LAPTOP, folder / story.BOX):
        write_private(one / "settings.toml", settings)
    _prepare_links(folder)
    return secrets


def _prepare_observatory(folder: Path) -> bytes:
    """Its certificate, and the key that it signs with; the settings of those who ask it."""
    home = folder / "observatory"
    home.mkdir(mode=0o700, exist_ok=True)
    authority = make_authority(story.OBSERVATORY_NAME)
    write_certificate((home / "certificate.pem", home / "key.pem"), authority, story.OBSERVATORY_NAME)
    write_private(folder / story.OBSERVATORY_AUTHORITY, authority.pem())
    key = public_text(load_or_make(folder / story.OBSERVATORY_KEY).public_key())
    lines = {
        "observatory": story.OBSERVATORY_URL,
        "observatory_key": key,
        "observatory_authority": str(folder / story.OBSERVATORY_AUTHORITY),
    }
    return "".join(f'{name} = "{value}"\n' for name, value in lines.items()).encode()


def _prepare_links(folder: Path) -> None:
    """For the administrator's server of links: its certificate with its key, and whom its callers trust."""
    authority = make_authority(story.OFFICE_PROVIDER)
    write_private(folder / story.LINKS_AUTHORITY, authority.pem())
    write_certificate((folder / story.LINKS_CERTIFICATE, folder / story.LINKS_KEY), authority, story.LINKS_NAME)


def start_keeper(folder: Path) -> None:
    """Fork the keeper and wait until the lab is up. Raises :class:`MachineError` with what is missing."""
    # Loaded once here, so that ten hosts need not load it ten times.
    importlib.import_module("zesty_burrow.host.netlink")
    secrets = prepare_folder(folder)
    reading, writing = os.pipe()
    sys.stdout.flush()
    sys.stderr.flush()
    pid = os.fork()
    if pid == 0:
        os.close(reading)
        _keeper_process(folder, secrets, writing)
    os.close(writing)
    with os.fdopen(reading, "rb") as stream:
        line = stream.readline()
    document = json.loads(line) if line else {"error": "its first process ended without a message"}
    if "error" in document:
        os.waitpid(pid, 0)
        raise MachineError(
            "the lab could not be started",
            why=document["error"],
            next_step="It needs network and mount namespaces, and without root user namespaces; "
            "see docs/lab.md for what to allow.",
            slug="lab-not-started",
        )


def _keeper_process(folder: Path, secrets: Secrets, ready: int) -> None:
    """Never returns."""
    try:
        os.setsid()
        log = os.open(folder / "log", os.O_WRONLY | os.O_CREAT | os.O_APPEND | os.O_CLOEXEC, 0o600)
        nothing = os.open(os.devnull, os.O_RDONLY)
        for source, target in ((nothing, 0), (log, 1), (log, 2)):
            os.dup2(source, target)
        listening = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM | socket.SOCK_NONBLOCK | socket.SOCK_CLOEXEC)
        before = os.umask(0o177)
        listening.bind(str(folder / "control"))
        os.umask(before)
        listening.listen(64)
        builder = os.fork()
        if builder == 0:
            _builder_process(folder, secrets, ready)

        async def keep() -> None:
            await Keeper(folder, ready).run(builder, listening)

        asyncio.run(keep())
        shutil.rmtree(folder, ignore_errors=True)
    except BaseException:
        traceback.print_exc()
    os._exit(0)


def _builder_process(folder: Path, secrets: Secrets, ready: int) -> None:
    """Between the keeper and the hub: makes the namespaces, forks the hub into them, waits for it. Never returns."""
    try:
        try:
            enter_fresh_namespaces()
        except OSError as problem:
            os.write(ready, json.dumps({"error": str(problem)}).encode() + b"\n")
            os._exit(1)
        hub = os.fork()
        if hub == 0:
            os.close(ready)
            signal_number = signal.SIGKILL
            from zesty_burrow.host.namespaces import die_with_parent

            die_with_parent(signal_number)
            build(folder, secrets, folder / "control")
        os.waitpid(hub, 0)
    except BaseException:
        traceback.print_exc()
    os._exit(1)
