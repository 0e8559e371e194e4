"""What carries usual packets without Python, in place of an event loop's waiting: what Python is woken for and what not."""

from __future__ import annotations

import asyncio
import os
import random
import select
import selectors
import socket
import threading
import time

import pytest
from scapy.layers.inet import IP, TCP, UDP
from scapy.layers.inet6 import IPv6
from scapy.packet import Raw

from carrier.test_paths import ALL, HERE, THERE, Ends
from core.test_offload import as_the_kernel_splits, octets_for, segments_of, whole_of
from zesty_burrow.carrier.beside import endpoint_of, socket_address
from zesty_burrow.carrier.channel import udp_socket
from zesty_burrow.carrier.habits import Habits
from zesty_burrow.carrier.port import UdpPort
from zesty_burrow.carrier.tunnel import Flow, Tunnel
from zesty_burrow.carrier.waiter import PacketLoop, Waiter, run, running_waiter
from zesty_burrow.core.esp.association import InboundSa, OutboundSa
from zesty_burrow.core.offload.vnet import NOTHING, read_offload
from zesty_burrow.core.protection import make_protection

FIELDS = {"version": 4, "tcp": True, "tos": 0, "ident": 7, "dont_fragment": True, "sequence": 5, "acknowledged": 1,
          "flags": "A", "window": 9, "options": 3, "ports": (5, 6)}  # fmt: skip


def datagram(size=60, source=HERE, target=THERE, **fields):
    return bytes(IP(src=source, dst=target, **fields) / UDP(sport=5, dport=6) / Raw(bytes(size)))


@pytest.fixture
def made():
    """Ends of which the usual is carried beside Python."""
    all_of_them = []

    def make(**settings):
        all_of_them.append(Ends(by="beside Python", **settings))
        return all_of_them[-1]

    yield make
    for one in all_of_them:
        one.close()


def sent_by(one, *packets):
    """What the machine sends; what Python is woken for, at the first look and at the second."""
    for packet in packets:
        one.machine.send(NOTHING + packet if isinstance(packet, bytes) else packet[1].octets() + packet[0])
    woken = one.woken()
    if "device" in woken:
        one.path.outbound_ready()
    return woken


def received_by(one, port=None):
    """What Python is woken for until the socket has nothing any more; that goes through Python then."""
    port, woken = port or one.port, []
    while select.select([port.channel.fileno()], [], [], 0)[0]:
        if "port" in one.woken():
            bursts = port.receive()
            woken += bursts
            for burst in bursts:
                one.path.inbound(burst, port)
    return woken


def opened(one):
    found = []
    while bursts := one.peer.receive():
        found += [one.opens.open(data) for burst in bursts for data in burst.datagrams()]
    return found


def test_python_is_woken_once(made):
    """By the first packet of a way; what follows goes without it: single ones, many, large pieces, whole batches."""
    one = made()
    assert sent_by(one, datagram()) == ["device"]
    one.told.clear()
    piece, segments = whole_of(FIELDS, octets_for(1, 30_000), 1300), segments_of(FIELDS, octets_for(1, 30_000), 1300)
    one.tunnel.flow.local = ALL
    expected = [datagram()]
    for packets, come in (
        ([datagram(90)], [datagram(90)]),
        ([datagram(size) for size in range(1, 100)], [datagram(size) for size in range(1, 100)]),
    ):
        assert sent_by(one, *packets) == []
        expected += come
    assert sent_by(one, piece) == ["device"] and sent_by(one, piece, datagram(5), piece) == []
    expected += [*segments, *segments, datagram(5), *segments]
    assert opened(one) == expected
    assert one.opens.counters.rejected == 0
    now = time.monotonic()
    assert one.told and all(now - 5 < sent <= now and not heard for sent, heard in one.told)
    assert one.outbound.sequence == one.outbound.protection.next_counter - 1 == len(expected)
    assert one.outbound.octets == sum(map(len, expected))


def test_python_is_woken_once_for_what_comes_in(made):
    """By the first packet of an SA; the second tells the way. From then on they are for the machine alone."""
    one = made()
    inner = datagram(source=THERE, target=HERE)
    assert [packet for _, packet in one.come([one.seals.seal(inner)])[1]] == [inner]
    one.told.clear()
    for count in (1, 2, 70):
        for _ in range(count):
            one.peer.send(one.seals.seal(inner), one.port.channel.getsockname())
        assert received_by(one) == []
        came = one.read()
        assert sum(len(as_the_kernel_splits(read_offload(head), data)) for head, data in came) == count
    now = time.monotonic()
    assert one.told and all(not sent and now - 5 < heard <= now for sent, heard in one.told)
    counters, window = one.inbound.counters, one.inbound.window
    assert (counters.packets, counters.octets, counters.rejected) == (74, 74 * len(inner), 0)
    assert window.highest == 74 and not any(window.check(number) for number in range(75)) and window.check(75)


