"""An event loop that lets somebody else wait in its place: who carries packets as they come, without waking Python."""

from __future__ import annotations

import asyncio
import selectors
from collections.abc import Coroutine, Mapping
from typing import Any, Protocol, TypeVar

T = TypeVar("T")
Ready = list[tuple[selectors.SelectorKey, int]]


class Stand(Protocol):
    """Who waits."""

    def wait(self, others: int, timeout: float | None) -> list[int]:
        """Wait, and do the usual: until ``others`` can be read, the time is over, or something has come for Python.

        The descriptors whose readers are to be called.
        """


class Waiter(selectors.EpollSelector):
    """A selector. What is hidden is not looked at here, but by who stands in."""

    def __init__(self) -> None:
        super().__init__()
        self.stand: Stand | None = None
        self._hidden: dict[int, selectors.SelectorKey] = {}

    def hide(self, descriptor: int) -> bool:
        """Leave what comes there to who stands in; False where nobody would read it."""
        if descriptor not in self._hidden:
            try:
                key = super().get_key(descriptor)
            except (KeyError, ValueError):
                return False
            super().unregister(descriptor)
            self._hidden[descriptor] = key
        return True

    def show(self, descriptor: int) -> None:
        """Look at it here again."""
        key = self._hidden.pop(descriptor, None)
        if key is not None:
            super().register(descriptor, key.events, key.data)

    def select(self, timeout: float | None = None) -> Ready:
        """As everywhere."""
        if self.stand is None:
            return super().select(timeout)
        told = self.stand.wait(self.fileno(), timeout)
        found: Ready = super().select(0)
        found += [(self._hidden[one], selectors.EVENT_READ) for one in told if one in self._hidden]
        return found

    # What the event loop asks of a selector.

    def get_key(self, fileobj: Any) -> selectors.SelectorKey:
        """As everywhere; hidden ones too."""
        found = self._hidden.get(fileobj) if isinstance(fileobj, int) else None
        return found or super().get_key(fileobj)

    def unregister(self, fileobj: Any) -> selectors.SelectorKey:
        """As everywhere."""
        if isinstance(fileobj, int) and fileobj in self._hidden:
            return self._hidden.pop(fileobj)
        return super().unregister(fileobj)

    def modify(self, fileobj: Any, events: int, data: Any = None) -> selectors.SelectorKey:
        """As everywhere. Who is to be written to is looked at here."""
        if isinstance(fileobj, int) and fileobj in self._hidden:
            if events == selectors.EVENT_READ:
                key = self._hidden[fileobj] = self._hidden[fileobj]._replace(events=events, data=data)
                return key
            self.show(fileobj)
        return super().modify(fileobj, events, data)

    def get_map(self) -> Mapping[Any, selectors.SelectorKey]:
        """As everywhere, without hidden ones."""
        return super().get_map()


class PacketLoop(asyncio.SelectorEventLoop):
    """``waiter``: its selector."""

    def __init__(self) -> None:
        self.waiter = Waiter()
        super().__init__(self.waiter)


def running_waiter() -> Waiter | None:
    """That of the running event loop, if it has one."""
    try:
        loop = asyncio.get_running_loop()
    except RuntimeError:
        return None
    return loop.waiter if isinstance(loop, PacketLoop) else None


def run(main: Coroutine[Any, Any, T]) -> T:
    """:func:`asyncio.run` on such a loop."""
    with asyncio.Runner(loop_factory=PacketLoop) as runner:
        return runner.run(main)
