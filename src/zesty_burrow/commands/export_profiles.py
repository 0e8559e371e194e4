"""``zesty export``: profiles to a file or an archive; what is exported imports again unchanged."""

from __future__ import annotations

import io
import os
import zipfile
from argparse import ArgumentParser, Namespace
from pathlib import Path

from zesty_burrow.commands.context import Context
from zesty_burrow.errors import Clash, NotFound, UsageError
from zesty_burrow.intake.sealed import FILE_NAME, seal_credentials
from zesty_burrow.report.result import ExportResult
from zesty_burrow.store.seal import write_private

EXAMPLE = "zesty export --all --to profiles.zip"
DATE = (2026, 1, 1, 0, 0, 0)
"""Every member's date: the same profiles give the same archive."""


def add_arguments(parser: ArgumentParser) -> None:
    """The command's words."""
    parser.add_argument("name", nargs="*", help="profiles to export")
    parser.add_argument("--all", action="store_true", help="export every profile")
    parser.add_argument("--provider", help="export all profiles of this provider")
    parser.add_argument(
        "--to", type=Path, required=True, metavar="FILE", help="a new file: .toml for one, .zip for any"
    )
    parser.add_argument(
        "--with-credentials",
        action="store_true",
        help="names and passwords as well, sealed under a passphrase that is asked for (only into .zip)",
    )


def run(args: Namespace, context: Context) -> ExportResult:
    """Write one new file, readable by its owner only."""
    if sum((bool(args.name), args.all, bool(args.provider))) != 1:
        raise UsageError("name profiles, or say --all or --provider", why="one of the three is wanted")
    archive = args.to.suffix.lower() == ".zip"
    if args.with_credentials and not archive:
        raise UsageError("credentials travel only in an archive", next_step="Name a file that ends with .zip.")
    with context.store() as store:
        rows = store.list_profiles()
        if args.name:
            names = [store.find_profile(name)[1].name for name in dict.fromkeys(args.name)]
        else:
            names = [row.name for row in rows if args.all or row.provider == args.provider]
        if not names:
            raise NotFound("there is no profile to export")
        if not archive and len(names) > 1:
            raise UsageError(f"{len(names)} profiles do not fit into one profile file", next_step="Name a .zip file.")
        texts = dict(zip(names, store.profile_texts(names), strict=True))
        secrets = {}
        if args.with_credentials:
            labels = {store.find_profile(name)[0].credentials_label for name in names}
            kept = {entry.label for entry in store.list_credentials()}
            secrets = {label: store.find_credentials(label) for label in sorted(labels & kept)}
    files = {f"{name}.toml": text.encode() for name, text in texts.items()}
    if secrets:
        passphrase = context.ask_passphrase("Passphrase for the exported credentials: ", confirm=True)
        files[FILE_NAME] = seal_credentials(secrets, passphrase, os.urandom)
    data = _archive(files) if archive else next(iter(files.values()))
    try:
        write_private(args.to, data)
    except FileExistsError:
        raise Clash(f"{args.to} exists already", next_step="Name a new file.") from None
    return ExportResult(str(args.to), tuple(names), tuple(secrets))


def _archive(files: dict[str, bytes]) -> bytes:
    stream = io.BytesIO()
    with zipfile.ZipFile(stream, "w", zipfile.ZIP_DEFLATED) as opened:
        for name, data in sorted(files.items()):
            entry = zipfile.ZipInfo(name, DATE)
            entry.external_attr = 0o100600 << 16
            entry.compress_type = zipfile.ZIP_DEFLATED
            opened.writestr(entry, data)
    return stream.getvalue()
