"""Write profiles to a file, an archive, a QR code or instance data; what is written can be imported again."""

from __future__ import annotations

import io
import os
import tomllib
import zipfile
from pathlib import Path
from typing import TYPE_CHECKING, Any

import tomli_w

from zesty_burrow.core.profile import Profile
from zesty_burrow.errors import Clash, NotFound, UsageError
from zesty_burrow.intake.sealed import FILE_NAME, TABLE, Entries, seal_credentials, sealed_file
from zesty_burrow.profiles.text import read_profile
from zesty_burrow.records import dataclass
from zesty_burrow.store.seal import write_private
from zesty_burrow.use_cases.workspace import Workspace

if TYPE_CHECKING:
    from zesty_burrow.store.layered_store import LayeredStore

DATE = (2026, 1, 1, 0, 0, 0)
"""Every member's date: the same profiles give the same archive."""
FORMS = {".toml": "profile", ".zip": "archive", ".png": "code", ".svg": "code", ".json": "data"}


@dataclass(frozen=True, slots=True)
class ExportRequest:
    """Profiles by ``names``, all of a ``provider``, or ``everything``. ``to``: a new file; None: codes as text.

    ``with_credentials``: encrypted with a passphrase, from ``passphrase_file`` or asked for.
    """

    names: tuple[str, ...] = ()
    everything: bool = False
    provider: str = ""
    to: Path | None = None
    with_credentials: bool = False
    passphrase_file: Path | None = None


@dataclass(frozen=True, slots=True)
class Exported:
    """``credentials``: their scopes. ``left_out``: what the form cannot hold. ``drawn``: codes as text."""

    files: tuple[str, ...]
    profiles: tuple[str, ...]
    credentials: tuple[str, ...]
    left_out: tuple[str, ...] = ()
    drawn: tuple[str, ...] = ()


def export(request: ExportRequest, workspace: Workspace) -> Exported:
    """Write new files, readable by their owner only. Raises :class:`UsageError`, :class:`NotFound`, :class:`Clash`."""
    if sum((bool(request.names), request.everything, bool(request.provider))) != 1:
        raise UsageError("name profiles, or use --all or --provider", why="one of the three is needed")
    form = _form(request)
    with workspace.layered_store() as layered_store:
        texts = _texts(request, layered_store)
        if form in ("profile", "code") and len(texts) > 1:
            raise UsageError(f"{len(texts)} profiles do not fit into one {form}", next_step="Name a .zip file.")
        profiles = {name: read_profile(text, f"profile {name}") for name, text in texts.items()}
        secrets = _secrets(profiles, layered_store) if request.with_credentials else []
    table = None
    if secrets:
        question = "Passphrase for the exported credentials: "
        passphrase = workspace.ask_passphrase(question, request.passphrase_file, confirm=True)
        table = seal_credentials(secrets, passphrase, os.urandom)
    scopes = tuple(str(scope) for scope, _ in secrets)
    if form == "code" or request.to is None:
        return _code(request, next(iter(texts)), _with_table(next(iter(texts.values())), table), scopes)
    written = tuple(texts)
    left_out: tuple[str, ...] = ()
    if form == "archive":
        files = {f"{name}.toml": text.encode() for name, text in texts.items()}
        data = _archive({**files, FILE_NAME: sealed_file(table)} if table else files)
    elif form == "data":
        data, written, left_out = _data(profiles)
    else:
        data = _with_table(next(iter(texts.values())), table).encode()
    _write(request.to, data)
    return Exported((str(request.to),), written, scopes, left_out)


def _form(request: ExportRequest) -> str:
    form = "code" if request.to is None else FORMS.get(request.to.suffix.lower(), "")
    if not form:
        raise UsageError(f"{request.to}: unknown file name ending", next_step=f"Choose one of {', '.join(FORMS)}.")
    if request.with_credentials and form == "data":
        raise UsageError("instance data cannot contain credentials", next_step="Name a .toml, .png or .zip file.")
    return form


def _texts(request: ExportRequest, layered_store: LayeredStore) -> dict[str, str]:
    """The chosen profiles' texts by name; the user's own before the machine's."""
    found: dict[str, str] = {}
    if request.names:
        for name in dict.fromkeys(request.names):
            _, row, whom = layered_store.find_profile(name)
            found[row.name] = layered_store.profile_text(row, whom)
    else:
        where = {"provider": request.provider} if request.provider else {}
        for whom, row in layered_store.list_profiles((), **where):
            found.setdefault(row.name, layered_store.profile_text(row, whom))
    if not found:
        raise NotFound("there is no profile to export")
    return found


def _secrets(profiles: dict[str, Profile], layered_store: LayeredStore) -> Entries:
    """Everything that is kept for the profiles, for whichever device."""
    labels = {profile.credentials_label for profile in profiles.values()}
    return [
        (row.scope, layered_store.open_credentials(row, whom))
        for whom, row in layered_store.list_credentials()
        if (row.profile in profiles if row.profile else row.label in labels)
    ]


def _with_table(text: str, table: dict[str, Any] | None) -> str:
    """A profile's text with the sealed credentials in it."""
    if table is None:
        return text
    return tomli_w.dumps({**tomllib.loads(text), TABLE: table}, multiline_strings=True)


def _data(profiles: dict[str, Profile]) -> tuple[bytes, tuple[str, ...], tuple[str, ...]]:
    """The document, the profiles in it, and what was left out."""
    from zesty_burrow.intake.readers.instance_data import write_instance_data
    from zesty_burrow.protocols.parts import models

    known = {name: profile for name, profile in profiles.items() if profile.tunnel.protocol in models()}
    protocols = {profile.tunnel.protocol for profile in known.values()}
    others = [
        f"{name}: the whole profile, which is {profile.over}" for name, profile in profiles.items() if name not in known
    ]
    if len(protocols) != 1:
        raise UsageError(
            "instance data cannot contain these profiles",
            why=f"there is a model for {', '.join(models())}; {', '.join(others[:1] or sorted(protocols))}",
            next_step="Name a .toml, .png or .zip file.",
        )
    text, unmapped = write_instance_data(protocols.pop(), known)
    return text.encode(), tuple(known), (*unmapped, *others)


def _code(request: ExportRequest, name: str, text: str, scopes: tuple[str, ...]) -> Exported:
    """One picture for each code, or all codes as text."""
    from zesty_burrow.intake.readers.codes import drawn, make_codes, picture_of

    codes = make_codes(text)
    if request.to is None:
        return Exported((), (name,), scopes, drawn=tuple(map(drawn, codes)))
    to, count = request.to, len(codes)
    paths = [to if count == 1 else to.with_stem(f"{to.stem}-{number}") for number in range(1, count + 1)]
    for path, code in zip(paths, codes, strict=True):
        _write(path, picture_of(code, path.suffix.lower().lstrip(".")))
    return Exported(tuple(map(str, paths)), (name,), scopes)


def _write(path: Path, data: bytes) -> None:
    try:
        write_private(path, data)
    except FileExistsError:
        raise Clash(f"{path} exists already", next_step="Name a new file.") from None


def _archive(files: dict[str, bytes]) -> bytes:
    stream = io.BytesIO()
    with zipfile.ZipFile(stream, "w", zipfile.ZIP_DEFLATED) as opened:
        for name, data in sorted(files.items()):
            entry = zipfile.ZipInfo(name, DATE)
            entry.external_attr = 0o100600 << 16
            entry.compress_type = zipfile.ZIP_DEFLATED
            opened.writestr(entry, data)
    return stream.getvalue()