def test_another_s_datagrams_from_another_address(made):
    """An SA is known by the address as well: what comes from elsewhere is Python's to judge, and authentic goes in."""
    one = made()
    inner = datagram(source=THERE, target=HERE)
    one.come([one.seals.seal(inner), one.seals.seal(inner)])
    other = UdpPort(udp_socket(socket.AF_INET, ("127.0.0.1", 0)))
    other.send(one.seals.seal(inner), one.port.channel.getsockname())
    assert [burst.source for burst in received_by(one)] == [other.channel.getsockname()]
    other.send(one.seals.seal(inner), one.port.channel.getsockname())
    assert received_by(one) == [] and len(one.read()) == 2 and one.inbound.counters.packets == 4
    other.channel.close()


def test_a_segment_size_is_lowered_all_the_same(made):
    """SYNs go through Python, both ways; other packets of the connection do not."""
    one = made(habits=Habits(clamp=True), mtu=1300)
    opening = bytes(IP(src=HERE, dst=THERE) / TCP(sport=5, dport=6, flags="S", options=[("MSS", 1460)]))
    plain = bytes(IP(src=HERE, dst=THERE) / TCP(sport=5, dport=6, flags="A") / Raw(b"x" * 300))
    assert sent_by(one, opening) == sent_by(one, opening) == ["device"]
    assert sent_by(one, plain, plain) == []
    assert sent_by(one, plain, opening, plain) == ["device"]
    came = [IP(packet) for packet in opened(one)]
    assert [dict(packet[TCP].options).get("MSS") for packet in came] == [1260, 1260, None, None, None, 1260, None]
    back = bytes(IP(src=THERE, dst=HERE) / TCP(sport=6, dport=5, flags="SA", options=[("MSS", 1460)]))
    _, read = one.come([one.seals.seal(back) for _ in range(3)])
    assert [dict(IP(packet)[TCP].options)["MSS"] for _, packet in read] == [1260] * 3


def test_the_network_refuses(made):
    """What cannot be sent is tried once more by Python and lost; the next ones go."""
    one = made()
    sent_by(one, datagram(), datagram())
    peer, one.tunnel.peer = one.tunnel.peer, ("2001:db8::1", 9)
    measured = []
    one.tunnel.measure = lambda: measured.append(1)
    assert sent_by(one, *[datagram(60)] * 9) == ["device"]
    one.tunnel.peer = peer
    assert sent_by(one, datagram(70)) == []
    assert opened(one) == [datagram()] * 2 + [datagram(70)] and one.opens.window.highest == 12


def test_no_pieces_where_the_socket_takes_none(made):
    one = made(without=frozenset({"socket-send"}))
    sent_by(one, datagram())
    assert sent_by(one, *[datagram(80)] * 30) == []
    assert opened(one) == [datagram()] + [datagram(80)] * 30


def sas(number):
    make = lambda: make_protection(20, bytes([number]) * 36, b"", os.urandom)  # noqa: E731
    return (OutboundSa(0x90000000 + number, make()), InboundSa(0xA0000000 + number, make())), (
        InboundSa(0x90000000 + number, make()), OutboundSa(0xA0000000 + number, make()),
    )  # fmt: skip


def test_more_tunnels_than_are_remembered(made):
    """Eleven tunnels behind one device, one packet each in turn, both ways: every one under its own key."""
    one = made()
    ours, theirs, tunnels = {}, {}, {}
    for number in range(11):
        own, other = sas(number)
        ours[number], theirs[number] = own, other
        tunnels[f"198.51.100.{number}"] = Tunnel(Flow(*own, ALL, ALL), one.port, one.peer.channel.getsockname())
    one.path._outward._route = lambda _, target: tunnels[socket.inet_ntoa(target)]
    for tunnel in tunnels.values():
        one.path.carry(tunnel)
    numbers = [*range(11)] * 5 + [3] * 9
    for number in numbers:
        sent_by(one, datagram(number, target=f"198.51.100.{number}"))
    found = []
    while bursts := one.peer.receive():
        for data in (data for burst in bursts for data in burst.datagrams()):
            found.append(theirs[int.from_bytes(data[:4]) - 0x90000000][0].open(data))
    assert found == [datagram(number, target=f"198.51.100.{number}") for number in numbers]
    back = [datagram(number, source=f"198.51.100.{number}", target=HERE) for number in numbers]
    _, came = one.come([theirs[number][1].seal(packet) for number, packet in zip(numbers, back, strict=True)])
    assert [packet for _, packet in came] == back and one.path.turned_away == 0


