"""Handing over by SSH: a bundle to a device with this program, or files into a folder of another device.

Host keys, keys, agent, settings and jump hosts are those of OpenSSH. Nothing is sent to a host whose key is not known.
"""

from __future__ import annotations

import asyncio
import json
import secrets
import shlex
from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from zesty_burrow.extras import extra
from zesty_burrow.records import dataclass

with extra("ssh"):
    import asyncssh

from zesty_burrow.errors import InputError, Malformed, UsageError
from zesty_burrow.fleet.keys import DEVICE, PublicKey, read_key

PORT = 22
NOT_FOUND = 127
"""What a shell ends with that knows no such command."""
MOST_ANSWER = 1 << 20
MOST_PATH = 1000
SETTINGS = ("~/.ssh/config",)


@dataclass(frozen=True, slots=True)
class Target:
    """Where a device is reached. What is empty or 0 is left to the user's SSH settings."""

    host: str
    user: str = ""
    port: int = 0

    @classmethod
    def of(cls, reach: str) -> Target:
        """``ssh://USER@HOST:PORT``, or a host alone. :class:`UsageError` for anything else."""
        found = urlsplit(reach if "://" in reach else f"ssh://{reach}")
        try:
            port = found.port or 0
        except ValueError:
            port = -1
        wrong = found.path.strip("/") or found.query or found.fragment or found.password
        if found.scheme != "ssh" or not found.hostname or port < 0 or wrong or found.hostname.startswith("-"):
            raise UsageError(
                f"{reach!r:.120} is no place to reach a device at", next_step="For example ssh://root@curlew."
            )
        return cls(found.hostname, found.username or "", port)


@dataclass(frozen=True, slots=True)
class SshOptions:
    """``config``, ``known_hosts``, ``keys``: files to use instead of the user's own.

    ``program``: this program's command on the device.
    """

    timeout: float = 20.0
    config: str = ""
    known_hosts: str = ""
    keys: tuple[str, ...] = ()
    program: str = "zesty"

    def arguments(self, target: Target) -> dict[str, Any]:
        given: dict[str, Any] = {"connect_timeout": self.timeout, "login_timeout": self.timeout}
        files = [self.config] if self.config else [one for one in SETTINGS if Path(one).expanduser().is_file()]
        given["config"] = [str(Path(file).expanduser()) for file in files]
        if self.known_hosts:
            given["known_hosts"] = self.known_hosts
        if self.keys:
            given["client_keys"] = list(self.keys)
        if target.user:
            given["username"] = target.user
        if target.port:
            given["port"] = target.port
        return given


class PushFailed(InputError):
    """Handing over by SSH did not work. ``slug``: the cause, the same for all devices with the same trouble."""

    slug = "device-push"


@dataclass(frozen=True, slots=True)
class Receipt:
    """What a device has answered. ``state``: ``imported`` or ``waiting``."""

    state: str
    detail: str = ""


async def push_bundle(
    target: Target, options: SshOptions, known: str, make: Callable[[PublicKey], bytes]
) -> tuple[PublicKey, Receipt]:
    """Hand a bundle over; the device's key and answer. ``known``: its key so far, empty if unknown.

    ``make``: the bundle for a key. Raises :class:`PushFailed`.
    """
    async with _Connection(target, options) as connection:
        answer = await connection.program(["enrol", "--json"])
        try:
            key = read_key(str(answer.get("key", "")), DEVICE)
        except Malformed as problem:
            raise PushFailed(
                f"{target.host} did not send its public key", why=problem.why, slug="device-no-key"
            ) from None
        if known and key.text != known:
            raise PushFailed(
                f"{target.host} has another key than before",
                why=f"it was {read_key(known, DEVICE).code} and is {key.code}",
                next_step="If the device was set up again, take its key: zesty devices change NAME --key FILE",
                slug="device-key-changed",
            )
        name = f"{_folder(answer.get('folder'), target)}/{secrets.token_hex(8)}.bundle"
        await connection.put(name, make(key))
        try:
            answer = await connection.program(["receive", name, "--json"])
        finally:
            await connection.remove(name)
        return key, Receipt(str(answer.get("state", ""))[:40], str(answer.get("detail", ""))[:400])


def _folder(told: object, target: Target) -> str:
    """Where the device takes what is sent to it."""
    text = str(told)
    if not text.startswith("/") or not text.isprintable() or len(text) > MOST_PATH:
        raise PushFailed(
            f"{target.host} did not name its folder for bundles", why=f"{text!r:.80}", slug="device-no-folder"
        )
    return text


async def push_files(target: Target, options: SshOptions, folder: str, files: Mapping[str, bytes]) -> Receipt:
    """Put files into a folder, each with its final mode from the first moment, in their order. Raises
    :class:`PushFailed`.
    """
    async with _Connection(target, options) as connection:
        for name, data in files.items():
            fresh = f"{folder.rstrip('/')}/.{name}.{secrets.token_hex(4)}"
            await connection.put(fresh, data)
            await connection.rename(fresh, f"{folder.rstrip('/')}/{name}")
    return Receipt("imported", f"{len(files)} files in {folder}")


