"""``zesty show``: one profile, and which credentials it uses."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace

from zesty_burrow.commands.context import Context
from zesty_burrow.core.profile.checks import check_profile
from zesty_burrow.core.profile.text import write_profile
from zesty_burrow.report.result import ShowResult

EXAMPLE = "zesty show quillwort-lisbon"


def add_arguments(parser: ArgumentParser) -> None:
    """The command's words."""
    parser.add_argument("name", help="a profile's name, or a city that only one profile has")


def run(args: Namespace, context: Context) -> ShowResult:
    """The profile with its findings; secrets stay sealed."""
    with context.store() as store:
        profile, row = store.find_profile(args.name)
        label = profile.credentials_label
        kept = next((entry for entry in store.list_credentials() if entry.label == label), None)
    words = f"for {label}, sealed {kept.imported_at}, from {kept.origin}" if kept else f"none for {label} yet"
    findings = tuple(check_profile(profile, context.now()))
    return ShowResult(profile, write_profile(profile), row.imported_at, row.origin, words, findings)
