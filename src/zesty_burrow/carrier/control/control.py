"""The control socket: one JSON document a line each way, for the owner only. Its owner polls ``take_requests``."""

from __future__ import annotations

import asyncio
import json
import os
import socket
import struct
from collections import deque
from contextlib import suppress
from pathlib import Path
from typing import Any

from zesty_burrow.records import dataclass, field

MAX_REQUEST, MAX_BODY = 4096, 2 << 20
"""Octets of a request; and of what may follow it."""
TURNS = 5
"""Of the event loop, after which a connection has become a call, and a closed one is closed."""
TIMEOUT, LONGEST = 5.0, 180.0
"""Seconds: for a call, and for one whose answer takes as long as a sign-in."""


@dataclass(frozen=True, slots=True)
class Request:
    """A call by its name; ``answer`` is to be set once. ``body``: what came with it, without its values in traces."""

    call: str
    answer: asyncio.Future[dict[str, Any]]
    body: dict[str, Any] = field(default_factory=dict, repr=False)


class ControlServer:
    """Takes calls by name; ``wake`` is set when there is one. Removes its socket at the end."""

    def __init__(self, path: Path, wake: asyncio.Event) -> None:
        self._path = path
        self._wake = wake
        self._requests: deque[Request] = deque()
        self._server: asyncio.Server | None = None
        self._calls: set[asyncio.Task[None]] = set()

    async def start(self) -> None:
        """Listen. The socket is the owner's only, from its first moment."""
        self._path.unlink(missing_ok=True)
        before = os.umask(0o177)
        try:
            self._server = await asyncio.start_unix_server(self._connected, str(self._path), limit=MAX_REQUEST)
        finally:
            os.umask(before)

    async def stop(self) -> None:
        if self._server is not None:
            for listening in self._server.sockets:
                # First: what was taken and is no call yet would be lost with the server, its socket left open.
                asyncio.get_running_loop().remove_reader(listening.fileno())
            await _turns()
            self._server.close()
            # Calls that meet the end are cut off; their callers see the connection close.
            for task in self._calls:
                task.cancel()
            await asyncio.gather(*self._calls, return_exceptions=True)
            await _turns()
            await self._server.wait_closed()
        self._path.unlink(missing_ok=True)

    def take_requests(self) -> list[Request]:
        """The calls since the last time."""
        requests = list(self._requests)
        self._requests.clear()
        return requests

    def _connected(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        task = asyncio.get_running_loop().create_task(self._serve(reader, writer))
        self._calls.add(task)

        def ended(task: asyncio.Task[None]) -> None:
            self._calls.discard(task)
            # Also where it was cut off before its first step.
            writer.close()

        task.add_done_callback(ended)

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with suppress(OSError, ValueError, EOFError, asyncio.TimeoutError):
            credentials = writer.get_extra_info("socket").getsockopt(socket.SOL_SOCKET, socket.SO_PEERCRED, 12)
            _, uid, _ = struct.unpack("3i", credentials)
            if uid in (0, os.geteuid()):
                line = await asyncio.wait_for(reader.readline(), TIMEOUT)
                answer = await self._answer(json.loads(line), reader)
                writer.write(json.dumps(answer).encode() + b"\n")
                await asyncio.wait_for(writer.drain(), TIMEOUT)

    async def _answer(self, request: Any, reader: asyncio.StreamReader) -> dict[str, Any]:
        call = request.get("call") if isinstance(request, dict) else None
        if not isinstance(call, str):
            return {"error": "a call is needed"}
        size = request.get("octets", 0)
        if not isinstance(size, int) or not 0 <= size <= MAX_BODY:
            return {"error": f"what follows a call has at most {MAX_BODY} octets"}
        body = json.loads(await asyncio.wait_for(reader.readexactly(size), TIMEOUT)) if size else {}
        if not isinstance(body, dict):
            return {"error": "what follows a call is one JSON object"}
        answer: asyncio.Future[dict[str, Any]] = asyncio.get_running_loop().create_future()
        self._requests.append(Request(call, answer, body))
        self._wake.set()
        return await asyncio.wait_for(answer, LONGEST if size else TIMEOUT)


async def _turns() -> None:
    for _ in range(TURNS):
        await asyncio.sleep(0)