class _Connection:
    """One connection; what goes wrong on it becomes :class:`PushFailed`."""

    def __init__(self, target: Target, options: SshOptions) -> None:
        self._target, self._options = target, options
        self._ssh: asyncssh.SSHClientConnection | None = None
        self._sftp: asyncssh.SFTPClient | None = None

    async def __aenter__(self) -> _Connection:
        target = self._target
        try:
            self._ssh = await asyncssh.connect(target.host, **self._options.arguments(target))
        except asyncssh.HostKeyNotVerifiable as problem:
            raise PushFailed(
                f"{target.host} has not proven to be the device",
                why=f"its host key is not the one that is known ({problem.reason})",
                next_step="Compare its key there (`ssh-keygen -lf`) with that in your known hosts, then change these.",
                slug="device-host-key",
            ) from None
        except asyncssh.PermissionDenied as problem:
            raise PushFailed(
                f"{target.host} did not let us in",
                why=problem.reason,
                next_step="Check the user and the keys: `ssh` to it has to work without a question.",
                slug="device-sign-in",
            ) from None
        except (asyncssh.Error, OSError, TimeoutError, ValueError) as problem:
            why = getattr(problem, "reason", "") or getattr(problem, "strerror", "") or str(problem)
            raise PushFailed(
                f"{target.host} cannot be reached",
                why=why or f"no answer for {self._options.timeout:g} seconds",
                next_step="Check that it is switched on and in the network; then run this again.",
                slug="device-unreachable",
            ) from None
        return self

    async def __aexit__(self, *_: object) -> None:
        if self._ssh is not None:
            self._ssh.close()
            with suppress(asyncssh.Error, OSError, TimeoutError):
                await asyncio.wait_for(self._ssh.wait_closed(), 5)

    async def program(self, words: Sequence[str]) -> dict[str, Any]:
        """Run this program over there; the document that it prints."""
        line = shlex.join([self._options.program, *words])
        output, code = await self._run(line)
        try:
            document = json.loads(output)
        except (ValueError, RecursionError):
            document = None
        host = self._target.host
        if code == NOT_FOUND:
            raise PushFailed(
                f"{host} does not know the command {self._options.program}",
                why="this program is not installed there, or not on the path of that user",
                next_step="Install it there; or name a folder for files: zesty devices change NAME --folder PATH",
                slug="device-no-program",
            )
        if not isinstance(document, dict):
            raise PushFailed(
                f"the answer of {host} could not be understood", why=f"exit code {code}", slug="device-no-answer"
            )
        if document.get("result") == "error":
            words_of = [str(document.get(key, ""))[:300] for key in ("what", "why", "next_step")]
            raise PushFailed(words_of[0], why=words_of[1], next_step=words_of[2], slug=_slug(document.get("code")))
        return document

    async def _run(self, line: str) -> tuple[bytes, int]:
        if self._ssh is None:
            raise AssertionError("not connected")
        try:
            async with asyncio.timeout(self._options.timeout * 3):
                process = await self._ssh.create_process(line, encoding=None, stderr=asyncssh.DEVNULL)
                process.stdin.write_eof()
                output = b""
                while piece := await process.stdout.read(1 << 16):
                    output += piece
                    if len(output) > MOST_ANSWER:
                        process.close()
                        return b"", -1
                await process.wait_closed()
                ended = process.exit_status
        except (asyncssh.Error, OSError, TimeoutError) as problem:
            raise self._lost(problem) from None
        return output, ended if ended is not None else -1

    async def put(self, path: str, data: bytes) -> None:
        """A new file that only its owner reads."""
        try:
            sftp = await self._files()
            attributes = asyncssh.SFTPAttrs(permissions=0o600)
            async with sftp.open(path, "xb", attrs=attributes) as stream:
                await stream.write(data)
        except (asyncssh.Error, OSError, TimeoutError) as problem:
            await self.remove(path)
            raise self._lost(problem, path) from None

    async def rename(self, path: str, final: str) -> None:
        try:
            sftp = await self._files()
            await sftp.posix_rename(path, final)
        except (asyncssh.Error, OSError, TimeoutError) as problem:
            await self.remove(path)
            raise self._lost(problem, final) from None

    async def remove(self, path: str) -> None:
        """A file that may be gone already."""
        with suppress(asyncssh.Error, OSError, TimeoutError):
            await (await self._files()).remove(path)

    async def _files(self) -> asyncssh.SFTPClient:
        if self._ssh is None:
            raise AssertionError("not connected")
        if self._sftp is None:
            self._sftp = await self._ssh.start_sftp_client()
        return self._sftp

    def _lost(self, problem: BaseException, path: str = "") -> PushFailed:
        why = getattr(problem, "reason", "") or str(problem) or type(problem).__name__
        if path and isinstance(problem, asyncssh.SFTPError):
            step = "Make space there, or check the folder's rights; then run this again."
            return PushFailed(
                f"{path} cannot be written on {self._target.host}", why=why, next_step=step, slug="device-write"
            )
        step = "Run this again: it does only what is left."
        return PushFailed(
            f"the connection to {self._target.host} broke", why=why, next_step=step, slug="device-broken-off"
        )


def _slug(code: object) -> str:
    """A cause that the device tells: one word."""
    text = str(code)
    return text if text.replace("-", "").isalnum() and len(text) <= 40 else "device-push"