def test_extended_numbers_over_a_multiple_of_2_to_the_32(made):
    one = made()
    for sa in (one.outbound, one.inbound, one.opens, one.seals):
        sa.extended = True
    for sa in (one.outbound, one.seals):
        sa.sequence = (1 << 32) - 40
    for sa in (one.inbound, one.opens):
        sa.window.highest = (1 << 32) - 41
    for _ in range(9):
        sent_by(one, *[datagram()] * 10)
    assert opened(one) == [datagram()] * 90 and one.outbound.sequence == (1 << 32) + 50
    inner = datagram(source=THERE, target=HERE)
    for _ in range(9):
        one.come([one.seals.seal(inner) for _ in range(10)])
    assert (one.inbound.counters.packets, one.inbound.counters.rejected) == (90, 0)
    assert one.inbound.window.highest == (1 << 32) + 50


@pytest.mark.parametrize("version", [4, 6])
def test_marks_on_datagrams_of_both_families(version):
    """Outside as inside, with the class that a control message asks for; the other end sees it, and the address."""
    family, host = (socket.AF_INET, "127.0.0.1") if version == 4 else (socket.AF_INET6, "::1")
    one = Ends(by="beside Python", habits=Habits(dscp=None))
    try:
        peer, port = UdpPort(udp_socket(family, (host, 0))), UdpPort(udp_socket(family, (host, 0)))
        one.waiter.register(port.channel.fileno(), selectors.EVENT_READ, "port")
        one.tunnel.port, one.tunnel.peer = port, peer.channel.getsockname()[:2]
        one.path.carry(one.tunnel)
        sent_by(one, datagram(tos=0xB8))
        assert sent_by(one, *[datagram(tos=0xB8)] * 5, *[datagram(tos=0x28 | 1)] * 5) == []
        bursts = []
        while found := peer.receive():
            bursts += found
        assert [(burst.traffic_class, -(-burst.total // burst.size)) for burst in bursts] == [
            (0xB8, 1),
            (0xB8, 5),
            (0x29, 5),
        ]
        inner = bytes(IPv6(src="2001:db8::1", dst="fd66:1::a") / UDP(sport=5, dport=6) / Raw(b"x" * 60))
        one.tunnel.flow.local = ALL
        for count in (1, 5, 5):
            for _ in range(count):
                peer.send(one.seals.seal(inner), port.channel.getsockname()[:2])
            assert {burst.source for burst in received_by(one, port)} <= {peer.channel.getsockname()[:2]}
        assert one.inbound.counters.packets == 11
    finally:
        for channel in (peer.channel, port.channel):
            channel.close()
        one.close()


@pytest.mark.parametrize("endpoint", [("192.0.2.7", 4500), ("2001:db8::7", 65535)])
def test_addresses_as_the_system_has_them(endpoint):
    assert endpoint_of(socket_address(endpoint).ljust(32, b"\0")) == endpoint
    assert socket_address(("fe80::1%lo", 1)) == b""


def test_a_waiter_is_a_selector():
    """What is hidden keeps its reader: it can be looked up, changed, taken away, and shown again."""
    ours, theirs = socket.socketpair()
    waiter = Waiter()
    waiter.register(ours.fileno(), selectors.EVENT_READ, "first")
    theirs.send(b"x")
    assert [key.data for key, _ in waiter.select(0)] == ["first"]
    assert waiter.hide(ours.fileno()) and waiter.hide(ours.fileno()) and not waiter.hide(theirs.fileno())
    assert waiter.select(0) == [] and waiter.get_key(ours.fileno()).data == "first"
    waiter.modify(ours.fileno(), selectors.EVENT_READ, "second")
    assert waiter.select(0) == []
    waiter.show(ours.fileno())
    assert [key.data for key, _ in waiter.select(0)] == ["second"]
    waiter.hide(ours.fileno())
    # Who is to be written to as well is looked at again.
    waiter.modify(ours.fileno(), selectors.EVENT_READ | selectors.EVENT_WRITE, "third")
    assert [key.data for key, _ in waiter.select(0)] == ["third"]
    waiter.hide(ours.fileno())
    assert waiter.unregister(ours.fileno()).data == "third" and not waiter.hide(ours.fileno())
    with pytest.raises(KeyError):
        waiter.get_key(ours.fileno())
    waiter.close()
    ours.close()
    theirs.close()


def test_an_event_loop_goes_on_meanwhile():
    """Timers keep their time, other threads are heard, other sockets too, while packets are carried beside it."""
    one = Ends(by="columns")
    seen = []

    async def main():
        loop = asyncio.get_running_loop()
        assert isinstance(loop, PacketLoop) and running_waiter() is loop.waiter
        from zesty_burrow.carrier.beside import WAY

        loop.add_reader(one._inside.fileno(), lambda: seen.append(("device", one.path.outbound_ready())))
        loop.add_reader(
            one.port.channel.fileno(),
            lambda: seen.append(("port", [one.path.inbound(burst, one.port)[1] for burst in one.port.receive()])),
        )
        one.path.use(WAY)
        one.machine.send(NOTHING + datagram())
        began = time.monotonic()
        await asyncio.sleep(0.05)
        assert 0.05 <= time.monotonic() - began < 0.5
        assert seen == [("device", 1)]
        one.machine.send(NOTHING + datagram())
        done = asyncio.Event()
        threading.Timer(0.03, lambda: loop.call_soon_threadsafe(done.set)).start()
        await asyncio.wait_for(done.wait(), 5)
        # IKE that comes by the same socket is Python's.
        one.peer.send(bytes(4) + b"hello", one.port.channel.getsockname())
        ours, theirs = socket.socketpair()
        heard = loop.create_future()
        loop.add_reader(ours.fileno(), heard.set_result, None)
        theirs.send(b"x")
        await asyncio.wait_for(heard, 5)
        loop.remove_reader(ours.fileno())
        ours.close()
        theirs.close()
        await asyncio.sleep(0.01)
        assert seen == [("device", 1), ("port", [[bytes(4) + b"hello"]])]
        # Without its reader the device is left alone.
        loop.remove_reader(one._inside.fileno())
        one.machine.send(NOTHING + datagram())
        await asyncio.sleep(0.01)
        loop.add_reader(one._inside.fileno(), lambda: seen.append("again"))
        await asyncio.sleep(0.01)
        one.path.close()
        loop.remove_reader(one._inside.fileno())
        loop.remove_reader(one.port.channel.fileno())

    try:
        run(main())
        assert opened(one) == [datagram()] * 3 and seen[-1] != "again"
    finally:
        one.close()


def scraps(dice, one):
    """What a stranger, a peer out of its mind, and the network make of datagrams."""
    found = []
    for _ in range(dice.randint(1, 50)):
        inner = dice.choice([datagram(300, THERE, HERE), dice.randbytes(300), b"\x45" + dice.randbytes(dice.randint(0, 60)),
                             b"\x60" + dice.randbytes(dice.randint(0, 60))])  # fmt: skip
        kind = dice.random()
        if kind < 0.4:
            data = bytearray(one.seals.seal(inner))
        elif kind < 0.7:
            number = one.seals.sequence + dice.randint(0, 3)
            data = bytearray(
                (0x81000002).to_bytes(4) + number.to_bytes(4) + dice.randbytes(dice.choice([0, 26, 40, 400]))
            )
        else:
            data = bytearray(dice.randbytes(dice.choice([1, 8, 34, 100, 1400])))
        if dice.random() < 0.2:
            data[dice.randrange(len(data))] ^= 1 << dice.randrange(8)
        found.append(bytes(data))
    return found


def frames(dice):
    """What a device says that is out of its mind."""
    for _ in range(dice.randint(1, 8)):
        said = [dice.randint(0, 3), dice.choice([0, 1, 4, 5, 0x81]), dice.randint(0, 255), 0, dice.randint(0, 255),
                dice.randint(0, 6), dice.choice([20, 40, 24, 255]), 0, dice.choice([6, 16, 255]), 0]  # fmt: skip
        packet = dice.choice([datagram(), datagram()[:20] + dice.randbytes(dice.randint(0, 3000)), dice.randbytes(900)])
        yield dice.choice([NOTHING, bytes(said), dice.randbytes(10)]) + packet


@pytest.mark.parametrize("seed", range(6))
def test_whatever_comes(made, seed):
    """From strangers, the peer and the device: nothing is raised, and what is right still goes both ways."""
    dice = random.Random(seed)
    one = made(habits=Habits(dice.choice([None, 0]), dice.random() < 0.5), mtu=dice.choice([1280, 1400, 1500]))
    one.tunnel.flow.local = ALL
    for _ in range(40):
        one.come(scraps(dice, one), dice.choice([0, 0, 0, 1, 2, 3, 0xB8]))
        for frame in frames(dice):
            one.machine.send(frame)
        one.out()
        one.read()
    inner = datagram(90, THERE, HERE)
    assert inner in [packet for _, packet in one.come([one.seals.seal(inner)])[1]]
    assert one.out((datagram(90), None)) == [datagram(90)]
