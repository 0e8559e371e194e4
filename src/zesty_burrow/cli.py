"""The command line: the parser, a lazy table of commands, and the only place that catches errors."""

from __future__ import annotations

import argparse
import importlib
import os
import sys
from collections.abc import Sequence
from pathlib import Path
from types import ModuleType

from zesty_burrow import __version__
from zesty_burrow.commands import COMMANDS
from zesty_burrow.errors import BurrowError, ProgramFault

INTERRUPTED = 130


def _global_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--json", action="store_true", help="one JSON document on standard output")
    parser.add_argument("--json-file", type=Path, metavar="FILE", help="write the JSON document to FILE as well")
    parser.add_argument(
        "--passphrase-file", type=Path, metavar="FILE", help="read the store's passphrase from FILE instead of asking"
    )
    parser.add_argument(
        "--for",
        dest="whom",
        choices=("me", "machine"),
        help="use your own store (me) or the machine's, which every user may use; the default for root is machine",
    )
    parser.add_argument("--debug", action="store_true", help="log more details; show a trace with an error")


def _overview() -> argparse.ArgumentParser:
    """The parser for everything in front of the command."""
    width = max(map(len, COMMANDS))
    lines = [f"  {name:<{width}}  {entry.summary}" for name, entry in COMMANDS.items()]
    parser = argparse.ArgumentParser(
        prog="zesty",
        description="Brings VPN providers' settings in, connects over open standards, proves that nothing leaks.",
        epilog="commands, in the order of the work:\n" + "\n".join(lines) + "\n\nexample: zesty demo",
        formatter_class=argparse.RawDescriptionHelpFormatter,
        usage="zesty [options] COMMAND …",
    )
    parser.add_argument("--version", action="version", version=f"zesty-burrow {__version__}")
    _global_options(parser)
    parser.add_argument("command", metavar="COMMAND", choices=COMMANDS, help="one of the commands below")
    parser.add_argument("rest", nargs=argparse.REMAINDER, help=argparse.SUPPRESS)
    return parser


def _parse(words: Sequence[str]) -> tuple[argparse.Namespace, ModuleType]:
    """The words of the command line, read with the command's own parser; only its module is loaded."""
    before = _overview().parse_args(words)
    module = importlib.import_module(f"zesty_burrow.commands.{COMMANDS[before.command].module}")
    parser = argparse.ArgumentParser(
        prog=f"zesty {before.command}",
        description=_sentence(COMMANDS[before.command].summary),
        epilog=f"example: {module.EXAMPLE}",
    )
    _global_options(parser)
    module.add_arguments(parser)
    args = parser.parse_args(before.rest)
    for option in ("json", "debug"):
        setattr(args, option, getattr(args, option) or getattr(before, option))
    for option in ("json_file", "passphrase_file", "whom"):
        setattr(args, option, getattr(args, option) or getattr(before, option))
    return args, module


def _sentence(summary: str) -> str:
    """With a capital letter and a full stop; names inside keep theirs."""
    return summary[:1].upper() + summary[1:] + "."


def main(words: Sequence[str] | None = None) -> int:
    """Run a command; the exit code."""
    args, module = _parse(sys.argv[1:] if words is None else words)

    from zesty_burrow.commands.context import Context
    from zesty_burrow.host.paths import find_paths, running_as_root
    from zesty_burrow.report.reporter import Reporter

    reporter = Reporter(as_json=args.json, json_file=args.json_file, debug=args.debug)
    paths = find_paths(os.environ, root=running_as_root(), whom=args.whom or "")
    context = Context(paths, os.environ, reporter, args.passphrase_file, main)
    try:
        result = module.run(args, context)
        reporter.result(result)
        code: int = result.exit_code
        return code
    except BurrowError as error:
        reporter.error(error)
        return error.exit_code
    except KeyboardInterrupt:
        reporter.note("Interrupted.")
        return INTERRUPTED
    except BrokenPipeError:
        # The reader of our output has closed it.
        os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
        return 0
    except OSError as problem:
        fault = BurrowError(
            "the system refused a call", why=str(problem), next_step="Check rights, disk space and paths."
        )
        fault.slug = "system"
        if args.debug:
            raise
        reporter.error(fault)
        return fault.exit_code
    except Exception as problem:
        if args.debug:
            raise
        reporter.error(ProgramFault("the program has an error", why=f"{type(problem).__name__}: {problem}"))
        return ProgramFault.exit_code
