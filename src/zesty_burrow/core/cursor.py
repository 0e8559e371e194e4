"""A cursor over a stranger's octets: bounded sub-ranges that must be used up, one exception."""

from __future__ import annotations

from struct import Struct
from types import TracebackType

from zesty_burrow.errors import Malformed


class Cursor:
    """Reads big-endian fields from ``data`` and never past its end.

    ``what`` names the thing being read in error messages.
    """

    __slots__ = ("_data", "_end", "_position", "what")

    def __init__(self, data: bytes | memoryview, what: str = "message") -> None:
        self._data = bytes(data)
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
        start = self._position
        end = start + count
        if count < 0 or end > self._end:
            raise self.fail(f"{count} octets are announced, {self.remaining} are left")
        self._position = end
        return self._data[start:end]

    def rest(self) -> bytes:
        """All octets that are left."""
        start = self._position
        self._position = self._end
        return self._data[start : self._end]

    def u8(self) -> int:
        """One octet."""
        start = self._position
        if start >= self._end:
            raise self.fail("1 octets are announced, 0 are left")
        self._position = start + 1
        return self._data[start]

    def u16(self) -> int:
        """Two octets, big-endian."""
        start = self._position
        if start + 2 > self._end:
            raise self.fail(f"2 octets are announced, {self.remaining} are left")
        self._position = start + 2
        return self._data[start] << 8 | self._data[start + 1]

    def u32(self) -> int:
        """Four octets, big-endian."""
        return int.from_bytes(self.take(4))

    def fields(self, form: Struct) -> tuple[int, ...]:
        """Several numbers at once, as ``form`` lays them out."""
        start = self._position
        end = start + form.size
        if end > self._end:
            raise self.fail(f"{form.size} octets are announced, {self.remaining} are left")
        self._position = end
        return form.unpack_from(self._data, start)

    def within(self, count: int, what: str = "") -> _Within:
        """Restrict reading to the next ``count`` octets; leaving the block with some unread is an error."""
        if count < 0 or count > self._end - self._position:
            raise self.fail(f"{what or 'a part'} announces {count} octets, {self.remaining} are left")
        return _Within(self, count, what)

    def finish(self) -> None:
        """Raise unless everything in the current range has been read."""
        if self.remaining:
            raise self.fail(f"{self.remaining} octets are left over")


class _Within:
    """A range inside a cursor, for a ``with`` block. After an error the cursor is of no more use, as ever."""

    __slots__ = ("_count", "_cursor", "_outer", "_what")

    def __init__(self, cursor: Cursor, count: int, what: str) -> None:
        self._cursor, self._count, self._what = cursor, count, what
        self._outer = 0, ""

    def __enter__(self) -> None:
        cursor = self._cursor
        self._outer = cursor._end, cursor.what
        cursor._end = cursor._position + self._count
        cursor.what = self._what or cursor.what

    def __exit__(
        self, kind: type[BaseException] | None, problem: BaseException | None, trace: TracebackType | None
    ) -> None:
        if kind is None:
            cursor = self._cursor
            if cursor._position != cursor._end:
                cursor.finish()
            cursor._end, cursor.what = self._outer
