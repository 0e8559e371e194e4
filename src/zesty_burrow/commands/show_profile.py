"""``zesty show``: one profile, and which credentials it uses."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace

from zesty_burrow.commands.context import Context
from zesty_burrow.core.policy.policy import judge_profile
from zesty_burrow.core.profile.checks import check_profile
from zesty_burrow.core.profile.model import Profile
from zesty_burrow.core.profile.text import write_profile
from zesty_burrow.report.result import ShowResult
from zesty_burrow.store.shelves import Shelves

EXAMPLE = "zesty show quillwort-lisbon"


def add_arguments(parser: ArgumentParser) -> None:
    """The command's words."""
    parser.add_argument("name", help="a profile's name, or a city that only one profile has")
    parser.add_argument("--device", default="", help="what another of your devices would use; none: this machine")


def run(args: Namespace, context: Context) -> ShowResult:
    """The profile with its findings; secrets stay sealed."""
    device = args.device or context.device()
    with context.shelves() as shelves:
        profile, row, whom = shelves.find_profile(args.name)
        rows = _credentials(shelves, profile, device)
    findings = (*check_profile(profile, context.now()), *judge_profile(context.policy(), profile))
    return ShowResult(profile, write_profile(profile), row.imported_at, row.origin, whom, rows, findings)


def _credentials(shelves: Shelves, profile: Profile, device: str) -> tuple[dict[str, str], ...]:
    """What is needed first, then whatever else is kept for it."""
    chosen = shelves.choose_credentials(profile, device)
    needed = [str(kind) for kind in profile.sign_in.needs]
    rows = []
    for kind in dict.fromkeys([*needed, *chosen]):
        entry, whom = chosen.get(kind, (None, ""))
        rows.append(
            {
                "kind": kind,
                "needed": "yes" if kind in needed else "no",
                "scope": str(entry.scope) if entry else "",
                "sealed_at": entry.imported_at if entry else "",
                "origin": entry.origin if entry else "",
                "for": whom,
            }
        )
    return tuple(rows)
