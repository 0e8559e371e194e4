"""Live output: steps, notes and errors go to standard error, results to standard output."""

from __future__ import annotations

import json
import os
import sys
import traceback
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any, TextIO

from zesty_burrow.errors import BurrowError, Clash
from zesty_burrow.report.result import Result, Silent, TextResult

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Iterator

    from rich.console import Console, RenderableType
    from rich.progress import Progress

    from zesty_burrow.carrier.control.status import StepReport, TunnelStatus
    from zesty_burrow.core.rehearsal import Rehearsal
    from zesty_burrow.intake.import_plan import ProfileDifference

PIPE_WIDTH = 120


def console_for(stream: TextIO) -> Console:
    """A console; where there is no terminal the width is fixed and there is no colour (NO_COLOR is honoured)."""
    from rich.console import Console

    width = None if stream.isatty() else int(os.environ.get("COLUMNS") or PIPE_WIDTH)
    return Console(file=stream, highlight=False, width=width, soft_wrap=False)


def print_parts(stream: TextIO, parts: Iterable[RenderableType]) -> None:
    """Print them; where there is no terminal without the blanks that pad lines to a width."""
    console = console_for(stream)
    if stream.isatty():
        for part in parts:
            console.print(part)
        return
    with console.capture() as captured:
        for part in parts:
            console.print(part)
    stream.write("".join(line.rstrip() + "\n" for line in captured.get().splitlines()))


class Reporter:
    """``as_json``: one document on standard output, and no text there."""

    def __init__(self, *, as_json: bool = False, json_file: Path | None = None, debug: bool = False) -> None:
        self._as_json = as_json
        self._json_file = json_file
        self._debug = debug
        self._live: Console | None = None
        self._bar: Progress | None = None

    @property
    def live(self) -> Console:
        """The console for what happens along the way."""
        if self._live is None:
            self._live = console_for(sys.stderr)
        return self._live

    def note(self, text: str, style: str = "") -> None:
        """A sentence along the way."""
        from rich.text import Text

        self.live.print(Text(text, style=style))

    def heading(self, text: str) -> None:
        """A step's title in a longer story."""
        from rich.text import Text

        self.live.print()
        self.live.print(Text(f"== {text}", style="bold cyan"))

    def step(self, done: StepReport) -> None:
        """A step of a connection that is done."""
        from rich.text import Text

        line = Text.assemble(
            ("  done  ", "green"), (f"{done.step:<13}", "bold"), (f"{done.seconds:7.3f} s  ", "dim"), done.detail
        )
        self.live.print(line)

    @contextmanager
    def progress(self, title: str) -> Iterator[Callable[[int, int], None]]:
        """A bar on a terminal for long work; the callable is called with what is done and of how much there is."""
        if not sys.stderr.isatty() or self._as_json:
            yield lambda _done, _all: None
            return
        from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn

        columns = (TextColumn("{task.description}"), BarColumn(), MofNCompleteColumn())
        with Progress(*columns, console=self.live, transient=True) as bar:
            task = bar.add_task(title, total=None)
            self._bar = bar
            yield lambda done, total: bar.update(task, completed=done, total=total)
        self._bar = None

    def rehearsed(self, seen: Rehearsal) -> None:
        """A rehearsal that has just ended."""
        if not self._as_json:
            from zesty_burrow.report.rehearsals import line

            self.live.print(line(seen))

    def pause(self) -> None:
        """Take the bar away, so that a question is not painted over."""
        if self._bar is not None:
            self._bar.stop()

    def difference(self, difference: ProfileDifference) -> None:
        """What a kit's profile would change, before the user is asked about it."""
        from zesty_burrow.report.kits import difference_table

        for part in difference_table(difference):
            self.live.print(part)

    def ask(self, question: str) -> str:
        """A question on the terminal and its answer."""
        try:
            return self.ask_or_end(question).strip()
        except EOFError:
            return ""

    def ask_or_end(self, question: str) -> str:
        """A question on the terminal and its answer as it was typed; ``EOFError`` where there is none."""
        return self.live.input(question, markup=False)

    def up(self, status: TunnelStatus) -> None:
        """The line that says that the tunnel is up."""
        from zesty_burrow.report.text import up_line

        self.live.print(up_line(status))

    def result(self, result: Result) -> None:
        """The result, as text or as JSON, and into the file that was asked for."""
        if self._json_file is not None:
            text = json.dumps(result.document(), indent=2) + "\n"
            try:
                with self._json_file.open("x", encoding="utf-8") as stream:
                    stream.write(text)
            except OSError as problem:
                raise Clash(
                    f"the result cannot be written to {self._json_file}",
                    why=problem.strerror or str(problem),
                    next_step="Name a file that does not exist, in a folder that does.",
                ) from None
        if isinstance(result, Silent):
            return
        if self._as_json:
            sys.stdout.write(json.dumps(result.document(), indent=2) + "\n")
        elif isinstance(result, TextResult):
            # For another program: nothing is wrapped or coloured.
            sys.stdout.write(result.text + "\n" if result.text else "")
        else:
            from zesty_burrow.report.text import render

            print_parts(sys.stdout, render(result))
        sys.stdout.flush()

    def error(self, error: BurrowError) -> None:
        """What happened, why, and what to do; with ``as_json`` also as a document on standard output."""
        from rich.padding import Padding
        from rich.table import Table
        from rich.text import Text

        if self._debug:
            traceback.print_exception(error)
        if self._as_json:
            document: dict[str, Any] = {
                "format": 1,
                "result": "error",
                "code": error.slug,
                "step": error.step,
                "what": error.what,
                "why": error.why,
                "next_step": error.next_step,
                "exit_code": error.exit_code,
            }
            sys.stdout.write(json.dumps(document, indent=2) + "\n")
        table = Table(box=None, show_header=False, pad_edge=False, padding=(0, 2, 0, 0))
        table.add_column(no_wrap=True, style="bold")
        table.add_column(overflow="fold")
        failed = Text.assemble((f"{error.step}: " if error.step else "", "bold"), (_sentence(error.what), "bold red"))
        table.add_row("failed", failed)
        if error.why:
            table.add_row("why", Text(_sentence(error.why)))
        table.add_row("next", Text(_sentence(error.next_step)))
        table.add_row("code", Text(error.slug, style="dim"))
        print_parts(sys.stderr, [Padding(table, (0, 0, 0, 2))])


def _sentence(text: str) -> str:
    if text.split(" ", maxsplit=1)[0].isalpha():
        # A code or a file's name at the start keeps its letters.
        text = text[0].upper() + text[1:]
    return text if text.endswith((".", "!", "?")) and not text.endswith("..") else text.rstrip(".") + "."
