"""``zesty ready``: whether this machine is ready for a tunnel, and what corrects it."""

from __future__ import annotations

import shutil
import subprocess
import sys
from argparse import ArgumentParser, Namespace
from collections.abc import Iterable

from zesty_burrow.carrier.probe import probe_gateways
from zesty_burrow.commands.context import Context
from zesty_burrow.errors import UsageError
from zesty_burrow.host.readiness import local
from zesty_burrow.host.readiness.check import Check, State
from zesty_burrow.observe.client import ObservatoryAddress
from zesty_burrow.observe.way_out import look_at_way_out
from zesty_burrow.report.results.verification import ReadyResult

EXAMPLE = "zesty ready"
PATIENCE = 3.0


def add_arguments(parser: ArgumentParser) -> None:
    """The command's words."""
    parser.add_argument("name", nargs="*", help="profiles whose gateways are asked whether they answer")
    parser.add_argument("--observatory", default="", metavar="URL", help="http://HOST[:PORT] (from the settings file)")
    parser.add_argument("--fix", action="store_true", help="ask about each command that corrects something, and run it")


def run(args: Namespace, context: Context) -> ReadyResult:
    """Look at everything; with ``--fix`` run the commands that correct something, and look again."""
    if args.fix and not sys.stdin.isatty():
        raise UsageError("--fix asks before each command, and there is no terminal", next_step="Run it on a terminal.")
    checks = _look(args, context)
    changed = 0
    for one in checks if args.fix else ():
        if one.state is not State.READY and one.command:
            changed += _correct(one, context)
    if changed:
        checks = _look(args, context)
    return ReadyResult(tuple(one.document() for one in checks))


def _look(args: Namespace, context: Context) -> list[Check]:
    paths, now = context.paths, context.now()
    found = [
        local.rights(),
        local.tunnel_device(),
        local.packet_filter(),
        local.resolver(),
        local.others(),
        local.own_state(paths),
        local.space(paths),
        local.clock(now.timestamp()),
        *local.links(),
        local.offloads(),
    ]
    url = args.observatory or context.settings().observatory
    if url:
        found += look_at_way_out(ObservatoryAddress.of(url), now)
    return [*found, *_gateways(args.name, context)]


def _gateways(names: Iterable[str], context: Context) -> list[Check]:
    wanted = list(names)
    if not wanted:
        return []
    with context.layered_store() as layered_store:
        profiles = [layered_store.find_profile(name)[0] for name in wanted]
    found = []
    for profile, seen in zip(profiles, probe_gateways(profiles, PATIENCE, lambda _: None), strict=True):
        name = f"gateway of {profile.name}"
        if seen.capabilities is None:
            why = "Some networks let no UDP out."
            remedy = "Allow UDP ports 500 and 4500, or try another network; under the guard, end it first."
            found.append(Check(name, State.ATTENTION, f"{seen.address}: {seen.why}".lstrip(": "), why, remedy))
        else:
            found.append(Check(name, State.READY, f"{seen.address} answers"))
    return found


def _correct(check: Check, context: Context) -> bool:
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
