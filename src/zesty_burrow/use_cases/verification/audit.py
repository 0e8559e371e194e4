"""A report for auditors over a period: what is configured, what was verified with which result, what was changed."""

from __future__ import annotations

import io
import json
import zipfile
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

from zesty_burrow.core.crypto import jws
from zesty_burrow.core.outside.runs.archive import RUNS, check_archive, csv_of, make_archive, runs_of
from zesty_burrow.core.outside.runs.record import digest
from zesty_burrow.core.outside.runs.tables import csv_table
from zesty_burrow.errors import InputError, StateError
from zesty_burrow.host.replace_file import replace_file
from zesty_burrow.observe.observatory.signing import load_or_make
from zesty_burrow.records import asdict, dataclass
from zesty_burrow.store.verifications.run_store import RunFilter
from zesty_burrow.use_cases.verification.history import KEY
from zesty_burrow.use_cases.workspace import Workspace

MOST_OCTETS = 256 << 20
MOST_FILES = 64
PROFILE_COLUMNS = ("name", "provider", "country", "city", "protocol", "imported_at", "tags", "digest")
CHANGE_COLUMNS = ("number", "made_at", "who", "what", "undone", "names", "scopes", "devices")
EXCEPTION_COLUMNS = ("taken_at", "profile", "verdict", "headline", "expectations", "findings")
Page = Callable[[Mapping[str, Any]], str]


@dataclass(frozen=True, slots=True)
class AuditRequest:
    """``file``: the archive to make. ``since``, ``until``: RFC 3339, empty: from the first run to the last."""

    file: Path
    since: str = ""
    until: str = ""


@dataclass(frozen=True, slots=True)
class Audited:
    """``runs``: how many; ``exceptions``: those that were not sealed. ``key``: the checker of the archive needs it."""

    file: Path
    runs: int
    exceptions: int
    profiles: int
    changes: int
    key: str


@dataclass(frozen=True, slots=True)
class CheckedAudit:
    """``problems``: in words, none where the archive is as it was made."""

    file: Path
    runs: int
    problems: tuple[str, ...]


def make_audit(request: AuditRequest, workspace: Workspace, page: Page) -> Audited:
    """``page``: makes the page for people from the report's document. Raises :class:`StateError` without runs."""
    key = load_or_make(workspace.paths.state / KEY)
    chain = jws.thumbprint(key.public_key())
    wanted = RunFilter(chain=chain, since=request.since, until=request.until)
    with workspace.store() as store:
        records = [record for _, record in store.runs.records(wanted)]
        profiles = [asdict(row) for row in store.list_profiles()]
        changes = [asdict(row) for row in store.list_changes()]
    if not records:
        raise StateError(
            "there is no run in this period", next_step="See `zesty history`, or run `zesty verify`.", slug="no-history"
        )
    runs = runs_of(records, key.public_key())
    changes = [row for row in changes if _within(str(row["made_at"]), request)]
    exceptions = [_exception(run) for run in runs if run["verdict"] != "sealed"]
    first = json.loads(jws.payload_of(records[0]))
    told = {
        "device": workspace.device(),
        "made_at": workspace.now().strftime("%Y-%m-%dT%H:%M:%SZ"),
        "since": request.since or runs[0]["after"]["taken_at"],
        "until": request.until or runs[-1]["after"]["taken_at"],
        "records": len(records),
        "first_previous": first["previous"],
        "last": digest(records[-1]),
    }
    report = {**told, "profiles": profiles, "changes": changes, "exceptions": exceptions, "runs": runs}
    report["key"] = jws.public_text(key.public_key())
    files = {
        RUNS: "".join(f"{record}\n" for record in records).encode(),
        "runs.csv": csv_of(runs),
        "profiles.json": _json(profiles),
        "profiles.csv": csv_table(PROFILE_COLUMNS, profiles),
        "changes.json": _json(changes),
        "changes.csv": csv_table(CHANGE_COLUMNS, changes),
        "exceptions.json": _json(exceptions),
        "exceptions.csv": csv_table(EXCEPTION_COLUMNS, exceptions),
        "report.html": page(report).encode(),
    }
    _write(request.file, make_archive(key, told, files))
    public = jws.public_text(key.public_key())
    return Audited(request.file, len(runs), len(exceptions), len(profiles), len(changes), public)


def _within(stamp: str, request: AuditRequest) -> bool:
    return (not request.since or stamp >= request.since) and (not request.until or stamp < request.until)


def _exception(run: Mapping[str, Any]) -> dict[str, Any]:
    rows = [row for row in run.get("expectations", ()) if row["standing"] != "held"]
    found = [f"{row['code']}: {row['subject']}" for row in run.get("findings", ()) if row["severity"] != "note"]
    return {
        "taken_at": run["after"]["taken_at"],
        "profile": run["profile"],
        "verdict": run["verdict"],
        "headline": run["headline"],
        "expectations": [f"{row['what']}: {row['standing']} ({row['evidence']})" for row in rows],
        "findings": found,
    }


def _json(value: Any) -> bytes:
    return json.dumps(value, indent=1, sort_keys=True, default=str).encode() + b"\n"


def _write(path: Path, files: Mapping[str, bytes]) -> None:
    room = io.BytesIO()
    with zipfile.ZipFile(room, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, octets in files.items():
            archive.writestr(name, octets)
    try:
        replace_file(path, room.getvalue(), 0o600)
    except OSError as problem:
        raise InputError(f"{path} cannot be written", why=problem.strerror or str(problem)) from None


def check_audit(path: Path, key: str, workspace: Workspace) -> CheckedAudit:
    """``key``: public key of the device that has made it, as text; empty: this machine's own.

    Raises :class:`InputError` for a file that is no archive, :class:`StateError` where no key is known.
    """
    if not key:
        own = workspace.paths.state / KEY
        if not own.exists():
            raise StateError(
                "no key is known to check it with",
                next_step="Name the key of the device that made the report: --key KEY; `zesty audit` showed it there.",
                slug="no-history",
            )
        key = jws.public_text(load_or_make(own).public_key())
    files = _read(path)
    lines = files.get(RUNS, b"").splitlines()
    return CheckedAudit(path, len(lines), tuple(check_archive(files, jws.public_key(key))))


def _read(path: Path) -> dict[str, bytes]:
    try:
        with zipfile.ZipFile(path) as archive:
            entries = archive.infolist()
            if len(entries) > MOST_FILES or sum(entry.file_size for entry in entries) > MOST_OCTETS:
                raise InputError(f"{path} is too large to be checked", why="a report has few files of moderate size")
            if len({entry.filename for entry in entries}) != len(entries):
                raise InputError(f"{path} is no report", why="two files in it have one name")
            return {entry.filename: _bounded(archive, entry) for entry in entries}
    except (OSError, zipfile.BadZipFile, EOFError, NotImplementedError, RuntimeError, ValueError) as problem:
        raise InputError(f"{path} is no report", why=str(problem), next_step="A report is a ZIP archive.") from None


def _bounded(archive: zipfile.ZipFile, entry: zipfile.ZipInfo) -> bytes:
    with archive.open(entry) as stream:
        octets = stream.read(MOST_OCTETS + 1)
    if len(octets) > MOST_OCTETS:
        raise ValueError(f"{entry.filename} is too large")
    return octets
