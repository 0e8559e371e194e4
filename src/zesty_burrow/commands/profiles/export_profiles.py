"""``zesty export``: profiles to a file, an archive, a QR code or RFC 9061 data; it imports again unchanged."""

from __future__ import annotations

import io
import os
import tomllib
import zipfile
from argparse import ArgumentParser, Namespace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import tomli_w

from zesty_burrow.commands.context import Context
from zesty_burrow.core.profile import Profile
from zesty_burrow.errors import Clash, NotFound, UsageError
from zesty_burrow.intake.sealed import FILE_NAME, TABLE, Entries, seal_credentials, sealed_file
from zesty_burrow.profiles.text import read_profile
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.changes import CodeResult, ExportResult
from zesty_burrow.store.seal import write_private

if TYPE_CHECKING:
    from zesty_burrow.store.layered_store import LayeredStore

EXAMPLE = "zesty export --all --to profiles.zip"
DATE = (2026, 1, 1, 0, 0, 0)
"""Every member's date: the same profiles give the same archive."""
FORMS = {".toml": "profile", ".zip": "archive", ".png": "code", ".svg": "code", ".json": "data"}


def add_arguments(parser: ArgumentParser) -> None:
    """The command's words."""
    parser.add_argument("name", nargs="*", help="profiles to export")
    parser.add_argument("--all", action="store_true", help="export every profile")
    parser.add_argument("--provider", help="export all profiles of this provider")
    where = parser.add_mutually_exclusive_group(required=True)
    where.add_argument(
        "--to",
        type=Path,
        metavar="FILE",
        help="a new file: .toml, .png or .svg (QR code) for one profile, .zip or .json (RFC 9061) for any",
    )
    where.add_argument("--show-code", action="store_true", help="one profile as a QR code on the terminal")
    parser.add_argument(
        "--with-credentials",
        action="store_true",
        help="export the credentials as well, encrypted with a passphrase (not for .json)",
    )
    parser.add_argument(
        "--kit-passphrase-file",
        type=Path,
        metavar="FILE",
        help="read their passphrase from FILE instead of asking",
    )


def run(args: Namespace, context: Context) -> Result:
    """Write new files, readable by their owner only; or show the code."""
    if sum((bool(args.name), args.all, bool(args.provider))) != 1:
        raise UsageError("name profiles, or use --all or --provider", why="one of the three is needed")
    form = "code" if args.show_code else FORMS.get(args.to.suffix.lower(), "")
    if not form:
        raise UsageError(f"{args.to}: unknown file name ending", next_step=f"Choose one of {', '.join(FORMS)}.")
    if args.with_credentials and form == "data":
        raise UsageError("RFC 9061 data cannot contain credentials", next_step="Name a .toml, .png or .zip file.")
    with context.layered_store() as layered_store:
        texts = _texts(args, layered_store)
        if form in ("profile", "code") and len(texts) > 1:
            raise UsageError(f"{len(texts)} profiles do not fit into one {form}", next_step="Name a .zip file.")
        profiles = {name: read_profile(text, f"profile {name}") for name, text in texts.items()}
        secrets = _secrets(profiles, layered_store) if args.with_credentials else []
    table = None
    if secrets:
        file = args.kit_passphrase_file or context.passphrase_file
        passphrase = context.ask_passphrase("Passphrase for the exported credentials: ", file, confirm=True)
        table = seal_credentials(secrets, passphrase, os.urandom)
    scopes = tuple(str(scope) for scope, _ in secrets)
    if form == "code":
        return _code(args, next(iter(texts)), _with_table(next(iter(texts.values())), table), scopes)
    written = tuple(texts)
    left_out: tuple[str, ...] = ()
    if form == "archive":
        files = {f"{name}.toml": text.encode() for name, text in texts.items()}
        data = _archive({**files, FILE_NAME: sealed_file(table)} if table else files)
    elif form == "data":
        data, written, left_out = _data(profiles)
    else:
        data = _with_table(next(iter(texts.values())), table).encode()
    _write(args.to, data)
    return ExportResult((str(args.to),), written, scopes, left_out)


def _texts(args: Namespace, layered_store: LayeredStore) -> dict[str, str]:
    """The chosen profiles' texts by name; the user's own before the machine's."""
    found: dict[str, str] = {}
    if args.name:
        for name in dict.fromkeys(args.name):
            _, row, whom = layered_store.find_profile(name)
            found[row.name] = layered_store.profile_text(row, whom)
    else:
        where = {"provider": args.provider} if args.provider else {}
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
    from zesty_burrow.intake.readers.instance_data import is_of_ike, write_instance_data

    known = {name: one for name, one in profiles.items() if is_of_ike(one)}
    others = [f"{name}: the whole profile, which is {one.over}" for name, one in profiles.items() if name not in known]
    if not known:
        raise UsageError(
            "RFC 9061 data cannot contain these profiles",
            why=f"it knows IKEv2 alone; {others[0]}",
            next_step="Name a .toml, .png or .zip file.",
        )
    text, unmapped = write_instance_data(known)
    return text.encode(), tuple(known), (*unmapped, *others)


def _code(args: Namespace, name: str, text: str, scopes: tuple[str, ...]) -> Result:
    """One picture for each code, or all codes on the terminal."""
    from zesty_burrow.intake.readers.codes import drawn, make_codes, picture_of

    made = make_codes(text)
    if args.show_code:
        return CodeResult(name, tuple(map(drawn, made)), scopes)
    paths = [args.to if len(made) == 1 else args.to.with_stem(f"{args.to.stem}-{at}") for at in range(1, len(made) + 1)]
    for path, code in zip(paths, made, strict=True):
        _write(path, picture_of(code, path.suffix.lower().lstrip(".")))
    return ExportResult(tuple(map(str, paths)), (name,), scopes)


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
