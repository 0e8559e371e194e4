"""Datagrams by a SOCKS 5 proxy whose part is played here, octet by octet from RFC 1928 and RFC 1929."""

from __future__ import annotations

import asyncio
import socket

import pytest

from zesty_burrow.carrier.ports.relayed_port import HELD, RelayedPort
from zesty_burrow.core.credentials import ProxyPassword
from zesty_burrow.core.proxy import ProxyRoute
from zesty_burrow.core.secret import Secret
from zesty_burrow.errors import ProxyFailed

TARGET = ("198.51.100.18", 4500)
HEAD = bytes.fromhex("000000 01 c6336412 1194")
GREETING, REQUEST = b"\x05\x01\x00", b"\x05\x03\x00\x01" + bytes(6)


class Proxy:
    """At 127.0.0.1: a listening socket, and a UDP one for each time that datagrams are to be passed on."""

    def __init__(self):
        self.listening = socket.create_server(("127.0.0.1", 0))
        self.listening.setblocking(False)
        self.loop = asyncio.get_running_loop()
        self.open = [self.listening]

    async def accept(self, answers=(b"\x05\x00",), expected=(GREETING, REQUEST)):
        """A connection on which each expected message but the last is answered."""
        connection, _ = await self.loop.sock_accept(self.listening)
        self.open.append(connection)
        for wanted, answer in zip(expected, (*answers, b""), strict=True):
            assert await self.loop.sock_recv(connection, 4096) == wanted
            await self.loop.sock_sendall(connection, answer)
        return connection

    async def relay(self, connection, host=b"\x7f\x00\x00\x01"):
        """Say that datagrams are taken."""
        channel = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        channel.bind(("127.0.0.1", 0))
        channel.setblocking(False)
        self.open.append(channel)
        port = channel.getsockname()[1]
        await self.loop.sock_sendall(connection, b"\x05\x00\x00\x01" + host + port.to_bytes(2))
        return channel

    def route(self, own=None):
        return ProxyRoute("socks5", "the proxy", self.listening.getsockname(), TARGET, own)


def played(play):
    """Run ``play(proxy)``; all sockets end with it."""

    async def whole():
        async with asyncio.timeout(10):
            proxy = Proxy()
            try:
                await play(proxy)
            finally:
                for one in proxy.open:
                    one.close()

    asyncio.run(whole())


async def has_come(port):
    """The next datagrams at the port."""
    while not (found := port.receive()):
        await asyncio.sleep(0.01)
    return [(bytes(one.view[one.start : one.start + one.total]), one.source) for one in found]


@pytest.mark.parametrize("host", [b"\x7f\x00\x00\x01", bytes(4)])
def test_datagrams_both_ways(host):
    """What is sent before the proxy has answered waits; each has its header; what others send is skipped."""

    async def play(proxy):
        port = RelayedPort(proxy.route())
        port.send(b"early", TARGET)
        assert port.silent_proxy == "the proxy"
        port.send(b"early too", ("2001:db8::1", 500))
        relay = await proxy.relay(await proxy.accept(), host)
        got, client = await proxy.loop.sock_recvfrom(relay, 4096)
        assert got == HEAD + b"early" and not port.silent_proxy
        assert (await proxy.loop.sock_recv(relay, 4096)).hex() == (
            "00000004" + "20010db8" + 11 * "00" + "01" + "01f4" + b"early too".hex()
        )
        port.send_many([b"one", b"two"], TARGET)
        assert [await proxy.loop.sock_recv(relay, 4096) for _ in range(2)] == [HEAD + b"one", HEAD + b"two"]
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as stranger:
            stranger.sendto(HEAD + b"forged", client)
        relay.sendto(b"\0\0\1" + HEAD[3:] + b"a piece", client)
        relay.sendto(HEAD[:3], client)
        relay.sendto(HEAD + b"answer", client)
        assert await has_come(port) == [(b"answer", TARGET)]
        port.close()
        assert port.descriptor == -1

    played(play)


def test_no_more_is_held_than_a_little():
    async def play(proxy):
        port = RelayedPort(proxy.route())
        for number in range(3 * HELD):
            port.send(bytes([number]), TARGET)
        relay = await proxy.relay(await proxy.accept())
        got = [await proxy.loop.sock_recv(relay, 4096) for _ in range(HELD)]
        assert got == [HEAD + bytes([number]) for number in range(HELD)]
        with pytest.raises(TimeoutError):
            async with asyncio.timeout(0.1):
                await proxy.loop.sock_recv(relay, 4096)
        port.close()

    played(play)


@pytest.mark.parametrize("how", ["ended", "moved"])
def test_a_connection_that_ends(how):
    """It is made again, by the other side's end or by this machine's move, and the session is told."""

    async def play(proxy):
        port, anew = RelayedPort(proxy.route()), asyncio.Event()
        port.on_anew = anew.set
        first = await proxy.accept()
        await proxy.relay(first)
        await asyncio.sleep(0.05)
        if how == "ended":
            first.close()
        else:
            port.ask_anew()
        relay = await proxy.relay(await proxy.accept())
        await anew.wait()
        port.send(b"again", TARGET)
        assert await proxy.loop.sock_recv(relay, 4096) == HEAD + b"again"
        port.close()

    played(play)


@pytest.mark.parametrize("how", ["nobody", "ended"])
def test_a_proxy_that_never_was_there(how):
    """Nobody listens, or somebody ends the connection at once: an error of the proxy's, not another attempt."""

    async def play(proxy):
        if how == "nobody":
            proxy.listening.close()
            proxy.listening = socket.create_server(("127.0.0.1", 0))
            route = proxy.route()
            proxy.listening.close()
        else:
            route = proxy.route()
        port, failed = RelayedPort(route), asyncio.Event()
        problems = []
        port.on_failure = lambda problem: (problems.append(problem), failed.set())
        if how == "ended":
            (await proxy.loop.sock_accept(proxy.listening))[0].close()
        await failed.wait()
        assert isinstance(problems[0], ProxyFailed) and "refuses the connection" in problems[0].why
        port.close()

    played(play)


@pytest.mark.parametrize(
    ("own", "expected", "answers", "why"),
    [
        (None, (GREETING, b""), (b"\x05\xff",), "wants a name and a password"),
        (None, (GREETING, REQUEST, b""), (b"\x05\x00", b"\x05\x07\x00\x01" + bytes(6)), "does not know this command"),
        (None, (GREETING, REQUEST, b""), (b"\x05\x00", b"\x05\x00\x00\x01\xc0\x00\x02\x01\x00\x50"), "not at its own"),
        (None, (GREETING, b""), (b"HTTP/1.1 400 Bad\r\n\r\n",), "begins with 72"),
        (
            ProxyPassword("kelp", Secret("forest 42")),
            (b"\x05\x02\x00\x02", b"\x01\x04kelp\x09forest 42", b""),
            (b"\x05\x02", b"\x01\x01"),
            "not accepted",
        ),
    ],
)
def test_a_proxy_that_does_not_pass_them_on(own, expected, answers, why):
    """The session is told, and the proxy is not asked again."""

    async def play(proxy):
        port, failed = RelayedPort(proxy.route(own)), asyncio.Event()
        problems = []
        port.on_failure = lambda problem: (problems.append(problem), failed.set())
        accepted = asyncio.ensure_future(proxy.accept(answers, expected))
        await failed.wait()
        (problem,) = problems
        assert isinstance(problem, ProxyFailed) and why in problem.why and "forest" not in str(problem)
        port.send(b"x", TARGET)
        with pytest.raises(BlockingIOError):
            proxy.listening.accept()
        accepted.cancel()
        port.close()

    played(play)
