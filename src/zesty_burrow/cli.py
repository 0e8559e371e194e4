"""The command line: the parser, a lazy table of commands, and the only place that catches errors.

What ``--help`` needs is all that is loaded here; the rest waits until a command is known.
"""

from __future__ import annotations

import argparse
import contextlib
import importlib
import os
import signal
import sys

from zesty_burrow import __version__
from zesty_burrow.commands import COMMANDS
from zesty_burrow.commands.options import COMMON, add_common
from zesty_burrow.errors import BurrowError, OutputFailed, UsageError, as_error
from zesty_burrow.interrupt import INTERRUPTED, end_at_once

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence
    from types import ModuleType
    from typing import Any, NoReturn

    from zesty_burrow.commands.context import Context
    from zesty_burrow.report.reporter import Reporter


class Parser(argparse.ArgumentParser):
    """Wrong words become an error like any other, so that they are printed in the same way, also as JSON."""

    words: Sequence[str] = ()
    """The whole command line, for a corrected one."""

    def error(self, message: str) -> NoReturn:
        """Raises :class:`UsageError` with what argparse says."""
        raise UsageError(message, next_step=f"See `{self.prog} --help`.")

    def _check_value(self, action: argparse.Action, value: Any) -> None:
        """Raises :class:`UsageError` for a word that is not among the choices, with the nearest of them."""
        if action.choices is None or value in action.choices:
            return
        from zesty_burrow.commands.wrong_words import unknown_command, wrong_choice

        if action.dest == "command":
            raise unknown_command(value, self.words)
        what = "/".join(action.option_strings) or str(action.metavar or action.dest)
        raise wrong_choice(what, value, list(action.choices), self.prog)

    def parse_args(self, args: Any = None, namespace: Any = None) -> Any:
        """As argparse does; what nothing takes becomes an error that knows the nearest option."""
        found, extra = self.parse_known_args(args, namespace)
        if extra:
            from zesty_burrow.commands.wrong_words import unknown_options

            known, names = _options_of(self, args or ())
            raise unknown_options(extra, known, self.prog, self.words, takes_name=names)
        return found

    def _print_message(self, message: str, file: Any = None) -> None:
        """Help and version; unlike argparse's own, this does not hide that they could not be written."""
        try:
            (file or sys.stdout).write(message)
        except BrokenPipeError:
            raise
        except OSError as problem:
            raise OutputFailed.by(problem) from None


class _Help(argparse.RawDescriptionHelpFormatter):
    """As wide as the terminal; argparse's own way to find that out loads a library for archives."""

    def __init__(self, prog: str) -> None:
        given = os.environ.get("COLUMNS", "")
        try:
            columns = int(given) if given.isdigit() else os.get_terminal_size(1).columns
        except OSError:
            columns = 0
        super().__init__(prog, width=max((columns or 80) - 2, 30))


def _options_of(parser: argparse.ArgumentParser, words: Sequence[str]) -> tuple[list[str], bool]:
    """The options of a command, or of its action that is named; and whether names of profiles follow."""
    options: list[str] = []
    names = False
    for action in parser._actions:
        if isinstance(action, argparse._SubParsersAction):
            for word, choice in action.choices.items():
                if word in words:
                    inner, takes = _options_of(choice, ())
                    options, names = options + inner, names or takes
        elif action.help != argparse.SUPPRESS:
            options += action.option_strings
            names = names or (action.dest == "name" and not action.option_strings)
    return options, names


HELP = "help"


def _overview() -> Parser:
    """The parser for everything in front of the command."""
    width = max(map(len, COMMANDS))
    lines = [f"  {name:<{width}}  {entry.summary}" for name, entry in COMMANDS.items()]
    parser = Parser(
        prog="zesty",
        description="Brings VPN providers' settings in, connects over open standards, proves that nothing leaks.",
        epilog="commands, in the order of the work:\n" + "\n".join(lines) + "\n\nexample: zesty demo",
        formatter_class=_Help,
        usage="zesty [options] [COMMAND …]",
    )
    parser.add_argument("--version", action="version", version=f"zesty-burrow {__version__}")
    text = "one of the commands below; without one: where things stand, and what comes next"
    parser.add_argument("command", nargs="?", metavar="COMMAND", choices=(*COMMANDS, HELP), help=text)
    parser.add_argument("rest", nargs=argparse.REMAINDER, help=argparse.SUPPRESS)
    add_common(parser)
    return parser


