"""``zesty show``: one profile, and which credentials it uses."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace

from zesty_burrow.commands.context import Context
from zesty_burrow.core.profile import Profile
from zesty_burrow.profiles.checks import check_profile
from zesty_burrow.profiles.policy import judge_profile
from zesty_burrow.profiles.trust_facts import revocation_list_ages
from zesty_burrow.report.results.profile import ShowResult
from zesty_burrow.store.layered_store import LayeredStore

EXAMPLE = "zesty show quillwort-lisbon"


def add_arguments(parser: ArgumentParser) -> None:
    """The command's words."""
    parser.add_argument("name", help="a profile's name, or a city that only one profile has")
    parser.add_argument("--device", default="", help="show what another of your devices would use (this machine)")


def run(args: Namespace, context: Context) -> ShowResult:
    """The profile with its findings; secrets stay sealed."""
    device = args.device or context.device()
    with context.layered_store() as layered_store:
        profile, row, whom = layered_store.find_profile(args.name)
        rows = _credentials(layered_store, profile, device)
        facts_of = layered_store.trust_facts(whom, (*profile.authorities, *profile.revocation_lists))
    now = context.now()
    findings = (*check_profile(profile, now, facts_of), *judge_profile(context.policy(), profile))
    lists = tuple(revocation_list_ages(profile, now, facts_of))
    return ShowResult(profile, row.imported_at, row.origin, whom, rows, findings, lists)


def _credentials(layered_store: LayeredStore, profile: Profile, device: str) -> tuple[dict[str, str], ...]:
    """What is needed first, then whatever else is kept for it."""
    chosen = layered_store.choose_credentials(profile, device)
    needed = [str(kind) for kind in profile.needs]
    rows = []
    for kind in dict.fromkeys([*needed, *chosen]):
        entry, whom = chosen.get(kind, (None, ""))
        rows.append(
            {
                "kind": kind,
                "needed": "yes" if kind in needed else "no",
                "scope": str(entry.scope) if entry else "",
                "domain": entry.domain if entry else "",
                "sealed_at": entry.imported_at if entry else "",
                "worked_at": entry.worked_at if entry else "",
                "origin": entry.origin if entry else "",
                "for": whom,
            }
        )
    return tuple(rows)
