"""``zesty export``: profiles to a file, an archive, a QR code or RFC 9061 data; it imports again unchanged."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace
from pathlib import Path

from zesty_burrow.commands.context import Context
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.changes import CodeResult, ExportResult
from zesty_burrow.use_cases.profiles.export import ExportRequest, export

EXAMPLE = "zesty export --all --to profiles.zip"


def add_arguments(parser: ArgumentParser) -> None:
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
    request = ExportRequest(
        tuple(args.name),
        args.all,
        args.provider or "",
        args.to,
        args.with_credentials,
        args.kit_passphrase_file or context.passphrase_file,
    )
    made = export(request, context)
    if made.drawn:
        return CodeResult(made.profiles[0], made.drawn, made.credentials)
    return ExportResult(made.files, made.profiles, made.credentials, made.left_out)
