"""``zesty ready``: whether this machine is ready for a tunnel, and what corrects it."""

from __future__ import annotations

import shutil
import subprocess
import sys
from argparse import ArgumentParser, Namespace

from zesty_burrow.commands.context import Context
from zesty_burrow.errors import UsageError
from zesty_burrow.host.readiness.check import Readiness, ReadinessCheck
from zesty_burrow.report.results.verification import ReadyResult
from zesty_burrow.use_cases.tunnel.ready import look_whether_ready

EXAMPLE = "zesty ready"


def add_arguments(parser: ArgumentParser) -> None:
    parser.add_argument("name", nargs="*", help="profiles whose gateways are asked whether they answer")
    parser.add_argument("--observatory", default="", metavar="URL", help="http://HOST[:PORT] (from the settings file)")
    parser.add_argument("--fix", action="store_true", help="ask about each command that corrects something, and run it")


def run(args: Namespace, context: Context) -> ReadyResult:
    """Look at everything; with ``--fix`` run the commands that correct something, and look again."""
    if args.fix and not sys.stdin.isatty():
        raise UsageError("--fix asks before each command, and there is no terminal", next_step="Run it on a terminal.")
    checks = look_whether_ready(tuple(args.name), context, args.observatory)
    changed = 0
    for check in checks if args.fix else ():
        if check.state is not Readiness.READY and check.command:
            changed += _correct(check, context)
    if changed:
        checks = look_whether_ready(tuple(args.name), context, args.observatory)
    return ReadyResult(tuple(check.document() for check in checks))


def _correct(check: ReadinessCheck, context: Context) -> bool:
    """Whether something was done."""
    line = " ".join(check.command)
    context.reporter.note(f"{check.name}: {check.found}.")
    if context.reporter.ask(f"Run `{line}`? [y/N] ").lower() not in ("y", "yes"):
        return False
    program = shutil.which(check.command[0])
    if program is None:
        context.reporter.note(f"There is no command {check.command[0]} here.")
        return False
    ended = subprocess.run([program, *check.command[1:]], capture_output=True, text=True, check=False)
    if ended.returncode:
        context.reporter.note(f"It failed: {ended.stderr.strip() or f'exit code {ended.returncode}'}")
    return True
