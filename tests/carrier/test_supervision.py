"""What the supervisor is made of: its table of states, sessions joined to sockets, requests, addresses, counters."""

from __future__ import annotations

import asyncio
import resource
import socket
import stat
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import pytest

from zesty_burrow.carrier.control.control import ControlServer
from zesty_burrow.carrier.control.control_client import ask, call_with
from zesty_burrow.carrier.control.totals import Totals
from zesty_burrow.carrier.network import addresses
from zesty_burrow.carrier.network.addresses import look_up, try_each
from zesty_burrow.carrier.ports.framed_port import FramedPort
from zesty_burrow.carrier.ports.stream_port import FULL, StreamPort
from zesty_burrow.carrier.ports.udp_port import UdpPort
from zesty_burrow.carrier.ports.udp_socket import udp_socket
from zesty_burrow.carrier.session_io import RECONNECT, SessionIo
from zesty_burrow.carrier.supervision.states import TRANSITIONS, StateMachine, TunnelSignal, TunnelState
from zesty_burrow.core.net import Datagram
from zesty_burrow.errors import GatewayElsewhere, GatewayUnreachable, ProgramFault, SignInRefused, StateError
from zesty_burrow.protocols.ikev2.wire.stream_framing import PREFIX, StreamFraming

S, G = TunnelState, TunnelSignal


# States.


@pytest.mark.parametrize(
    ("signals", "end"),
    [
        ([G.START, G.RESOLVED, G.REACHED, G.CONFIGURED, G.END, G.ENDED], S.DOWN),
        ([G.START, G.RESOLVED, G.NEXT, G.REACHED, G.NEXT, G.REACHED, G.CONFIGURED], S.UP),
        ([G.START, G.RESOLVED, G.REACHED, G.CONFIGURED, G.LOSE, G.RETRY, G.FAILED, G.RETRY, G.CONFIGURED], S.UP),
        ([G.START, G.FAILED, G.RETRY, G.NEXT, G.FAILED, G.RETRY, G.REACHED, G.CONFIGURED], S.UP),
        ([G.START, G.RESOLVED, G.FAILED, G.END, G.ENDED], S.DOWN),
    ],
)
def test_ways_through_the_states(signals, end):
    """A tunnel that comes and goes, one that needs three addresses, one that is lost and returns, one that fails."""
    machine = StateMachine()
    for signal in signals:
        machine.signal(signal)
    assert machine.state is end


def test_every_state_with_every_signal():
    """What is not in the table is a fault, and changes nothing; every state can be reached, and ended."""
    ways = {S.DOWN: []}
    waiting = [S.DOWN]
    while waiting:
        state = waiting.pop()
        for signal in G:
            target = TRANSITIONS.get((state, signal))
            if target is not None and target not in ways:
                ways[target] = [*ways[state], signal]
                waiting.append(target)
    assert set(ways) == set(S)
    for state, way in ways.items():
        assert state is S.DOWN or TRANSITIONS[state, G.END] is S.ENDING
        for signal in G:
            machine = StateMachine()
            for step in way:
                machine.signal(step)
            if (state, signal) in TRANSITIONS:
                assert machine.signal(signal) is TRANSITIONS[state, signal]
            else:
                with pytest.raises(ProgramFault):
                    machine.signal(signal)
                assert machine.state is state


# A session on sockets.


class Echo:
    """A machine that answers each datagram with itself backwards, and says what it got."""

    def __init__(self, port, timer=None):
        self.port, self.timer, self.out, self.events, self.times = port, timer, [], [], 0

    def receive(self, data, source, now, local_port):
        if data == b"fault":
            raise ZeroDivisionError
        assert local_port == self.port
        self.out.append(Datagram(data[::-1], local_port, source))
        self.events.append(data)

    def send(self, now):
        found, self.out = self.out, []
        return found

    def next_timer(self):
        return self.timer

    def handle_timer(self, now):
        self.times, self.timer = self.times + 1, None
        self.events.append("time")

    def next_event(self):
        return self.events.pop(0) if self.events else None


class Path:
    """A path that keeps what begins with a P."""

    def __init__(self):
        self.kept = []

    def go_on(self):
        pass

    def inbound(self, burst):
        every = list(burst.datagrams())
        self.kept += [one for one in every if one[:1] == b"P"]
        return None, [one for one in every if one[:1] != b"P"]


async def on_sockets(act, timer=None):
    """``act(io, machine, other, wake)`` with a machine on a loopback socket."""
    channel = udp_socket(socket.AF_INET)
    channel.bind(("127.0.0.1", 0))
    number, wake = channel.getsockname()[1], asyncio.Event()
    machine = Echo(4500, timer)
    io = SessionIo(machine, {4500: UdpPort(channel)}, wake)
    other = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    other.settimeout(5)
    other.connect(("127.0.0.1", number))
    try:
        await act(io, machine, other, wake)
    finally:
        io.close()
        other.close()


