"""A terminal that is drawn again and again in place, until a key is pressed."""

from __future__ import annotations

import io
import os
import select
import sys
import termios
import tty
from collections.abc import Iterable
from types import TracebackType

from zesty_burrow.errors import UsageError
from zesty_burrow.report.layout import Console, Part

OTHER_SCREEN, THIS_SCREEN = "\x1b[?1049h\x1b[?25l", "\x1b[?25h\x1b[?1049l"
HOME, CLEAR_LINE, CLEAR_REST = "\x1b[H", "\x1b[K", "\x1b[J"
"""ECMA-48, and the private modes that terminals have for a second screen and the cursor."""
LINES = 24
"""Of a terminal that does not say how many it has."""


class Screen:
    """A context manager: the terminal is left as it was found. Raises :class:`UsageError` without a terminal."""

    def __init__(self) -> None:
        if not (sys.stdin.isatty() and sys.stdout.isatty()):
            raise UsageError("there is no terminal to draw on", next_step="Without --watch it is shown once.")
        self._input = sys.stdin.fileno()

    def __enter__(self) -> Screen:
        self._before = termios.tcgetattr(self._input)
        tty.setcbreak(self._input)
        sys.stdout.write(OTHER_SCREEN)
        return self

    def __exit__(
        self, kind: type[BaseException] | None, value: BaseException | None, trace: TracebackType | None
    ) -> None:
        sys.stdout.write(THIS_SCREEN)
        sys.stdout.flush()
        termios.tcsetattr(self._input, termios.TCSADRAIN, self._before)

    def draw(self, parts: Iterable[Part]) -> None:
        """Repaint the screen. Lines that do not fit are left out, but for the last one."""
        room = (os.get_terminal_size(sys.stdout.fileno()).lines or LINES) - 1
        paper = _Paper()
        Console(paper).print_all(parts)
        lines = paper.getvalue().splitlines()
        if len(lines) > room:
            lines = [*lines[: room - 1], lines[-1]]
        sys.stdout.write(HOME + "".join(f"{line}{CLEAR_LINE}\n" for line in lines) + CLEAR_REST)
        sys.stdout.flush()

    def key(self, seconds: float) -> str:
        """What is pressed within so many seconds; empty for nothing."""
        ready, _, _ = select.select([self._input], [], [], seconds)
        return os.read(self._input, 1).decode("ascii", "replace") if ready else ""


class _Paper(io.StringIO):
    """Takes a picture of the terminal: as wide, and with its colours."""

    def isatty(self) -> bool:
        return True

    def fileno(self) -> int:
        return sys.stdout.fileno()
