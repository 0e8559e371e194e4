"""On a device: verify, and report the verdict to the administrators who handed over its profiles."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from zesty_burrow.errors import ProgramFault, StateError
from zesty_burrow.fleet.keys import DEVICE, OwnKeys, make_secret
from zesty_burrow.fleet.report import report_of, sign_report
from zesty_burrow.records import dataclass, replace
from zesty_burrow.use_cases.verification.verify import VerifyRequest, keep_as_before, verify
from zesty_burrow.use_cases.workspace import Workspace

if TYPE_CHECKING:
    from zesty_burrow.store.fleet.fleet_store import Administrator

MOST_WAITING = 200
"""Reports that wait for one administrator; the oldest go."""


@dataclass(frozen=True, slots=True)
class Reported:
    """``sent`` and ``waiting``: numbers of reports, this one included. ``why``: some wait."""

    verdict: str
    sent: int
    waiting: int
    why: str


def report(request: VerifyRequest, timeout: float, workspace: Workspace) -> Reported:
    """Verify, keep the report, and send it with those that wait. ``timeout``: seconds for each server.

    Raises :class:`StateError` if no administrator wants reports.
    """
    with workspace.store() as store:
        known = [administrator for administrator in store.fleet.administrators() if administrator.report_to]
        own = OwnKeys(store.fleet.own_key(DEVICE, make_secret))
        digests = store.digests()
    if not known:
        raise StateError(
            "nobody wants reports of this device",
            why="no administrator has said where to report to",
            next_step="An administrator says it with `zesty hand-over … --report URL`.",
        )
    seen = verify(request, workspace)
    if seen.judgement is None:
        raise ProgramFault("a verification without a verdict")
    if not seen.profile and seen.observation.reached and not (seen.guard and seen.guard.in_force):
        # Nobody says `zesty verify --before` on a device that reports by itself.
        keep_as_before(seen.observation, workspace)
        workspace.interaction.note("No tunnel is up: this is kept to compare with later.")
    sent, waiting, why = 0, 0, ""
    for one in known:
        number = one.reports + 1
        with workspace.store() as store:
            store.fleet.note_administrator(replace(one, reports=number))
        made = report_of("", number, seen.profile, digests.get(seen.profile, ""), seen.judgement, seen.observation)
        _write_down(one, sign_report(made, own), number, workspace)
        done, left, problem = _send_all(one, workspace, timeout)
        sent, waiting, why = sent + done, waiting + left, problem or why
    return Reported(str(seen.judgement.verdict), sent, waiting, why)


def _folder(administrator: Administrator, workspace: Workspace) -> Path:
    """Reports that wait for an administrator."""
    from zesty_burrow.fleet.keys import ADMINISTRATOR, read_key

    paths = workspace.paths
    return paths.make(paths.make(paths.make(paths.state) / "reports") / read_key(administrator.key, ADMINISTRATOR).code)


def _write_down(administrator: Administrator, data: bytes, number: int, workspace: Workspace) -> None:
    from zesty_burrow.host.replace_file import replace_file

    folder = _folder(administrator, workspace)
    replace_file(folder / f"{number:012}.report", data, 0o600)
    for old in sorted(folder.glob("*.report"))[:-MOST_WAITING]:
        old.unlink(missing_ok=True)


def _send_all(administrator: Administrator, workspace: Workspace, timeout: float) -> tuple[int, int, str]:
    """How many were sent and how many wait, and why. One that the server will never take is not kept."""
    from zesty_burrow.fleet.report_client import Refused, Unsent, send_report

    waiting = sorted(_folder(administrator, workspace).glob("*.report"))
    for at, path in enumerate(waiting):
        try:
            send_report(administrator.report_to, administrator.report_authority, path.read_bytes(), timeout)
        except Refused as problem:
            workspace.interaction.note(f"A report was refused: {problem}", style="yellow")
        except Unsent as problem:
            return at, len(waiting) - at, str(problem)
        path.unlink()
    return len(waiting), 0, ""
