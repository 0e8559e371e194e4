"""How many connections an observatory holds, and for whom: nobody keeps others out by holding many, or by being
slow."""

from __future__ import annotations

import ipaddress
import time
from collections import OrderedDict
from collections.abc import Callable

YOUNG = 1.0
"""Seconds in which a connection that is as it should be has been served: until then many of a source are let be."""
AT_MOST = 4
"""How many times the limit of a source may be passed by young ones."""
PREFIX6 = 64
"""An IPv6 source is a network of this length: its owner has all its addresses (RFC 4291 §2.5.4)."""


def source_of(address: str) -> str:
    """Who a caller is, for limits."""
    parsed = ipaddress.ip_address(address.partition("%")[0])
    if isinstance(parsed, ipaddress.IPv6Address):
        if parsed.ipv4_mapped is not None:
            return str(parsed.ipv4_mapped)
        return str(ipaddress.IPv6Network((int(parsed) >> (128 - PREFIX6) << (128 - PREFIX6), PREFIX6)))
    return str(parsed)


class Connections:
    """Those that are open, the oldest first. Above a limit the oldest goes: of the same source, or of the largest one.

    ``evicted``: how many had to go. ``clock``: seconds.
    """

    def __init__(self, total: int, each: int, clock: Callable[[], float] = time.monotonic) -> None:
        self._total, self._each, self._clock = total, each, clock
        self._open: dict[str, OrderedDict[object, tuple[float, Callable[[], None]]]] = {}
        self._count = 0
        self.evicted = 0

    def __len__(self) -> int:
        return self._count

    def admit(self, source: str, one: object, close: Callable[[], None]) -> None:
        """A new connection; ``close`` ends it at once."""
        own = self._open.setdefault(source, OrderedDict())
        now = self._clock()
        own[one] = (now, close)
        self._count += 1
        if len(own) > self._each:
            eldest, _ = next(iter(own.values()))
            if now - eldest > YOUNG or len(own) > AT_MOST * self._each:
                self._evict(source)
        elif self._count > self._total:
            self._evict(max(self._open, key=lambda other: len(self._open[other])))

    def used(self, source: str, one: object) -> None:
        """It has done something whole: others are older now."""
        own = self._open.get(source)
        if own is not None and one in own:
            own[one] = (self._clock(), own[one][1])
            own.move_to_end(one)

    def release(self, source: str, one: object) -> None:
        own = self._open.get(source)
        if own is None or own.pop(one, None) is None:
            return
        self._count -= 1
        if not own:
            del self._open[source]

    def _evict(self, source: str) -> None:
        one, (_, close) = next(iter(self._open[source].items()))
        self.release(source, one)
        self.evicted += 1
        close()


class Rate:
    """Requests of each source: so many a second, with a reserve. The sources seen last are remembered."""

    REMEMBERED = 10_000

    def __init__(self, each_second: float, clock: Callable[[], float] = time.monotonic) -> None:
        self._rate, self._reserve = each_second, 4 * each_second
        self._clock = clock
        self._left: OrderedDict[str, tuple[float, float]] = OrderedDict()

    def wait(self, source: str) -> float:
        """0 where a request may be served now, else in how many seconds."""
        now = self._clock()
        left, then = self._left.get(source, (self._reserve, now))
        left = min(self._reserve, left + (now - then) * self._rate)
        served = left >= 1
        self._left[source] = (left - served, now)
        self._left.move_to_end(source)
        if len(self._left) > self.REMEMBERED:
            self._left.popitem(last=False)
        return 0.0 if served else (1 - left) / self._rate
