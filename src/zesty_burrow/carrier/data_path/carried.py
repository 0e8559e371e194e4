"""What compiled loops use of a data path, and the data path of them."""

from __future__ import annotations

import asyncio
from typing import Protocol

from zesty_burrow.carrier.data_path.plain_path import PlainPath

FOR_DATAGRAMS, FOR_CAPSULES, FOR_FRAMES = "datagrams", "capsules", "frames"
"""Kinds of loops."""


class PacketLoops(Protocol):
    """Compiled loops, as a data path uses them."""

    def refresh(self) -> None:
        """Tunnels have come or gone."""

    def stop(self) -> None:
        """Leave everything to the event loop."""

    def left_over(self) -> int:
        """Send, by the plain path, what was read and is not for the loops; how many packets."""


class CarriedPath(Protocol):
    """A data path, as compiled loops use it. ``revision`` rises when a tunnel's channel, socket or peer changes."""

    mtu: int
    wake: asyncio.Event | None
    revision: int
    plain: PlainPath
    loops: PacketLoops | None

    @property
    def kind_of_loops(self) -> str:
        """The loops that could carry all its tunnels; empty for none."""
