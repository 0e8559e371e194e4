"""The two ways in which a data path does its work."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import NamedTuple, Protocol

from zesty_burrow.carrier.inward import Inward
from zesty_burrow.carrier.outward import Outward
from zesty_burrow.carrier.port import Burst, UdpPort
from zesty_burrow.carrier.tunnel import Tunnel
from zesty_burrow.carrier.waiter import Waiter
from zesty_burrow.core.works import COLUMNS, Works

Told = Callable[[float, float], object]
"""Hears that packets were carried without Python: when the last one went out, and when the last authentic one came in,
seconds of the monotonic clock; 0 where none did."""


class Beside(Protocol):
    """Carries packets beside Python."""

    def serve(self, port: UdpPort) -> None:
        """This is the socket that ESP comes by."""

    def stop(self) -> None:
        """Carry nothing any more."""

    def forget(self) -> None:
        """What was learnt does not hold any more."""

    def came(self, burst: Burst, port: UdpPort, heard: Iterable[Tunnel]) -> None:
        """A burst went through Python, and something in it was authentic."""

    def left_over(self) -> int:
        """Send what has to go through Python; how many packets."""


class Way(NamedTuple):
    """What works on octets; and what carries usual packets beside Python, where the event loop allows that."""

    works: Works
    beside: Callable[[Waiter | None, Outward, Inward, Told], Beside | None] | None = None


BY_COLUMNS = Way(COLUMNS)
