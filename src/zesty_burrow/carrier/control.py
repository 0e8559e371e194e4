"""The control socket: one JSON document a line each way, for the owner only."""

from __future__ import annotations

import asyncio
import json
import os
import socket
import struct
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from typing import Any

MAX_REQUEST = 4096
PATIENCE = 5.0

Answer = Callable[[str], dict[str, Any]]


class ControlServer:
    """Answers calls by name through ``answer``; removes its socket at the end."""

    def __init__(self, path: Path, answer: Answer) -> None:
        self._path = path
        self._answer = answer
        self._server: asyncio.Server | None = None

    async def start(self) -> None:
        """Listen. The socket is the owner's only, from its first moment."""
        self._path.unlink(missing_ok=True)
        before = os.umask(0o177)
        try:
            self._server = await asyncio.start_unix_server(self._serve, str(self._path), limit=MAX_REQUEST)
        finally:
            os.umask(before)

    async def stop(self) -> None:
        """Stop listening."""
        if self._server is not None:
            self._server.close()
            await self._server.wait_closed()
        self._path.unlink(missing_ok=True)

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with suppress(OSError, ValueError, asyncio.TimeoutError):
            credentials = writer.get_extra_info("socket").getsockopt(socket.SOL_SOCKET, socket.SO_PEERCRED, 12)
            _, uid, _ = struct.unpack("3i", credentials)
            if uid in (0, os.geteuid()):
                line = await asyncio.wait_for(reader.readline(), PATIENCE)
                request = json.loads(line)
                call = request.get("call") if isinstance(request, dict) else None
                answer = self._answer(call) if isinstance(call, str) else {"error": "a call is wanted"}
                writer.write(json.dumps(answer).encode() + b"\n")
                await asyncio.wait_for(writer.drain(), PATIENCE)
        writer.close()
        with suppress(OSError):
            await writer.wait_closed()