def test_a_session_is_polled():
    """Datagrams reach the machine, its answers the network, its events the poller, in order; packets go to the path."""

    async def act(io, machine, other, wake):
        other.send(b"abc")
        await asyncio.wait_for(wake.wait(), 5)
        assert io.take_events() == [b"abc"]
        assert io.take_events() == []
        assert other.recv(100) == b"cba"
        io.path = Path()
        wake.clear()
        other.send(b"Packet")
        other.send(b"xyz")
        await asyncio.wait_for(wake.wait(), 5)
        assert io.take_events() == [b"xyz"]
        assert io.path.kept == [b"Packet"]
        assert other.recv(100) == b"zyx"

    asyncio.run(on_sockets(act))


def test_a_session_s_timer():
    """The machine's time comes once, and is an event like others."""

    async def act(io, machine, other, wake):
        machine.timer = io.now() + 0.01
        io.flush()
        await asyncio.wait_for(wake.wait(), 5)
        assert io.take_events() == ["time"]
        assert machine.times == 1

    asyncio.run(on_sockets(act))


def test_a_machine_that_fails():
    """What it raises becomes an error of ours where it is polled, once, with what it was; the socket goes on."""

    async def act(io, machine, other, wake):
        other.send(b"fault")
        await asyncio.wait_for(wake.wait(), 5)
        with pytest.raises(ProgramFault, match="ZeroDivisionError"):
            io.take_events()
        wake.clear()
        other.send(b"ok")
        await asyncio.wait_for(wake.wait(), 5)
        assert io.take_events() == [b"ok"]

    asyncio.run(on_sockets(act))


def test_a_session_over_a_byte_stream():
    """What waits while the connection is made is sent; octets come as they are cut on the way; the end is told once."""

    class Stream(Echo):
        def receive(self, data, source, now, local_port):
            self.events.append(bytes(data))
            if data == b"more":
                self.out.append(Datagram(b"x" * 600_000, local_port, source))

    async def act():
        loop = asyncio.get_running_loop()
        listening = socket.create_server(("127.0.0.1", 0))
        listening.setblocking(False)
        wake = asyncio.Event()
        port = StreamPort(listening.getsockname())
        machine = Stream(0)
        io = SessionIo(machine, {0: port}, wake)
        machine.out.append(Datagram(b"hello", 0, ("", 0)))
        io.flush()
        other, _ = await loop.sock_accept(listening)
        assert await asyncio.wait_for(loop.sock_recv(other, 100), 5) == b"hello"
        await loop.sock_sendall(other, b"more")
        came = 0
        while came < 600_000:
            came += len(await asyncio.wait_for(loop.sock_recv(other, 1 << 16), 5))
        other.close()
        events = []
        while b"" not in events:
            await asyncio.wait_for(wake.wait(), 5)
            wake.clear()
            events += io.take_events()
        await asyncio.sleep(0.05)
        assert (events, io.take_events(), came) == ([b"more", b""], [], 600_000)
        io.close()
        listening.close()

    asyncio.run(act())


def test_a_stream_that_leads_nowhere():
    """A refused connection is the end of the stream; what cannot wait any longer is refused."""

    async def act():
        unused = socket.create_server(("127.0.0.1", 0))
        peer = unused.getsockname()
        unused.close()
        wake = asyncio.Event()
        machine = Echo(0)
        machine.receive = lambda data, *_: machine.events.append(data)
        io = SessionIo(machine, {0: StreamPort(peer)}, wake)
        await asyncio.wait_for(wake.wait(), 5)
        assert io.take_events() == [b""]
        io.close()
        full = StreamPort(("192.0.2.1", 9))
        full.send(bytes(FULL + 1), ("", 0))
        assert full.is_full
        full.close()

    asyncio.run(act())


def test_a_connection_is_made_again():
    """A lost connection is made anew, also where there was no free descriptor at the first attempt."""

    async def act():
        loop = asyncio.get_running_loop()
        listening = socket.create_server(("127.0.0.1", 0))
        listening.setblocking(False)
        io = SessionIo(Echo(4500), {4500: FramedPort(listening.getsockname(), StreamFraming())}, asyncio.Event())
        first, _ = await asyncio.wait_for(loop.sock_accept(listening), 5)
        assert await asyncio.wait_for(loop.sock_recv(first, 100), 5) == PREFIX
        limits = resource.getrlimit(resource.RLIMIT_NOFILE)
        resource.setrlimit(resource.RLIMIT_NOFILE, (3, limits[1]))
        try:
            first.close()
            await asyncio.sleep(RECONNECT + 0.3)
        finally:
            resource.setrlimit(resource.RLIMIT_NOFILE, limits)
        second, _ = await asyncio.wait_for(loop.sock_accept(listening), 5)
        assert await asyncio.wait_for(loop.sock_recv(second, 100), 5) == PREFIX
        assert io.failure is None
        second.close()
        io.close()
        listening.close()

    asyncio.run(act())


