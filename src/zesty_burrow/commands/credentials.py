"""``zesty credentials``: what is kept, who uses it; change it everywhere at once, or forget it."""

from __future__ import annotations

import sys
from argparse import ArgumentParser, Namespace
from getpass import getpass

from zesty_burrow.commands.context import Context
from zesty_burrow.core.eap.peer import NamePassword
from zesty_burrow.errors import UsageError
from zesty_burrow.intake.credentials import paste_slips, read_credentials_untrusted
from zesty_burrow.report.result import CredentialsResult, MessageResult, Result

EXAMPLE = 'zesty credentials change "Quillwort Relay"'
MAX_INPUT = 4096


def add_arguments(parser: ArgumentParser) -> None:
    """The command's words."""
    actions = parser.add_subparsers(dest="action", required=True, metavar="ACTION")
    actions.add_parser("list", help="labels, and the profiles that use them", description="Nothing secret is shown.")
    for name, text in (
        ("change", "ask for name and password without echo, or read two lines from standard input"),
        ("forget", "remove what is kept under a label"),
    ):
        one = actions.add_parser(name, help=text, description=text)
        one.add_argument("label", help="as `zesty credentials list` shows it; usually the provider's name")


def run(args: Namespace, context: Context) -> Result:
    """List, change or forget."""
    with context.store() as store:
        if args.action == "list":
            users: dict[str, list[str]] = {}
            for row in store.list_profiles():
                label = store.find_profile(row.name)[0].credentials_label
                users.setdefault(label, []).append(row.name)
            kept = {entry.label: entry for entry in store.list_credentials()}
            rows = tuple(
                {
                    "label": label,
                    "sealed_at": kept[label].imported_at if label in kept else "",
                    "origin": kept[label].origin if label in kept else "",
                    "profiles": users.get(label, []),
                }
                for label in sorted({*users, *kept})
            )
            return CredentialsResult(rows)
        if args.action == "forget":
            store.forget_credentials(args.label)
            return MessageResult(f"The credentials for {args.label} are gone.")
        value, slips = _ask(args.label)
        store.take_kit([], [(args.label, value, "typed in")])
    said = "".join(f" Note: {slip}." for slip in slips)
    return MessageResult(f"The credentials for {args.label} are changed for all profiles that use them.{said}")


def _ask(label: str) -> tuple[NamePassword, list[str]]:
    """From the terminal without echo, else two lines from standard input."""
    if sys.stdin.isatty():
        name = input(f"Name for {label}: ")
        password = getpass(f"Password for {label} (not shown): ")
        text = f"{name}\n{password}\n"
    else:
        text = sys.stdin.read(MAX_INPUT + 1)
        if len(text) > MAX_INPUT:
            raise UsageError("standard input holds more than two lines of credentials")
    value, _ = read_credentials_untrusted(text, "what was typed in")
    slips = [f"the {what} {slip}" for what, part in (("name", value.name), ("password", value.password.text()))
             for slip in paste_slips(part)]  # fmt: skip
    return value, slips
