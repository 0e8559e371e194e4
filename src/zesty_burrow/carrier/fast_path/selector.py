"""An event loop whose waiting can be done by somebody else: the loops that carry packets without waking Python."""

from __future__ import annotations

import asyncio
import selectors
from collections.abc import Coroutine, Mapping
from typing import Any, Protocol, TypeVar

T = TypeVar("T")
Ready = list[tuple[selectors.SelectorKey, int]]


class Loops(Protocol):
    """What waits in a selector's place."""

    def wait(self, others: int, timeout: float | None) -> list[int]:
        """Wait and carry packets until ``others`` can be read, the time is over, or something is left to Python.

        The descriptors whose readers are to be called.
        """


class PacketSelector(selectors.EpollSelector):
    """A selector with ``loops`` that may wait in its place; hidden descriptors are polled by them alone."""

    def __init__(self) -> None:
        super().__init__()
        self.loops: Loops | None = None
        self._hidden: dict[int, selectors.SelectorKey] = {}

    def hide(self, descriptor: int) -> bool:
        """Leave a descriptor to the loops; False where nobody reads it."""
        if descriptor not in self._hidden:
            try:
                key = super().get_key(descriptor)
            except (KeyError, ValueError):
                return False
            super().unregister(descriptor)
            self._hidden[descriptor] = key
        return True

    def show(self, descriptor: int) -> None:
        key = self._hidden.pop(descriptor, None)
        if key is not None:
            super().register(descriptor, key.events, key.data)

    def select(self, timeout: float | None = None) -> Ready:
        """As every selector; hidden descriptors are among the result when the loops leave something to Python."""
        if self.loops is None:
            return super().select(timeout)
        left = self.loops.wait(self.fileno(), timeout)
        ready: Ready = super().select(0)
        ready += [(self._hidden[one], selectors.EVENT_READ) for one in left if one in self._hidden]
        return ready

    # What the event loop asks of a selector, for hidden descriptors too.

    def get_key(self, fileobj: Any) -> selectors.SelectorKey:
        """As every selector."""
        found = self._hidden.get(fileobj) if isinstance(fileobj, int) else None
        return found or super().get_key(fileobj)

    def unregister(self, fileobj: Any) -> selectors.SelectorKey:
        """As every selector."""
        if isinstance(fileobj, int) and fileobj in self._hidden:
            return self._hidden.pop(fileobj)
        return super().unregister(fileobj)

    def modify(self, fileobj: Any, events: int, data: Any = None) -> selectors.SelectorKey:
        """As every selector. Descriptors that are to be written to are polled here."""
        if isinstance(fileobj, int) and fileobj in self._hidden:
            if events == selectors.EVENT_READ:
                key = self._hidden[fileobj] = self._hidden[fileobj]._replace(events=events, data=data)
                return key
            self.show(fileobj)
        return super().modify(fileobj, events, data)

    def get_map(self) -> Mapping[Any, selectors.SelectorKey]:
        """As every selector, without hidden descriptors."""
        return super().get_map()


class PacketEventLoop(asyncio.SelectorEventLoop):
    """``selector``: its own."""

    def __init__(self) -> None:
        self.selector = PacketSelector()
        super().__init__(self.selector)


def running_selector() -> PacketSelector | None:
    """That of the running event loop, if it has one."""
    try:
        loop = asyncio.get_running_loop()
    except RuntimeError:
        return None
    return loop.selector if isinstance(loop, PacketEventLoop) else None


def run(main: Coroutine[Any, Any, T]) -> T:
    """:func:`asyncio.run` on such an event loop."""
    with asyncio.Runner(loop_factory=PacketEventLoop) as runner:
        return runner.run(main)
