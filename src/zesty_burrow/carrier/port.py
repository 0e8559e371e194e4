"""A UDP socket that takes and gives many datagrams at a time where the kernel can (UDP_SEGMENT, UDP_GRO)."""

from __future__ import annotations

import errno
import select
import socket
import struct
from collections.abc import Iterator, Sequence
from contextlib import suppress
from typing import NamedTuple

import numpy as np

from zesty_burrow.carrier.channel import MAX_DATAGRAM
from zesty_burrow.core.ike.events import Endpoint
from zesty_burrow.core.offload.columns import Octets
from zesty_burrow.host.udp import BURSTS, ROOM_IN_PIECE, SEGMENTS, UDP_GRO, UDP_SEGMENT, WORTH_MORE

_WAIT_MS = 20
_DISCOVER4, _DISCOVER6, _ALWAYS = (socket.IPPROTO_IP, 10), (socket.IPPROTO_IPV6, 23), 2
"""Linux ``in.h``: IP_MTU_DISCOVER and IPV6_MTU_DISCOVER, IP_PMTUDISC_DO."""
_ANCILLARY = socket.CMSG_SPACE(4) * 2
_SIZE = struct.Struct("H")
_NUMBER = struct.Struct("i")


class Burst(NamedTuple):
    """``total`` octets of datagrams of ``size`` octets, of which the last may be shorter, from one sender.

    They begin at ``start`` of ``view``, which is valid until the next call. ``traffic_class``: of the outer IP header.
    """

    view: memoryview
    start: int
    total: int
    size: int
    source: Endpoint
    traffic_class: int = 0

    def datagrams(self) -> Iterator[bytes]:
        """One by one."""
        end = self.start + self.total
        for begin in range(self.start, end, self.size):
            yield bytes(self.view[begin : min(begin + self.size, end)])


