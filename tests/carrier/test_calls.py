"""What a packet costs on the plain path, in calls of this program: few for one packet, fewer for each of many.

Calls are counted, not timed; the figures are those of the present code with a little room, half of what they once were.
"""

from __future__ import annotations

import asyncio
import socket
import sys

from scapy.layers.inet import IP, TCP
from scapy.packet import Raw

from carrier.ends import HERE, NOTHING, THERE, Ends
from http_ends import Wire, ip4
from zesty_burrow.carrier.data_path.data_path import DataPath
from zesty_burrow.carrier.data_path.options import PathOptions
from zesty_burrow.carrier.data_path.tunnel import QueuedTunnel
from zesty_burrow.carrier.ports.stream_port import StreamPort
from zesty_burrow.carrier.session_io import SessionIo
from zesty_burrow.host.tun import TunDevice

MANY = 16
CLAMP = PathOptions(clamp=True)


def calls_of(act):
    """How many functions of this program are called."""
    count = 0

    def note(frame, event, _):
        nonlocal count
        count += event == "call" and "/zesty_burrow/" in frame.f_code.co_filename

    sys.setprofile(note)
    try:
        act()
    finally:
        sys.setprofile(None)
    return count


def segment(source, target):
    return bytes(IP(src=source, dst=target) / TCP(sport=5, dport=6, flags="A") / Raw(b"x" * 1000))


def test_by_udp():
    """Out: at most 20 for one, 10 for each of many; in: 15 and 11."""
    ends = Ends("plain", CLAMP)
    out, back = segment(HERE, THERE), segment(THERE, HERE)

    def come():
        for burst in ends.port.receive():
            ends.path.inbound(burst)

    counts = []
    for number in (1, 1, MANY):
        for _ in range(number):
            ends.machine.send(NOTHING + out)
        there = calls_of(ends.path.outbound_ready)
        ends.burst([ends.seals.seal(back) for _ in range(number)], 0, ends.peer)
        counts.append((there, calls_of(come)))
        assert len(ends.sealed()) == len(ends.read()) == number
    ends.close()
    _, one, many = counts
    assert one[0] <= 20 and many[0] <= 10 * MANY
    assert one[1] <= 15 and many[1] <= 11 * MANY


async def _over_http2():
    wire = Wire()
    with socket.create_server(("127.0.0.1", 0)) as listener:
        far = socket.create_connection(listener.getsockname())
        near, _ = listener.accept()
    machine, inside = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    for end in (machine, inside):
        end.setblocking(False)
    port = StreamPort(("127.0.0.1", 443), accepted=near)
    io = SessionIo(wire.session, {1: port}, asyncio.Event())
    path = DataPath(TunDevice("zesty0", inside.fileno(), True, frozenset((6, 17))), 1400, CLAMP)
    io.path = path
    path.add(QueuedTunnel(wire.session.channel, io, ("127.0.0.1", 443)))
    loop = asyncio.get_running_loop()
    counts = []
    for number in (1, 1, MANY):
        for _ in range(number):
            machine.send(NOTHING + ip4(b"x" * 1000))
        there = calls_of(path.outbound_ready)
        wire.caller.receive(far.recv(1 << 20), ("192.0.2.1", 40000), wire.now)
        assert len(wire.gateway_channel.take()) == number
        for _ in range(number):
            wire.gateway_channel.put(ip4(b"y" * 1000, "203.0.113.10", "10.66.1.10"), wire.now)
        for one in wire.caller.send(wire.now):
            far.send(one.data)
        came = loop.create_future()
        back, before = 0, len(counts)

        def turn(frame, event, _):
            nonlocal back
            back += event == "call" and "/zesty_burrow/" in frame.f_code.co_filename

        loop.add_reader(machine.fileno(), lambda came=came: None if came.done() else came.set_result(None))
        sys.setprofile(turn)
        try:
            await asyncio.wait_for(came, 5)
        finally:
            sys.setprofile(None)
            loop.remove_reader(machine.fileno())
        got = 0
        while got < number:
            got += bool(machine.recv(2000))
        counts.append((there, back))
        assert len(counts) == before + 1
    io.close()
    for end in (machine, inside, far):
        end.close()
    return counts


def test_over_http2():
    """Out: at most 36 for one, 8 for each of many; in: 45 and 9."""
    _, one, many = asyncio.run(_over_http2())
    assert one[0] <= 36 and many[0] <= 8 * MANY
    assert one[1] <= 45 and many[1] <= 9 * MANY
