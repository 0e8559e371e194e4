"""``zesty verify``: observe what the outside sees, and judge."""

from __future__ import annotations

import json
import os
import subprocess
import time
from argparse import ArgumentParser, Namespace
from pathlib import Path

from zesty_burrow.commands.context import Context
from zesty_burrow.errors import InputError, UsageError
from zesty_burrow.host.bus.desktop import Desktop, session_bus
from zesty_burrow.host.replace_file import write_page
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.verification import BaselineResult, VerifyResult
from zesty_burrow.use_cases.verification.verified import Verified
from zesty_burrow.use_cases.verification.verify import VerifyRequest, verify

EXAMPLE = "zesty verify --before; zesty connect lisbon --detach; zesty verify"


def add_arguments(parser: ArgumentParser) -> None:
    parser.add_argument("--before", action="store_true", help="observe without a tunnel, to compare with later")
    parser.add_argument("--observatory", default="", metavar="URL", help="http://HOST[:PORT] (from the settings file)")
    parser.add_argument("--extended", action="store_true", help="look up 36 one-time names instead of 6")
    text = "watch the packets that leave for this long (at least as long as the rest takes)"
    parser.add_argument("--watch", type=float, default=0.0, metavar="SECONDS", help=text)
    text = "write the packets that nothing explains to FILE (pcap)"
    parser.add_argument("--capture", type=Path, metavar="FILE", help=text)
    text = "a host that has to be reached with the tunnel, HOST or HOST:PORT; with --before: what is seen without it"
    parser.add_argument("--reach", action="append", default=[], metavar="HOST", help=text)
    text = "verify again and again, until Ctrl-C: 30s, 15m, 2h; the exit code is that of the last run"
    parser.add_argument("--every", default="", metavar="TIME", help=text)
    text = "run this program when something has changed since the run before; it gets the changes as JSON"
    parser.add_argument("--on-change", type=Path, metavar="PROGRAM", help=text)
    parser.add_argument("--notify", action="store_true", help="tell the desktop when something has changed")
    parser.add_argument("--page", type=Path, metavar="FILE", help="write a page for browsers and paper to FILE (HTML)")


def run(args: Namespace, context: Context) -> Result:
    """One observation; without ``--before`` it is judged."""
    if args.every:
        return _again_and_again(args, context)
    seen = verify(_request(args), context)
    if seen.judgement is None:
        return BaselineResult(seen.observation)
    _tell_changes(seen, args)
    if args.page is not None:
        from zesty_burrow.report.pages.verification_page import verification_page

        write_page(args.page, verification_page(seen.document(), seen.changes_document()))
    return VerifyResult(seen)


def _request(args: Namespace) -> VerifyRequest:
    return VerifyRequest(
        args.before, args.observatory, args.extended, args.watch, args.capture, os.environ, tuple(args.reach)
    )


def _again_and_again(args: Namespace, context: Context) -> Result:
    """Each run is kept; what has changed is printed, and handed to a program."""
    if args.before:
        raise UsageError("--every goes without --before")
    pause, times, seen = seconds_of(args.every), 0, None
    try:
        while True:
            began = time.monotonic()
            seen, times = verify(_request(args), context), times + 1
            judgement = seen.judgement
            if judgement is not None:
                context.reporter.note(f"{seen.observation.taken_at}  {judgement.verdict}: {judgement.headline}")
            for change in seen.changes:
                context.reporter.note(f"  {change.what}: {change.before} became {change.after}")
            _tell_changes(seen, args)
            time.sleep(max(pause - (time.monotonic() - began), 1.0))
    except KeyboardInterrupt:
        if seen is None:
            raise
        return VerifyResult(seen, times)


def _tell_changes(seen: Verified, args: Namespace) -> None:
    """To the program and to the desktop, where they are wanted."""
    if not seen.changes:
        return
    if args.on_change is not None:
        _hand_over(args.on_change, seen)
    place = session_bus(os.environ) if args.notify else None
    if place is not None:
        why = "; ".join(f"{one.what}: {one.before} became {one.after}" for one in seen.changes)
        desktop = Desktop(*place)
        desktop.tell("changed", {"profile": seen.profile, "why": why})
        desktop.finish()


def _hand_over(program: Path, seen: Verified) -> None:
    """It gets what has changed; how it ends is its own affair, but it has a minute at most."""
    told = {"profile": seen.profile, "verdict": seen.document()["verdict"], "changes": seen.changes_document()}
    try:
        subprocess.run([str(program.absolute())], input=json.dumps(told), text=True, timeout=60, check=False)
    except (OSError, subprocess.TimeoutExpired) as problem:
        raise InputError(f"{program} cannot be run", why=str(problem), next_step="Name an executable file.") from None


def seconds_of(words: str) -> float:
    """``30s``, ``15m``, ``2h``. Raises :class:`UsageError`."""
    factors = {"s": 1, "m": 60, "h": 3600}
    try:
        seconds = float(words[:-1]) * factors[words[-1:]]
    except (ValueError, KeyError):
        seconds = 0.0
    if not 10 <= seconds <= 7 * 86400:
        raise UsageError(f"--every {words!r} is no time", next_step="For example 30s, 15m or 2h; at least 10 seconds.")
    return seconds
