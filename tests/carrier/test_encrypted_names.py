"""DNS over TLS to an announced resolver, played by dnspython behind a real TLS server; and by resolvers that go wrong."""

from __future__ import annotations

import asyncio
import ssl
from ipaddress import ip_address, ip_network

import dns.message
import dns.rrset
import pytest

from zesty_burrow.carrier.network.encrypted_names import TlsNameServer, by_tls
from zesty_burrow.core.dns.encrypted_resolver import EncryptedResolver
from zesty_burrow.lab.authority import make_authority, make_key, use_certificate

NAME = "resolver.office.tidewrack.example"
HOME = ip_address("127.0.0.1")
AUTHORITY = make_authority("Tidewrack Survey")
STRANGER = make_authority("Somebody Else")


def query(number, kind="A"):
    return dns.message.make_query(f"n{number}.office.tidewrack.example", kind, id=4711)


def answered(data):
    asked = dns.message.from_wire(data)
    answer = dns.message.make_response(asked)
    number = str(asked.question[0].name).partition(".")[0][1:]
    answer.answer.append(dns.rrset.from_text(asked.question[0].name, 60, "IN", "A", f"10.20.1.{number}"))
    return answer.to_wire()


async def serve(reader, writer, behave):
    waiting = []
    try:
        while True:
            data = await reader.readexactly(int.from_bytes(await reader.readexactly(2)))
            for one in behave(data, waiting):
                writer.write(len(one).to_bytes(2) + one)
            await writer.drain()
    except (EOFError, OSError, IndexError):
        writer.close()


def in_turn(data, _):
    return [answered(data)]


def backwards(data, waiting):
    """Only once there are three, and the last one first."""
    waiting.append(answered(data))
    return [waiting.pop(), waiting.pop(), waiting.pop()] if len(waiting) == 3 else []


def another(data, _):
    return [answered(data[:2] + query(99).to_wire()[2:])]


def closing(data, waiting):
    raise EOFError


def with_server(behave, act, authority=AUTHORITY, name=NAME):
    async def run():
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        use_certificate(context, authority, make_key("ecdsa"), name)
        connections = []

        async def connected(reader, writer):
            connections.append(writer)
            await serve(reader, writer, behave)

        server = await asyncio.start_server(connected, str(HOME), 0, ssl=context)
        port = server.sockets[0].getsockname()[1]
        one = TlsNameServer(EncryptedResolver(1, NAME, (HOME,), ("dot",), port), HOME, [AUTHORITY.pem().decode()])
        try:
            await act(one, connections)
        finally:
            one.close()
            server.close()
            for writer in connections:
                writer.close()
            await asyncio.sleep(0.05)

    asyncio.run(run())


@pytest.mark.parametrize("behave", [in_turn, backwards])
def test_answers_find_their_questions(behave):
    """Questions of one identifier at one time, by one connection, answered in any order; the identifier comes back."""

    async def act(one, connections):
        wires = [query(number).to_wire() for number in (1, 2, 3)]
        for wire, answer in zip(wires, await asyncio.gather(*map(one.ask, wires)), strict=True):
            told = dns.message.from_wire(answer)
            assert dns.message.from_wire(wire).is_response(told)
            assert str(told.answer[0][0]) == f"10.20.1.{str(told.question[0].name)[1]}"
        assert one.state == "in use" and len(connections) == 1

    with_server(behave, act)


@pytest.mark.parametrize(
    ("behave", "authority", "name", "why"),
    [
        (in_turn, STRANGER, NAME, "self-signed certificate|unable to get local issuer"),
        (in_turn, AUTHORITY, "files.office.tidewrack.example", "Hostname mismatch"),
        (another, AUTHORITY, NAME, "another question"),
        (closing, AUTHORITY, NAME, "closed|reset|EOF"),
    ],
)
def test_one_that_is_not_used(behave, authority, name, why):
    """No proof, no answer: the reason is said, and for a while it is not tried again."""

    async def act(one, connections):
        assert await one.ask(query(1).to_wire()) is None
        assert one.state.startswith("not used: ")
        assert any(part in one.state for part in why.split("|")), one.state
        before = len(connections)
        assert await one.ask(query(2).to_wire()) is None and len(connections) == before

    with_server(behave, act, authority, name)


def test_it_is_connected_again():
    """A resolver that has closed an idle connection is asked by a new one."""

    async def act(one, connections):
        assert await one.ask(query(1).to_wire())
        connections[0].close()
        await asyncio.sleep(0.1)
        assert await one.ask(query(2).to_wire()) and len(connections) == 2

    with_server(in_turn, act)


def test_which_one():
    """The first by DNS over TLS whose address is inside the tunnel."""
    inside = [ip_network("10.20.0.0/16")]
    outside = EncryptedResolver(1, "far.example", (ip_address("203.0.113.1"),), ("dot",))
    web = EncryptedResolver(2, "web.example", (ip_address("10.20.0.1"),), ("h2",))
    both = EncryptedResolver(3, NAME, (ip_address("203.0.113.1"), ip_address("10.20.0.53")), ("h2", "dot"))
    assert by_tls([outside, web, both], inside) == (both, ip_address("10.20.0.53"))
    assert by_tls([outside, web], inside) is None
