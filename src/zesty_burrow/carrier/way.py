"""The two ways in which a data path does its work."""

from __future__ import annotations

from typing import NamedTuple

from zesty_burrow.carrier.inward import Inward
from zesty_burrow.carrier.outward import Outward
from zesty_burrow.core.works import COLUMNS, Works


class Way(NamedTuple):
    """What works on octets, and what takes them from the device and hands them to it."""

    works: Works
    outward: type[Outward]
    inward: type[Inward]


BY_COLUMNS = Way(COLUMNS, Outward, Inward)