class UdpPort:
    """``channel`` with batches both ways; ``without`` leaves out ``socket-send`` or ``socket-receive``.

    ``kept``: bursts that somebody else has received into ``octets``; they come first.
    """

    def __init__(self, channel: socket.socket, without: frozenset[str] = frozenset()) -> None:
        self.channel = channel
        self.octets: Octets = np.zeros(BURSTS * (MAX_DATAGRAM + 1), np.uint8)
        self.view = self.octets.data
        self.kept: list[Burst] = []
        self._is_v6 = channel.family == socket.AF_INET6
        self.joins = "socket-receive" not in without and self._try_option(UDP_GRO, 1)
        self.splits = "socket-send" not in without and self._try_option(UDP_SEGMENT, 0)
        # What is too long for the way comes back to us, who can tell the sender (RFC 4301 §8.1).
        with suppress(OSError):
            channel.setsockopt(*(_DISCOVER6 if self._is_v6 else _DISCOVER4), _ALWAYS)
        level, option = (
            (socket.IPPROTO_IPV6, socket.IPV6_RECVTCLASS) if self._is_v6 else (socket.IPPROTO_IP, socket.IP_RECVTOS)
        )
        with suppress(OSError):
            channel.setsockopt(level, option, 1)
        self._class = (socket.IPPROTO_IPV6, socket.IPV6_TCLASS) if self._is_v6 else (socket.IPPROTO_IP, socket.IP_TOS)

    @property
    def descriptor(self) -> int:
        """The socket's; -1 once it is closed."""
        return self.channel.fileno()

    def _try_option(self, option: int, value: int) -> bool:
        try:
            self.channel.setsockopt(socket.SOL_UDP, option, value)
        except OSError:
            return False
        return True

    def receive(self) -> list[Burst]:
        """What has come, in as few bursts as can be: what goes on where one ended becomes one burst with it.

        What the network reports of earlier datagrams is passed over; who waits for their answers notices by time.
        """
        if self.kept:
            kept, self.kept = self.kept, []
            return kept
        found: list[Burst] = []
        begin = 0
        while begin + MAX_DATAGRAM <= len(self.view):
            try:
                burst = self._receive_at(begin)
            except OSError:
                # Nothing there, or a report.
                break
            begin += burst.total
            known = found[-1] if found else None
            if known is not None and known.total % known.size == 0 and known[3:] == burst[3:]:
                found[-1] = known._replace(total=known.total + burst.total)
            else:
                found.append(burst)
            if burst.total < WORTH_MORE:
                # A few datagrams: if there are others, the loop tells at once.
                break
        return found

    def _receive_at(self, begin: int) -> Burst:
        total, ancillary, _, source = self.channel.recvmsg_into([self.view[begin:]], _ANCILLARY)
        size, traffic_class = total, 0
        for level, kind, data in ancillary:
            if level == socket.SOL_UDP and kind == UDP_GRO:
                size = _NUMBER.unpack(data[:4])[0]
            elif (level, kind) == self._class:
                traffic_class = data[0]
        return Burst(self.view, begin, total, max(size, 1), (source[0], source[1]), traffic_class)

    def send(self, data: bytes | memoryview, to: Endpoint, traffic_class: int = 0) -> None:
        """One datagram. Raises ``OSError``."""
        if traffic_class:
            self._send([data], [(*self._class, _NUMBER.pack(traffic_class))], to)
        else:
            self.channel.sendto(data, to)

    def send_piece(self, piece: memoryview, size: int, to: Endpoint, traffic_class: int = 0) -> None:
        """:meth:`send_alike` for datagrams of ``size`` that lie one behind the other, no more than go by one call."""
        self._send_segments([piece], size, to, traffic_class)

    def send_alike(self, datagrams: Sequence[memoryview], to: Endpoint, traffic_class: int = 0) -> None:
        """:meth:`send_many` for datagrams that are all of one length, but for a shorter last one."""
        count, size = len(datagrams), len(datagrams[0])
        if not self.splits or not 1 < count <= SEGMENTS or count * size > ROOM_IN_PIECE:
            self.send_many(datagrams, to, traffic_class)
            return
        self._send_segments(datagrams, size, to, traffic_class)

    def send_many(self, datagrams: Sequence[memoryview], to: Endpoint, traffic_class: int = 0) -> None:
        """Datagrams in their order, in as few pieces as can be. Raises ``OSError`` for the first that cannot go."""
        marks = [(*self._class, _NUMBER.pack(traffic_class))] if traffic_class else []
        begin, count = 0, len(datagrams)
        most = SEGMENTS if self.splits else 1
        while begin < count:
            size = len(datagrams[begin])
            end, limit = begin + 1, min(count, begin + most, begin + max(1, ROOM_IN_PIECE // max(size, 1)))
            while end < limit:
                following = len(datagrams[end])
                if following > size:
                    break
                end += 1
                if following < size:
                    break
            if end - begin == 1:
                self._send([datagrams[begin]], marks, to)
            else:
                self._send_segments(datagrams[begin:end], size, to, traffic_class)
            begin = end

    def _send_segments(self, pieces: Sequence[memoryview], size: int, to: Endpoint, traffic_class: int) -> None:
        """Datagrams of ``size``, with a shorter last one, by one call; one by one from when the way turns out not to.

        A device without checksum offload takes no segments (EIO): the kernel says so only when they are sent.
        """
        marks = [(*self._class, _NUMBER.pack(traffic_class))] if traffic_class else []
        try:
            self._send(pieces, [*marks, (socket.SOL_UDP, UDP_SEGMENT, _SIZE.pack(size))], to)
        except OSError as problem:
            if problem.errno != errno.EIO:
                raise
            self.splits = False
            for piece in pieces:
                for begin in range(0, len(piece), size):
                    self._send([piece[begin : begin + size]], marks, to)

    def _send(self, pieces: Sequence[bytes | memoryview], marks: list[tuple[int, int, bytes]], to: Endpoint) -> None:
        try:
            self.channel.sendmsg(pieces, marks, 0, to)
        except BlockingIOError:
            # The queue is full: wait for it a little, as a packet lost costs more than the wait.
            poll = select.poll()
            poll.register(self.channel, select.POLLOUT)
            poll.poll(_WAIT_MS)
            self.channel.sendmsg(pieces, marks, 0, to)
