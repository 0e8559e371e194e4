"""The page of a captive portal: a user who accepts the rules on it is let out (status code 511, RFC 6585 §6)."""

from __future__ import annotations

import asyncio
import re
from collections.abc import Callable
from contextlib import suppress

PORT = 8080
SECONDS = 5.0
QUESTION = """<!doctype html>
<html lang="en"><title>Guests</title><h1>Guests</h1>
<p>Accept the rules of the house to go on.</p><form method="post" action="/accept"><button>Accept</button></form></html>
"""
WELCOME = """<!doctype html>
<html lang="en"><title>Guests</title><p>Welcome.</p></html>
"""


class GuestPage:
    """Calls ``accepted`` when somebody has accepted the rules."""

    def __init__(self, accepted: Callable[[], None]) -> None:
        self._accepted = accepted

    async def start(self, *addresses: str) -> None:
        await asyncio.start_server(self._serve, addresses, PORT)

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with suppress(
            OSError, ValueError, asyncio.TimeoutError, asyncio.IncompleteReadError, asyncio.LimitOverrunError
        ):
            head = await asyncio.wait_for(reader.readuntil(b"\r\n\r\n"), SECONDS)
            status, page = "511 Network Authentication Required", QUESTION
            if head.startswith(b"POST /accept "):
                # A form's content, which says nothing; read so that the connection can end in order.
                length = re.search(rb"(?i)\r\ncontent-length: *([0-9]{1,4})\r\n", head)
                await asyncio.wait_for(reader.readexactly(int(length[1]) if length else 0), SECONDS)
                self._accepted()
                status, page = "200 OK", WELCOME
            body = page.encode()
            answer = f"HTTP/1.1 {status}\r\nContent-Type: text/html; charset=utf-8\r\nContent-Length: {len(body)}\r\n"
            writer.write(f"{answer}Cache-Control: no-store\r\nConnection: close\r\n\r\n".encode() + body)
            await asyncio.wait_for(writer.drain(), SECONDS)
        writer.close()
