"""A resolver that answers every name with an address of its own."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from typing import Any

import dns.exception
import dns.flags
import dns.message
import dns.rdatatype
import dns.rrset

TTL = 30


class RogueResolver(asyncio.DatagramProtocol):
    """At ``address4``; it answers while ``is_on()``."""

    def __init__(self, address4: str, address6: str, is_on: Callable[[], bool]) -> None:
        self._answers = {dns.rdatatype.A: address4, dns.rdatatype.AAAA: address6}
        self._address = address4
        self._is_on = is_on
        self._transport: Any = None

    async def start(self) -> None:
        await asyncio.get_running_loop().create_datagram_endpoint(lambda: self, local_addr=(self._address, 53))

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self._transport = transport

    def datagram_received(self, data: bytes, addr: tuple[Any, ...]) -> None:
        answer = self._answer(data) if self._is_on() else b""
        if answer:
            self._transport.sendto(answer, addr)

    def _answer(self, data: bytes) -> bytes:
        try:
            query = dns.message.from_wire(data)
        except (dns.exception.DNSException, ValueError):
            return b""
        if query.flags & dns.flags.QR or len(query.question) != 1:
            return b""
        asked = query.question[0]
        response = dns.message.make_response(query)
        if asked.rdtype in self._answers:
            response.answer.append(
                dns.rrset.from_text(asked.name, TTL, "IN", asked.rdtype, self._answers[asked.rdtype])
            )
        return response.to_wire()
