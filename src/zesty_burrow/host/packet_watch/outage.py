"""Cause a loss on purpose: what comes from a gateway is dropped for a while, by a table that goes with this process."""

from __future__ import annotations

from collections.abc import Iterable

from zesty_burrow.core.net import Address
from zesty_burrow.host.packet_filter import expressions as x
from zesty_burrow.host.packet_filter.messages import INET, FilterSocket
from zesty_burrow.host.packet_filter.table import OWNER, Chain, Hook, TableSpec, whole

TABLE = "zesty_outage"
LOCAL_IN, BEFORE_ALL = 1, -400
SOURCE_AT = {4: 12, 6: 8}
"""Where the source address stands in a packet's header."""


class Outage:
    """A context manager. ``gateways``: whose packets are lost. Raises :class:`RightsMissing` or :class:`MachineError`
    where it cannot be caused.
    """

    def __init__(self, gateways: Iterable[Address]) -> None:
        self._gateways = tuple(gateways)
        self._channel = FilterSocket()

    def __enter__(self) -> Outage:
        rules = tuple(
            x.of_version(one.version)
            + x.octets_are(x.NETWORK_HEADER, SOURCE_AT[one.version], one.packed)
            + x.verdict(x.DROP)
            for one in self._gateways
        )
        chains = {"lost": Chain(rules, Hook(LOCAL_IN, BEFORE_ALL & 0xFFFF_FFFF))}
        # Packets that this machine sends are not refused: their sender would be told, which no network does. The kernel
        # removes an owner's table when its socket is closed, however the process ends.
        self._channel.commit(whole(TableSpec(INET, TABLE, chains), OWNER), "causing a loss")
        return self

    def __exit__(self, *_: object) -> None:
        self._channel.close()