# Requests.


def test_requests_are_polled(tmp_path):
    """A call waits for the poller's answer; the socket is the owner's, and gone afterwards; rubbish is no call."""
    path = tmp_path / "control"

    async def serve():
        wake = asyncio.Event()
        server = ControlServer(path, wake)
        await server.start()
        assert stat.S_IMODE(path.stat().st_mode) == 0o600
        asking = asyncio.create_task(asyncio.to_thread(ask, path, "status"))
        await asyncio.wait_for(wake.wait(), 5)
        (request,) = server.take_requests()
        assert server.take_requests() == []
        request.answer.set_result({"is": request.call})
        assert await asking == {"is": "status"}
        refused = await asyncio.to_thread(call_with, path, {"no": "call"})
        assert refused == {"error": "a call is needed"}
        with pytest.raises(StateError):
            await asyncio.to_thread(call_with, path, {"call": "x" * 10_000})
        await server.stop()

    asyncio.run(serve())
    assert not path.exists()
    assert ask(path, "status") is None


def test_a_process_that_ends_while_it_is_asked(tmp_path):
    """It is as if none ran; one that hangs up and goes on is an error."""
    path = tmp_path / "control"
    with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as listener, ThreadPoolExecutor() as pool:
        listener.bind(str(path))
        listener.listen()
        asking = pool.submit(ask, path, "status")
        with listener.accept()[0] as channel:
            channel.recv(1000)
        listener.close()
        assert asking.result(10) is None


# Addresses.


def tried(answers, names=None, monkeypatch=None):
    """What ``try_each`` does with addresses, each with its answer: a value or an error."""
    asked = []

    async def attempt(address, origin):
        asked.append((address, origin))
        answer = answers[address]
        if isinstance(answer, Exception):
            raise answer
        return answer

    if names:
        monkeypatch.setattr(addresses, "look_up", lambda found: [names[found[0]]])
    try:
        return asyncio.run(try_each(list(answers)[:2], attempt)), asked
    except Exception as problem:
        return problem, asked


def test_only_silence_leads_to_the_next_address():
    """A silent gateway is passed over; one that refuses is not."""
    silent, refused = GatewayUnreachable("silent"), SignInRefused("refused")
    assert tried({"a": silent, "b": 7}) == (7, [("a", ""), ("b", "")])
    assert tried({"a": silent, "b": silent}) == (silent, [("a", ""), ("b", "")])
    assert tried({"a": refused, "b": 7}) == (refused, [("a", "")])
    assert isinstance(asyncio.run(no_addresses()), GatewayUnreachable)


async def no_addresses():
    try:
        return await try_each([], None)
    except GatewayUnreachable as problem:
        return problem


def test_a_redirect_is_followed(monkeypatch):
    """With the address that it came from; a circle ends after a few (RFC 5685 §7)."""
    there = GatewayElsewhere("elsewhere", to="b.example")
    result, asked = tried({"a": there, "c": 0, "b": 5}, {"b.example": "b"}, monkeypatch)
    assert (result, asked) == (5, [("a", ""), ("b", "a")])
    result, asked = tried({"a": GatewayElsewhere("again", to="a.example")}, {"a.example": "a"}, monkeypatch)
    assert isinstance(result, GatewayElsewhere)
    assert len(asked) == addresses.MAX_REDIRECTS + 1


def test_names_that_do_not_resolve():
    """The error has its own code and names each; addresses stand for themselves, once."""
    assert look_up(["192.0.2.1", "2001:db8::1", "192.0.2.1"]) == ["192.0.2.1", "2001:db8::1"]
    with pytest.raises(GatewayUnreachable) as caught:
        look_up(["x" * 80 + ".example"])
    assert caught.value.slug == "gateway-unresolved"


# Counters.


@dataclass
class Counters:
    packets_in: int
    octets_in: int
    packets_out: int
    octets_out: int
    rejected: int


@dataclass
class Channel:
    counters: Counters


def test_totals_go_over_channels():
    """What channels that are gone have counted stays; those that are there are added, and not twice."""
    totals = Totals(rekeys=2)
    totals.retire(Counters(packets_in=5, octets_in=50, packets_out=1, octets_out=9, rejected=1))
    channel = Channel(Counters(packets_in=2, octets_in=20, packets_out=3, octets_out=30, rejected=4))
    for _ in range(2):
        shown = totals.with_channels([channel])
        assert (shown["packets_in"], shown["octets_in"], shown["packets_out"], shown["rejected"]) == (7, 70, 4, 5)
        assert shown["rekeys"] == 2
