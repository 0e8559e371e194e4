"""The loops for ESP in TCP are checked against the plain path: the same packets, in the same order, counted the same."""

from __future__ import annotations

import asyncio
import os
import random
import socket

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from carrier.ends import ALL, NOTHING, ONLY_HERE
from carrier.test_same_result import arrivals, do_mischief, mischief, outbound, steps
from core.test_segmentation import what_the_machine_gets
from zesty_burrow.carrier.data_path.data_path import FOR_FRAMES, DataPath
from zesty_burrow.carrier.data_path.options import PathOptions
from zesty_burrow.carrier.data_path.tunnel import Tunnel
from zesty_burrow.carrier.ports.framed_port import FramedPort
from zesty_burrow.core.crypto.protection import make_protection
from zesty_burrow.core.esp.channel import EspChannel, SaPair
from zesty_burrow.core.esp.sa import InboundSa, OutboundSa
from zesty_burrow.host.tun import TunDevice
from zesty_burrow.protocols.ikev2.wire.stream_framing import PREFIX, CalledFraming, StreamFraming

WAYS = ("plain", "loops")
PEER = ("192.0.2.9", 4500)
IKE = bytes(4) + b"an IKE message, or what passes for one"


class Ends:
    """A data path whose one tunnel goes in a connection; ``opens`` and ``seals`` are the other end's SAs."""

    def __init__(self, way, options=None, local=ALL, extended=False):
        self.machine, self.inside = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        near, self.far = socket.socketpair(socket.AF_UNIX, socket.SOCK_STREAM)
        for one in (self.machine, self.inside, near, self.far):
            one.setsockopt(socket.SOL_SOCKET, socket.SO_SNDBUF, 4 << 20)
            one.setblocking(False)
        make = lambda: make_protection(20, b"k" * 36, b"", os.urandom, 0)  # noqa: E731
        self.opens, self.seals = InboundSa(1000, make(), extended=extended), OutboundSa(2000, make(), extended=extended)
        pair = SaPair(
            OutboundSa(1000, make(), extended=extended), InboundSa(2000, make(), extended=extended), local, ALL
        )
        self.channel = EspChannel(pair)
        self.port = FramedPort(PEER, CalledFraming(), accepted=_Plain(near))
        self.tunnel = Tunnel(self.channel, self.port, PEER, 1380)
        self.path = DataPath(TunDevice("zesty0", self.inside.fileno(), True, frozenset((6, 17))), 1400, options)
        self.path.add(self.tunnel)
        self.way = way
        self.far.send(PREFIX)
        assert self.port.receive() == []
        if way == "loops":
            self.use_loops()

    def use_loops(self):
        from zesty_burrow.carrier.fast_path.fast_path import attach

        assert self.path.kind_of_loops == FOR_FRAMES
        self.path.loops = attach(self.path, None)

    def send(self, pieces):
        """What the machine sends; the inner packets that the other end gets."""
        for piece in pieces:
            self.machine.send(piece)
        while self.path.outbound_ready():
            continue
        reader, found = StreamFraming().reader(), []
        while True:
            try:
                found += reader.feed(self.far.recv(1 << 20))
            except BlockingIOError:
                return [self.opens.open(data) for data in found]

    def receive(self, octets):
        """Octets of the stream; the packets that the machine gets, and the messages that are left for IKE."""
        left = []
        for at in range(0, len(octets), 100_000):
            self.far.send(octets[at : at + 100_000])
            for burst in self.port.receive():
                left += self.path.inbound(burst)[1]
        return what_the_machine_gets(self.machine), left

    def counted(self):
        return self.channel.counters, self.path.dropped

    def close(self):
        self.path.close()
        self.port.close()
        for one in (self.machine, self.inside, self.far):
            one.close()