def _parse(words: Sequence[str]) -> tuple[argparse.Namespace, ModuleType]:
    """The words of the command line, read with the command's own parser; only its module is loaded."""
    overview = _overview()
    overview.words = words
    before = overview.parse_args(words)
    if before.command == HELP:
        # `help COMMAND ACTION` is `COMMAND ACTION --help`; so is `help` in front of options.
        _parse([*(word for word in before.rest if not word.startswith("-")), "--help"])
    if before.command is None:
        return before, importlib.import_module("zesty_burrow.commands.overview")
    module = importlib.import_module(f"zesty_burrow.commands.{COMMANDS[before.command].module}")
    parser = Parser(
        prog=f"zesty {before.command}",
        description=_sentence(COMMANDS[before.command].summary),
        epilog=f"example: {module.EXAMPLE}",
        formatter_class=_Help,
    )
    parser.words = words
    module.add_arguments(parser)
    add_common(parser)
    for action in parser._actions:
        if isinstance(action, argparse._SubParsersAction):
            # After an action's name as well; where it is not given there, what stands in front holds.
            for choice in action.choices.values():
                choice.words = words
                add_common(choice, default=argparse.SUPPRESS)
    args = parser.parse_args(before.rest)
    for option in COMMON:
        setattr(args, option, getattr(args, option) or getattr(before, option))
    return args, module


def _sentence(summary: str) -> str:
    """With a capital letter and a full stop; names inside keep theirs."""
    return summary[:1].upper() + summary[1:] + "."


def run_to_the_end() -> int:
    """The whole process: the command, and what its output came to. Never leaves a trace behind."""
    _prepare_streams()
    words = sys.argv[1:]
    try:
        try:
            code = main(words)
        except SystemExit as end:  # argparse, after --help or --version
            code = end.code if isinstance(end.code, int) else 1
        sys.stdout.flush()
    except BrokenPipeError:
        # The reader of our output has closed it: it has what it wants.
        code = 0
    except OSError as problem:
        error = OutputFailed.by(problem)
        code = error.exit_code
        with contextlib.suppress(OSError):
            sys.stderr.write(f"zesty: {error}\n")
    except KeyboardInterrupt:
        code = INTERRUPTED
    try:
        if signal.getsignal(signal.SIGINT) is not signal.SIG_IGN:
            # An interrupt that comes too late does not undo a command that has reported its work.
            signal.signal(signal.SIGINT, end_at_once)
    except KeyboardInterrupt:
        end_at_once()
    for stream in (sys.stdout, sys.stderr):
        try:
            stream.flush()
        except OSError:
            # Python would complain of it at the end; it has been told, or nobody can be told.
            os.dup2(os.open(os.devnull, os.O_WRONLY), stream.fileno())
    if code == INTERRUPTED:
        # An interrupt that met an `exec` of ours or of a library, however well caught, makes the interpreter end itself
        # by the signal instead.
        end_at_once()
    return code


def _prepare_streams() -> None:
    """There are three, and the outputs do not fail for a letter that the terminal does not know.

    What is entered is taken as it is, or not at all: a password with a letter replaced would be another one.
    """
    for number, name in enumerate(("stdin", "stdout", "stderr")):
        if getattr(sys, name) is None:
            # The process that started us has closed it.
            setattr(sys, name, open(os.open(os.devnull, os.O_RDWR), "w" if number else "r"))  # noqa: PTH123, SIM115
        else:
            getattr(sys, name).reconfigure(errors="replace" if number else "strict")


def _context(args: argparse.Namespace, reporter: Reporter) -> Context:
    from zesty_burrow.commands.context import Context
    from zesty_burrow.host.paths import find_paths, machine_paths, running_as_root
    from zesty_burrow.use_cases.workspace import CALLER_VARIABLE

    return Context(
        find_paths(os.environ, root=running_as_root(), whom=args.whom or ""),
        machine_paths(os.environ),
        reporter,
        args.passphrase_file,
        os.environ.get(CALLER_VARIABLE, ""),
        machine_alone=args.whom == "machine",
        environment=os.environ,
        reporter=reporter,
        program=main,
    )


def main(words: Sequence[str]) -> int:
    """Run a command; the exit code."""
    as_json = "--json" in (words[: list(words).index("--")] if "--" in words else words)
    debug = False
    reporter: Reporter | None = None
    try:
        signal.signal(signal.SIGINT, signal.default_int_handler)
        args, module = _parse(words)
        debug = args.debug

        from zesty_burrow.report.reporter import Reporter

        reporter = Reporter(as_json=args.json, json_file=args.json_file, debug=debug, quiet=args.quiet)
        result = module.run(args, _context(args, reporter))
        reporter.result(result)
        code: int = result.exit_code
        return code
    except KeyboardInterrupt:
        signal.signal(signal.SIGINT, end_at_once)
        sys.stderr.write("Interrupted.\n")
        return INTERRUPTED
    except BrokenPipeError:
        raise
    except Exception as problem:
        if debug and not isinstance(problem, BurrowError):
            raise
        error = as_error(problem)
        if error.instead[1]:
            from zesty_burrow.commands.wrong_words import suggest

            suggest(error, words)
        if reporter is None:
            from zesty_burrow.report.reporter import Reporter

            reporter = Reporter(as_json=as_json)
        with contextlib.suppress(OSError):  # nobody can be told; the code tells it
            reporter.error(error)
        return error.exit_code
