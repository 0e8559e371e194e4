"""A cursor over a stranger's octets: bounded sub-ranges that must be used up, one exception."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from zesty_burrow.errors import Malformed


class Cursor:
    """Reads big-endian fields from ``data`` and never past its end.

    ``what`` names the thing being read in error messages.
    """

    __slots__ = ("_data", "_end", "_position", "what")

    def __init__(self, data: bytes | memoryview, what: str = "message") -> None:
        self._data = memoryview(data)
        self._position = 0
        self._end = len(self._data)
        self.what = what

    @property
    def position(self) -> int:
        """Octets from the start of the outermost data."""
        return self._position

    @property
    def remaining(self) -> int:
        """Octets left in the current range."""
        return self._end - self._position

    def fail(self, why: str) -> Malformed:
        """A :class:`Malformed` that names the place."""
        return Malformed(f"{self.what} is malformed at octet {self._position}", why=why)

    def take(self, count: int) -> bytes:
        """The next ``count`` octets."""
        if count < 0 or count > self.remaining:
            raise self.fail(f"{count} octets are announced, {self.remaining} are left")
        start = self._position
        self._position += count
        return bytes(self._data[start : start + count])

    def rest(self) -> bytes:
        """All octets that are left."""
        return self.take(self.remaining)

    def u8(self) -> int:
        """One octet."""
        return self.take(1)[0]

    def u16(self) -> int:
        """Two octets, big-endian."""
        return int.from_bytes(self.take(2))

    def u32(self) -> int:
        """Four octets, big-endian."""
        return int.from_bytes(self.take(4))

    @contextmanager
    def within(self, count: int, what: str = "") -> Iterator[None]:
        """Restrict reading to the next ``count`` octets; leaving the block with some unread is an error."""
        if count < 0 or count > self.remaining:
            raise self.fail(f"{what or 'a part'} announces {count} octets, {self.remaining} are left")
        outer_end, outer_what = self._end, self.what
        self._end = self._position + count
        if what:
            self.what = what
        yield
        self.finish()
        self._end, self.what = outer_end, outer_what

    def finish(self) -> None:
        """Raise unless everything in the current range has been read."""
        if self.remaining:
            raise self.fail(f"{self.remaining} octets are left over")
