"""Live output: steps, notes and errors go to standard error, results to standard output."""

from __future__ import annotations

import importlib
import json
import os
import sys
from contextlib import contextmanager, suppress
from typing import TYPE_CHECKING, Any

from zesty_burrow.errors import BurrowError, Clash, OutputFailed
from zesty_burrow.report.layout import Bar, Column, Console, Indented, Table, Text
from zesty_burrow.report.results.base import Result

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator
    from pathlib import Path

    from zesty_burrow.carrier.control.status import StepReport, TunnelStatus
    from zesty_burrow.core.rehearsal import Rehearsal
    from zesty_burrow.intake.import_plan import ProfileDifference


COMMANDS = ("zesty ", "sudo ")


class Reporter:
    """``as_json``: one document on standard output, and no text there. ``quiet``: nothing of what happens on the way;
    questions and errors are still shown.
    """

    def __init__(
        self, *, as_json: bool = False, json_file: Path | None = None, debug: bool = False, quiet: bool = False
    ) -> None:
        self._as_json = as_json
        self._json_file = json_file
        self._debug = debug
        self._quiet = quiet
        self._live: Console | None = None
        self._bar: Bar | None = None

    @property
    def live(self) -> Console:
        """The console for what happens along the way. A bar is taken away first; its next step paints it again."""
        self.pause()
        if self._live is None:
            self._live = Console(sys.stderr)
        return self._live

    def note(self, text: str, style: str = "") -> None:
        """A sentence along the way."""
        if self._quiet:
            return
        self.live.print(Text(text, style=style))

    def heading(self, text: str) -> None:
        """A step's title in a longer story."""
        if self._quiet:
            return
        self.live.print("", Text(f"== {text}", style="bold cyan"))

    def step(self, done: StepReport) -> None:
        """A step of a connection that is done."""
        if self._quiet:
            return
        line = Text.assemble(
            ("  done  ", "green"), (f"{done.step:<13}", "bold"), (f"{done.seconds:7.3f} s  ", "dim"), done.detail
        )
        self.live.print(line)

    @contextmanager
    def progress(self, title: str) -> Iterator[Callable[[int, int], None]]:
        """A bar on a terminal for long work; the callable is called with what is done and of how much there is."""
        if not sys.stderr.isatty() or self._as_json or self._quiet:
            yield lambda _done, _all: None
            return
        self._bar = Bar(sys.stderr, title)
        try:
            yield self._bar.update
        finally:
            self._bar.clear()
            self._bar = None

    def rehearsed(self, seen: Rehearsal) -> None:
        """A rehearsal that has just ended."""
        if not self._as_json and not self._quiet:
            from zesty_burrow.report.texts.rehearsals import line

            self.live.print(line(seen))

    def pause(self) -> None:
        """Take the bar away, so that a question is not painted over."""
        if self._bar is not None:
            self._bar.clear()

    def difference(self, difference: ProfileDifference) -> None:
        """What a kit's profile would change, before the user is asked about it."""
        from zesty_burrow.report.texts.kits import difference_table

        self.live.print_all(difference_table(difference))

    @property
    def can_ask(self) -> bool:
        """Whether somebody sits at a terminal who can answer."""
        return sys.stdin.isatty() and sys.stderr.isatty() and not self._as_json

    @property
    def can_ask_secret(self) -> bool:
        """Whether a secret can be typed; also with ``--json``, as the question goes to the terminal itself."""
        return sys.stdin.isatty()

    def ask_secret(self, question: str) -> str:
        """Asked on the terminal without echo; empty if there is no answer."""
        from getpass import GetPassWarning, getpass

        self.pause()
        try:
            return getpass(question)
        except (EOFError, GetPassWarning):
            return ""

    def ask(self, question: str) -> str:
        """A question on the terminal and its answer."""
        try:
            return self.ask_or_end(question).strip()
        except EOFError:
            return ""

    def ask_or_end(self, question: str) -> str:
        """A question on the terminal and its answer as it was typed. Raises ``EOFError``."""
        return self.live.ask(question)

    def up(self, status: TunnelStatus) -> None:
        """The line that says that the tunnel is up, and what was noticed."""
        from zesty_burrow.report.texts.status import up_lines

        self.live.print_all(up_lines(status))

    def result(self, result: Result) -> None:
        """The result, as text or as JSON, and into the file that was asked for."""
        if self._json_file is not None:
            text = json.dumps(result.document(), indent=2) + "\n"
            try:
                # A document may hold what is for its owner alone, such as a link.
                flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC
                with os.fdopen(os.open(self._json_file, flags, 0o600), "w", encoding="utf-8") as stream:
                    stream.write(text)
            except OSError as problem:
                raise Clash(
                    f"the result cannot be written to {self._json_file}",
                    why=problem.strerror or str(problem),
                    next_step="Name a file that does not exist, in a folder that does.",
                ) from None
        if result.kind == "silent":
            return
        try:
            self._show(result)
            sys.stdout.flush()
        except BrokenPipeError:
            raise
        except OSError as problem:
            raise OutputFailed.by(problem) from None

    def _show(self, result: Result) -> None:
        if self._as_json:
            sys.stdout.write(json.dumps(result.document(), indent=2) + "\n")
        else:
            texts = importlib.import_module(f"zesty_burrow.report.texts.{result.shown_by}")
            Console(sys.stdout).print_all(texts.RENDERERS[type(result)](result))

    def error(self, error: BurrowError) -> None:
        """What happened, why, and what to do; with ``as_json`` also as a document on standard output."""
        if self._debug:
            import traceback

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
            with suppress(OSError):  # it is printed on standard error as well
                sys.stdout.write(json.dumps(document, indent=2) + "\n")
                sys.stdout.flush()
        table = Table(Column(whole=True, style="bold"), Column())
        failed = Text.assemble((f"{error.step}: " if error.step else "", "bold"), (_sentence(error.what), "bold red"))
        table.add_row("failed", failed)
        if error.why:
            table.add_row("why", Text(_sentence(error.why)))
        table.add_row("next", Text(_sentence(error.next_step)))
        table.add_row("code", Text(error.slug, style="dim"))
        self.live.print(Indented(table))


def _sentence(text: str) -> str:
    if text.split(" ", maxsplit=1)[0].isalpha():
        # A code or a file's name at the start keeps its letters.
        text = text[0].upper() + text[1:]
    if text.endswith((".", "!", "?")) and not text.endswith(".."):
        return text
    last = text.rpartition("\n")[2].rpartition(": ")[2].strip()
    # A command at the end is pasted as it is.
    return text if last.startswith(COMMANDS) else text.rstrip(".") + "."
