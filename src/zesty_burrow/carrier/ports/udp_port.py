"""A UDP socket of a tunnel: bursts of datagrams in, single datagrams out, with the class of the outer header."""

from __future__ import annotations

import errno
import select
import socket
import struct
from collections.abc import Iterator, Sequence
from contextlib import suppress
from enum import IntEnum
from typing import NamedTuple

from zesty_burrow.carrier.ports.udp_socket import MAX_DATAGRAM
from zesty_burrow.core.net import Endpoint
from zesty_burrow.host.udp import BURSTS, ROOM_IN_PIECE, SEGMENTS, UDP_GRO, UDP_SEGMENT, WORTH_MORE

_WAIT_MS = 20
_DISCOVER4, _DISCOVER6 = (socket.IPPROTO_IP, 10), (socket.IPPROTO_IPV6, 23)
"""Linux ``in.h``: IP_MTU_DISCOVER and IPV6_MTU_DISCOVER."""
_ANCILLARY = socket.CMSG_SPACE(4) * 2
_NUMBER = struct.Struct("i")


class TooLong(IntEnum):
    """What the system does with a datagram that is longer than the network has said that the path takes.

    It is cut (IP_PMTUDISC_DONT), held back (IP_PMTUDISC_DO), or sent nevertheless (IP_PMTUDISC_PROBE).
    """

    CUT = 0
    REFUSED = 2
    SENT = 3


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
    """``channel``: the socket; ``disabled`` may name ``socket-send`` or ``socket-receive``.

    ``joins``, ``splits``: whether the kernel gives and takes many datagrams by one call (UDP_GRO, UDP_SEGMENT).
    ``kept``: bursts that the fast path has received into ``buffer``; they come first.
    ``more_headers``: octets in front of a datagram besides those of IP and UDP.
    """

    more_headers = 0
    is_full = False
    """The system's queue tells by itself."""

    def __init__(self, channel: socket.socket, disabled: frozenset[str] = frozenset()) -> None:
        self.channel = channel
        self.buffer = bytearray(BURSTS * (MAX_DATAGRAM + 1))
        self.view = memoryview(self.buffer)
        self.kept: list[Burst] = []
        self._is_v6 = channel.family == socket.AF_INET6
        self.joins = "socket-receive" not in disabled and self._try_option(UDP_GRO, 1)
        self.splits = "socket-send" not in disabled and self._try_option(UDP_SEGMENT, 0)
        # What is too long for the path comes back to us, who can tell the sender (RFC 4301 §8.1).
        self.too_long: TooLong | None = None
        self.treat_too_long(TooLong.REFUSED)
        level, option = (
            (socket.IPPROTO_IPV6, socket.IPV6_RECVTCLASS) if self._is_v6 else (socket.IPPROTO_IP, socket.IP_RECVTOS)
        )
        with suppress(OSError):
            channel.setsockopt(level, option, 1)
        self._class = (socket.IPPROTO_IPV6, socket.IPV6_TCLASS) if self._is_v6 else (socket.IPPROTO_IP, socket.IP_TOS)

    def treat_too_long(self, how: TooLong) -> None:
        """What becomes of datagrams that are longer than messages from the network say that the path takes."""
        if how is not self.too_long:
            with suppress(OSError):
                self.channel.setsockopt(*(_DISCOVER6 if self._is_v6 else _DISCOVER4), how)
            self.too_long = how

    def close(self) -> None:
        self.channel.close()

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
        """What has come, in as few bursts as possible.

        Errors that the network reports of earlier datagrams are skipped; what waits for their answers notices by
        time.
        """
        if self.kept:
            kept, self.kept = self.kept, []
            return kept
        bursts: list[Burst] = []
        begin = 0
        while begin + MAX_DATAGRAM <= len(self.view):
            try:
                burst = self._receive_at(begin)
            except OSError:
                # Nothing there, or a report.
                break
            begin += burst.total
            bursts.append(burst)
            if burst.total < WORTH_MORE:
                # A few datagrams: if there are others, the event loop says so at once.
                break
        return bursts

    def _receive_at(self, begin: int) -> Burst:
        total, ancillary, _, source = self.channel.recvmsg_into([self.view[begin:]], _ANCILLARY)
        size, traffic_class = total, 0
        for level, kind, data in ancillary:
            if level == socket.SOL_UDP and kind == UDP_GRO:
                size = _NUMBER.unpack(data[:4])[0]
            elif (level, kind) == self._class:
                traffic_class = data[0]
        return Burst(self.view, begin, total, max(size, 1), (source[0], source[1]), traffic_class)

    def send(self, data: bytes, to: Endpoint, traffic_class: int = 0) -> None:
        """One datagram. Raises ``OSError``."""
        try:
            if traffic_class:
                self._send_marked(data, to, traffic_class)
            else:
                self.channel.sendto(data, to)
        except BlockingIOError:
            self._wait()
            self._send_marked(data, to, traffic_class)

    def send_many(self, datagrams: Sequence[bytes], to: Endpoint) -> None:
        """Many to one peer. What the system does not take is lost, as on any path."""
        for run, size in self._runs(datagrams):
            with suppress(OSError):
                self._send_run(run, size, to, 0)

    def send_all(self, datagrams: Sequence[bytes], to: Endpoint, traffic_class: int = 0) -> None:
        """Many to one peer. Raises the first ``OSError``, once the others are sent."""
        problem = None
        for run, size in self._runs(datagrams):
            try:
                self._send_run(run, size, to, traffic_class)
            except OSError as refused:
                problem = problem or refused
        if problem is not None:
            raise problem

    def _runs(self, datagrams: Sequence[bytes]) -> Iterator[tuple[Sequence[bytes], int]]:
        """Those of one length together, where the kernel splits them (UDP_SEGMENT)."""
        begin = 0
        while begin < len(datagrams):
            end, size = begin + 1, len(datagrams[begin])
            most = min(SEGMENTS, ROOM_IN_PIECE // max(size, 1)) if self.splits else 1
            while end < len(datagrams) and end - begin < most and len(datagrams[end]) == size:
                end += 1
            if end < len(datagrams) and 1 < end - begin < most and len(datagrams[end]) < size:
                # The last one may be shorter.
                end += 1
            yield datagrams[begin:end], size
            begin = end

    def _send_run(self, run: Sequence[bytes], size: int, to: Endpoint, traffic_class: int) -> None:
        if len(run) == 1:
            self.send(run[0], to, traffic_class)
            return
        ancillary = [(socket.SOL_UDP, UDP_SEGMENT, struct.pack("=H", size))]
        if traffic_class:
            ancillary.append((*self._class, _NUMBER.pack(traffic_class)))
        try:
            self.channel.sendmsg(run, ancillary, 0, to)
        except BlockingIOError:
            self._wait()
            self.channel.sendmsg(run, ancillary, 0, to)
        except OSError as problem:
            if problem.errno != errno.EIO:
                raise
            # A device whose checksums the kernel does not compute takes no pieces.
            self.splits = False
            for data in run:
                self.send(data, to, traffic_class)

    def _wait(self) -> None:
        """The queue is full: wait a little, as a lost packet costs more than the wait."""
        poll = select.poll()
        poll.register(self.channel, select.POLLOUT)
        poll.poll(_WAIT_MS)

    def _send_marked(self, data: bytes, to: Endpoint, traffic_class: int) -> None:
        self.channel.sendmsg([data], [(*self._class, _NUMBER.pack(traffic_class))], 0, to)


TOO_LONG = (errno.EMSGSIZE, errno.EINVAL)
"""What the system says where a datagram is longer than the path takes."""
