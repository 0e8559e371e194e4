"""What renderings are made of: tables without lines, words before colours."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import TypeVar

from zesty_burrow.report.layout import Part, Text

Parts = Iterable[Part]


MAX_ROWS = 50
"""Lines of one sort that are shown of a large kit."""


T = TypeVar("T")


def heading(text: str) -> Text:
    return Text(text, style="bold")


def milliseconds(seconds: float) -> str:
    """Times of a network, as people speak of them."""
    return f"{seconds * 1000:.0f} ms" if seconds >= 0.01 else f"{seconds * 1000:.1f} ms"


def plural(count: int, one: str, many: str = "") -> str:
    """A number with its noun."""
    return f"{count} {one if count == 1 else many or one + 's'}"


def some(items: Sequence[T], group: Callable[[T], object]) -> list[T]:
    """At most ``MOST`` of each group: a screen for a person, not ten thousand lines."""
    counts: dict[object, int] = {}
    shown = []
    for item in items:
        key = group(item)
        counts[key] = counts.get(key, 0) + 1
        if counts[key] <= MAX_ROWS:
            shown.append(item)
    return shown
