"""``zesty rename``: give a profile another name."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace

from zesty_burrow.commands.context import Context
from zesty_burrow.report.results.plain import MessageResult
from zesty_burrow.use_cases.profiles.edit import rename_profile

EXAMPLE = "zesty rename quillwort-lisbon lisbon-at-sea"


def add_arguments(parser: ArgumentParser) -> None:
    parser.add_argument("name", help="the profile's name, or a city that only one profile has")
    parser.add_argument("new_name", help="lower-case letters, digits, dots and hyphens, up to 64")


def run(args: Namespace, context: Context) -> MessageResult:
    """Only the name changes."""
    return MessageResult(f"{rename_profile(args.name, args.new_name, context)} is now {args.new_name}.")
