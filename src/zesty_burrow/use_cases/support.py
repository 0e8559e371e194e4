"""What a help desk or a colleague needs to help: versions, checks, settings, the log, answers; and no secret."""

from __future__ import annotations

import json
import platform
from collections.abc import Callable, Iterable, Iterator
from contextlib import suppress
from importlib import metadata
from pathlib import Path

import zesty_burrow
from zesty_burrow.core.finding import Finding
from zesty_burrow.core.profile import Profile
from zesty_burrow.core.secret import Secret
from zesty_burrow.errors import BurrowError, printable
from zesty_burrow.profiles.checks import check_profile
from zesty_burrow.profiles.text import write_profile
from zesty_burrow.records import dataclass
from zesty_burrow.use_cases.profiles.advise import AdviseRequest, advise_profiles
from zesty_burrow.use_cases.profiles.find import ProfileFilter
from zesty_burrow.use_cases.tunnel.last_used import last_used
from zesty_burrow.use_cases.tunnel.ready import look_whether_ready
from zesty_burrow.use_cases.tunnel.status import StatusRequest, look
from zesty_burrow.use_cases.verification.history import HistoryRequest, list_history
from zesty_burrow.use_cases.workspace import Workspace

LIBRARIES = ("cryptography", "dnspython", "aioquic", "h2", "asyncssh", "numba", "psycopg")
MOST_LINES, MOST_RUNS = 200, 5
LEFT_OUT = "(a secret was left out here)"
SHORTEST = 4
"""A secret of fewer letters would be found in every other word."""


@dataclass(frozen=True, slots=True)
class SupportRequest:
    """``name``: a profile, empty: the one used last. ``ask``: also ask its gateway what it can do."""

    name: str = ""
    ask: bool = True


def gather_support(request: SupportRequest, workspace: Workspace) -> str:
    """Plain text in parts. A part that cannot be had gives its error instead; nothing is changed.

    Raises :class:`NotFound` for a profile that does not exist.
    """
    profile = _profile(request.name or last_used(workspace), workspace, must=bool(request.name))
    parts: list[tuple[str, Callable[[], Iterable[str]]]] = [
        ("program and machine", _versions),
        ("is this machine ready", lambda: _ready(workspace)),
        ("tunnel and guard", lambda: _status(workspace)),
    ]
    if profile is not None:
        parts += [
            (f"profile {profile.name}, without secrets", lambda: write_profile(profile).splitlines()),
            ("what is noticed in it", lambda: _findings(check_profile(profile, workspace.now()))),
        ]
        if request.ask:
            parts.append(("what its gateway answers", lambda: _answers(profile, workspace)))
    parts += [("latest verifications", lambda: _runs(workspace)), ("log of the last tunnel", lambda: _log(workspace))]
    lines: list[str] = []
    for title, part in parts:
        lines += [f"== {title}", *_lines(part), ""]
    return _without_secrets("\n".join(lines), workspace)


def _lines(part: Callable[[], Iterable[str]]) -> list[str]:
    """A part that cannot be had says why."""
    try:
        return [printable(line) for line in part()] or ["nothing"]
    except BurrowError as problem:
        return [printable(f"not known: {problem}")]


def _profile(name: str, workspace: Workspace, *, must: bool) -> Profile | None:
    try:
        with workspace.layered_store() as layered_store:
            return layered_store.find_profile(name)[0]
    except BurrowError:
        if must:
            raise
        return None


def _versions() -> Iterator[str]:
    yield f"zesty-burrow {zesty_burrow.__version__}, Python {platform.python_version()}"
    with suppress(OSError, KeyError):
        yield f"{platform.freedesktop_os_release()['PRETTY_NAME']}, Linux {platform.release()}, {platform.machine()}"
    for name in LIBRARIES:
        try:
            yield f"{name} {metadata.version(name)}"
        except metadata.PackageNotFoundError:
            yield f"{name} is not installed"


def _ready(workspace: Workspace) -> Iterator[str]:
    for check in look_whether_ready((), workspace):
        yield f"{check.state:<10} {check.name}: {check.found}"


def _status(workspace: Workspace) -> Iterator[str]:
    seen = look(StatusRequest(), workspace)
    yield f"condition: {seen.condition}"
    if seen.tunnel is not None:
        yield json.dumps(seen.tunnel.document())
    guard = seen.guard
    yield f"guard: {guard.measured} at {guard.at}" if guard is not None else "guard: nobody holds it closed"
    yield from _findings(seen.findings)


def _findings(findings: Iterable[Finding]) -> Iterator[str]:
    for entry in findings:
        yield f"{entry.severity} {entry.code.slug}: {entry.subject}: {entry.detail or entry.code.title}"


def _answers(profile: Profile, workspace: Workspace) -> Iterator[str]:
    guard = look(StatusRequest(), workspace).guard
    if guard is not None and guard.everything:
        yield "not asked: nothing leaves beside the tunnel while the guard is closed"
        return
    wanted = ProfileFilter((profile.name,))
    advised = advise_profiles(AdviseRequest(wanted), workspace)
    for name, why in advised.silent.items():
        yield f"{name}: {why}"
    for way in advised.ways:
        words = way.words or str(way.suite or "")
        yield f"{way.name}, port {way.port}: {'answered' if way.answered else 'no answer'}; {words or way.against}"


def _runs(workspace: Workspace) -> Iterator[str]:
    for run in list_history(HistoryRequest(most=MOST_RUNS), workspace).runs:
        yield f"{run.taken_at} {run.profile or 'no tunnel'}: {run.verdict}: {run.headline}"


def _log(workspace: Workspace) -> Iterator[str]:
    for entry in (look(StatusRequest(log=True), workspace).log or ())[-MOST_LINES:]:
        yield json.dumps(entry)


def _without_secrets(text: str, workspace: Workspace) -> str:
    """None is put there; should one have come in with a name or an answer, it is taken out again."""
    if workspace.settings().seal == "passphrase":
        # Nobody is asked for that: what was gathered comes from places that have no secrets.
        return text
    for secret in sorted(_secrets(workspace), key=len, reverse=True):
        text = text.replace(secret, LEFT_OUT)
    return text


def _secrets(workspace: Workspace) -> set[str]:
    found: set[str] = set()
    with suppress(BurrowError), workspace.layered_store() as layered_store:
        for whom, row in layered_store.list_credentials():
            kept = layered_store.open_credentials(row, whom)
            values = (getattr(kept, name, None) for name in getattr(type(kept), "__slots__", ()))
            for secret in (value for value in values if isinstance(value, Secret)):
                text = secret.octets().decode("utf-8", "replace")
                found |= {text, *text.splitlines()}
    return {one for one in found if len(one) >= SHORTEST and not one.startswith("-----")}


def write_support(text: str, to: Path) -> None:
    """A new file, for its owner alone. Raises :class:`Clash`, :class:`InputError`."""
    from zesty_burrow.errors import Clash
    from zesty_burrow.host.replace_file import write_file

    if to.exists():
        raise Clash(f"{to} exists already", next_step="Name a file that does not exist.")
    write_file(to, text.encode())
