"""``zesty report``, on a device: verify, and report the verdict to the administrator who handed over its profile."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from zesty_burrow.commands.context import Context
from zesty_burrow.commands.tunnel import verify
from zesty_burrow.errors import ProgramFault, StateError
from zesty_burrow.fleet.keys import DEVICE, OwnKeys, make_secret
from zesty_burrow.fleet.report import report_of, sign_report
from zesty_burrow.report.results.devices import ReportResult
from zesty_burrow.report.results.verification import VerifyResult

if TYPE_CHECKING:
    from zesty_burrow.store.fleet_store import Administrator

EXAMPLE = "zesty report"
MOST_WAITING = 200
"""Of an administrator; the oldest go."""


def add_arguments(parser: ArgumentParser) -> None:
    """The command's words."""
    parser.add_argument("--observatory", default="", metavar="URL", help="http://HOST[:PORT] (from the settings file)")
    parser.add_argument("--extended", action="store_true", help="look up 36 one-time names instead of 6")
    parser.add_argument("--timeout", type=float, default=15.0, metavar="SECONDS", help="for the server to answer (15)")


def run(args: Namespace, context: Context) -> ReportResult:
    """Verify; write the report down; send it and those that wait."""
    with context.store() as store:
        known = [one for one in store.fleet.administrators() if one.report_to]
        own = OwnKeys(store.fleet.own_key(DEVICE, make_secret))
        digests = store.digests()
    if not known:
        raise StateError(
            "nobody wants reports of this device",
            why="no administrator has said where to report to",
            next_step="An administrator says it with `zesty hand-over … --report URL`.",
        )
    seen = verify.run(Namespace(**{**vars(args), "before": False}), context)
    if not isinstance(seen, VerifyResult):
        raise ProgramFault("a verification without a verdict")
    if not seen.profile and seen.after.reached and not (seen.guard and seen.guard.in_force):
        # Nobody says `zesty verify --before` on a device that reports by itself.
        verify.keep_as_before(seen.after, context)
        context.reporter.note("No tunnel is up: this is kept to compare with later.")
    sent, waiting, why = 0, 0, ""
    for one in known:
        number = one.reports + 1
        with context.store() as store:
            store.fleet.note_administrator(replace(one, reports=number))
        made = report_of("", number, seen.profile, digests.get(seen.profile, ""), seen.judgement, seen.after)
        _write_down(one, sign_report(made, own), number, context)
        done, left, problem = _send_all(one, context, args.timeout)
        sent, waiting, why = sent + done, waiting + left, problem or why
    return ReportResult(str(seen.judgement.verdict), sent, waiting, why)


def _folder(one: Administrator, context: Context) -> Path:
    """Reports that wait for an administrator."""
    from zesty_burrow.fleet.keys import ADMINISTRATOR, read_key

    paths = context.paths
    return paths.make(paths.make(paths.make(paths.state) / "reports") / read_key(one.key, ADMINISTRATOR).code)


def _write_down(one: Administrator, data: bytes, number: int, context: Context) -> None:
    from zesty_burrow.host.replace_file import replace_file

    folder = _folder(one, context)
    replace_file(folder / f"{number:012}.report", data, 0o600)
    for old in sorted(folder.glob("*.report"))[:-MOST_WAITING]:
        old.unlink(missing_ok=True)


def _send_all(one: Administrator, context: Context, timeout: float) -> tuple[int, int, str]:
    """How many were sent and how many wait, and why. One that the server will never take is not kept."""
    from zesty_burrow.fleet.report_client import Refused, Unsent, send_report

    waiting = sorted(_folder(one, context).glob("*.report"))
    for at, path in enumerate(waiting):
        try:
            send_report(one.report_to, one.report_authority, path.read_bytes(), timeout)
        except Refused as problem:
            context.reporter.note(f"A report was refused: {problem}", style="yellow")
        except Unsent as problem:
            return at, len(waiting) - at, str(problem)
        path.unlink()
    return len(waiting), 0, ""
