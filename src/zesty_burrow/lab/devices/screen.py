"""A small screen with four keys: a menu, and texts that are scrolled and agreed to. It does nothing by itself."""

from __future__ import annotations

import textwrap
from collections.abc import Iterable, Sequence

from zesty_burrow.records import dataclass, field

WIDTH, HEIGHT = 20, 4
"""Characters of a line, and lines."""
UP, DOWN, OK, BACK = "up", "down", "ok", "back"
KEYS = (UP, DOWN, OK, BACK)


@dataclass(slots=True)
class Screen:
    """``menu``: the actions that can be chosen, by what the screen calls them."""

    menu: Sequence[tuple[str, str]]
    cursor: int = 0
    text: list[str] = field(default_factory=list)
    top: int = 0
    agreeing: str = ""
    """The action that follows when the text is agreed to; empty where it is only read."""

    def press(self, key: str) -> str:
        """The action that a key has chosen; empty where it has chosen none. ``ValueError`` for no such key."""
        if key not in KEYS:
            raise ValueError(key)
        step = {UP: -1, DOWN: 1}.get(key, 0)
        if not self.text:
            self.cursor = min(max(self.cursor + step, 0), len(self.menu) - 1)
            return self.menu[self.cursor][1] if key == OK else ""
        self.top = min(max(self.top + step, 0), max(len(self.text) - HEIGHT, 0))
        if key not in (OK, BACK):
            return ""
        chosen = self.agreeing if key == OK else ""
        self.text, self.top, self.agreeing = [], 0, ""
        return chosen

    def show(self, lines: Iterable[str], agreeing: str = "") -> None:
        """A text instead of the menu, until OK or BACK is pressed."""
        self.text = [part for line in lines for part in textwrap.wrap(line, WIDTH) or [""]]
        self.top, self.agreeing = 0, agreeing

    def lines(self) -> tuple[str, ...]:
        """What is on it, from the top; each has its whole width."""
        if self.text:
            shown = self.text[self.top : self.top + HEIGHT]
        else:
            first = min(max(self.cursor - HEIGHT + 1, 0), max(len(self.menu) - HEIGHT, 0))
            rows = enumerate(name for name, _ in self.menu)
            shown = [f"{'>' if at == self.cursor else ' '} {name}" for at, name in rows][first : first + HEIGHT]
        return tuple(line[:WIDTH].ljust(WIDTH) for line in [*shown, *[""] * HEIGHT][:HEIGHT])