class _Plain(socket.socket):
    """A local stream that takes TCP's options for what they are."""

    def __init__(self, other):
        super().__init__(other.family, other.type, other.proto, fileno=other.detach())
        self.setblocking(False)

    def setsockopt(self, *words):
        """Nothing."""


def framed(messages):
    return b"".join(map(StreamFraming().frame, messages))


def both(act):
    """What ``act`` gives for each way, in an event loop that it may use."""

    async def run():
        return [act(way) for way in WAYS]

    return asyncio.run(run())


@settings(max_examples=30, deadline=None)
@given(steps, st.booleans(), st.booleans(), st.booleans())
def test_the_same_goes_out(script, everybody, clamp, extended):
    """Cut in the same way, under the same numbers; what is dropped and told to senders is the same too."""

    def act(way):
        one = Ends(way, PathOptions(None, clamp), local=ALL if everybody else ONLY_HERE, extended=extended)
        pieces = []
        for kind, size, seed, mark in script:
            made = outbound(kind, size, seed, mark)
            pieces.append(made[1].octets() + made[0] if isinstance(made, tuple) else NOTHING + made)
        found = one.send(pieces), one.counted(), one.opens.state.rejected, one.opens.state.highest
        one.close()
        return found

    plain, loops = both(act)
    assert plain == loops and plain[2] == 0


@settings(max_examples=40, deadline=None)
@given(steps, mischief, st.booleans(), st.booleans(), st.integers(0, 1 << 32))
def test_the_same_comes_in(flows, wrongs, everybody, extended, seed):
    """With whatever went wrong on the way, messages of IKE among them, and however the stream is cut."""
    dice = random.Random(seed)
    places = [dice.random() for _ in range(3)]
    cuts = [dice.random() for _ in range(4)]

    def act(way):
        one = Ends(way, local=ALL if everybody else ONLY_HERE, extended=extended)
        sealed = do_mischief(one, arrivals(one, flows), wrongs)
        for place in places:
            sealed.insert(int(place * len(sealed)), IKE)
        octets = framed(one for one in sealed if one)
        packets, left = [], []
        bounds = sorted(int(cut * len(octets)) for cut in cuts)
        for begin, end in zip([0, *bounds], [*bounds, len(octets)], strict=True):
            got, others = one.receive(octets[begin:end])
            packets += got
            left += others
        state = one.channel.current.inbound.state
        found = (
            packets,
            len(left),
            [data for data in left if data == IKE],
            one.counted(),
            state.highest,
            list(state.bits),
        )
        one.close()
        return found

    plain, loops = both(act)
    assert plain == loops and len(plain[2]) == 3


def test_loops_that_come_in_the_middle_of_a_message():
    """They go on where the reader has come to; after a new connection they begin anew."""

    async def act():
        one = Ends("plain")
        sealed = arrivals(one, [("plain", 30, 5, 0)])
        octets = framed(sealed)
        got = one.receive(octets[:333])[0]
        one.use_loops()
        got += one.receive(octets[333:900])[0]
        got += one.receive(octets[900:])[0]
        assert len(got) == 30
        one.close()

    asyncio.run(act())


@pytest.mark.parametrize("octets", [b"\0\0", b"\0\1"])
def test_a_length_that_cannot_be(octets):
    """RFC 9329 §3.1: the connection is closed, whoever reads."""

    def act(way):
        one = Ends(way)
        good = framed(arrivals(one, [("plain", 3, 5, 0)]))
        one.receive(good + octets + good)
        ended = one.port.ended
        one.close()
        return ended

    assert both(act) == [True, True]


@settings(max_examples=40, deadline=None)
@given(st.lists(st.binary(max_size=300), max_size=4))
def test_arbitrary_octets(pieces):
    """A stranger's stream never gives a packet, nor anything else than an end."""

    def act(way):
        one = Ends(way)
        found = [one.receive(piece)[0] for piece in pieces if not one.port.ended and piece]
        one.close()
        return [packet for row in found for packet in row]

    assert both(act) == [[], []]
