"""``zesty show``: one profile, and which credentials it uses."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace

from zesty_burrow.commands.context import Context
from zesty_burrow.report.results.profile import ShowResult
from zesty_burrow.use_cases.profiles.find import UsedCredentials, show_profile

EXAMPLE = "zesty show quillwort-lisbon"


def add_arguments(parser: ArgumentParser) -> None:
    parser.add_argument("name", help="a profile's name, or a city that only one profile has")
    parser.add_argument("--device", default="", help="show what another of your devices would use (this machine)")


def run(args: Namespace, context: Context) -> ShowResult:
    """The profile with its findings; secrets stay sealed."""
    shown = show_profile(args.name, context, args.device)
    rows = tuple(map(_row, shown.credentials))
    place = shown.imported_at, shown.origin, shown.store
    return ShowResult(shown.profile, *place, rows, shown.findings, shown.revocation_lists)


def _row(entry: UsedCredentials) -> dict[str, str]:
    return {
        "kind": entry.kind,
        "needed": "yes" if entry.is_needed else "no",
        "scope": entry.scope,
        "domain": entry.domain,
        "sealed_at": entry.sealed_at,
        "worked_at": entry.worked_at,
        "origin": entry.origin,
        "for": entry.store,
    }
