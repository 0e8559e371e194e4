"""``zesty import``: take a kit into the store; all of it or nothing."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace
from pathlib import Path
from typing import TYPE_CHECKING

from zesty_burrow.commands.context import Context
from zesty_burrow.commands.kits import read_kits
from zesty_burrow.core.finding import Finding, Severity, finding
from zesty_burrow.core.profile.compare import differences
from zesty_burrow.core.profile.model import Profile
from zesty_burrow.errors import InputError
from zesty_burrow.intake.kit import FoundProfile
from zesty_burrow.report.result import KitResult

if TYPE_CHECKING:
    from zesty_burrow.store.store import Store

EXAMPLE = "zesty import quillwort-relay.zip"
SHOWN = 4
"""Differences that a finding names."""


def add_arguments(parser: ArgumentParser) -> None:
    """The command's words."""
    parser.add_argument(
        "kit", nargs="+", type=Path, help="a file, folder, archive or mail from a provider; - for pasted text"
    )
    parser.add_argument("--provider", default="", help="whose credentials they are, where the kit does not say so")
    parser.add_argument("--replace", action="store_true", help="take profiles in place of others of the same name")
    parser.add_argument("--strict", action="store_true", help="take nothing if there is a warning or worse")


def run(args: Namespace, context: Context) -> KitResult:
    """Read everything, then store it in one transaction."""
    kits = read_kits(args.kit, args.provider, context)
    findings: list[Finding] = [entry for kit in kits for entry in kit.findings]
    if args.strict:
        _refuse_warnings(findings)
    with context.store() as store:
        sorting = _Sorting(store, replace=args.replace)
        for kit in kits:
            for found in kit.profiles:
                sorting.take(found, kit.origin)
        secrets = [(entry.label, entry.value, kit.origin) for kit in kits for entry in kit.credentials]
        store.take_kit(sorting.taken.values(), secrets, replace=args.replace)
    findings += sorting.findings
    return KitResult(kits, imported=True, outcomes=sorting.outcomes, findings=tuple(findings))


class _Sorting:
    """Tells apart what is new, the same, or a clash, in the store and among the kits of one import."""

    def __init__(self, store: Store, *, replace: bool) -> None:
        self.taken: dict[str, tuple[Profile, str, str]] = {}
        self.outcomes: dict[str, str] = {}
        self.findings: list[Finding] = []
        self._store, self._replace = store, replace
        self._known = store.digests()

    def take(self, found: FoundProfile, origin: str) -> None:
        """Sort one profile."""
        name = found.profile.name
        if self._known.get(name) == found.digest:
            self.outcomes.setdefault(name, "there already")
            self.findings.append(finding("profile-same", name))
        elif name in self._known and not self._replace:
            self.outcomes.setdefault(name, "left out")
            self.findings.append(finding("profile-clash", name, self._difference(found)))
        else:
            self.outcomes[name] = "new"
            if name in self._known:
                self.outcomes[name] = "replaced"
                self.findings.append(finding("profile-replaced", name, self._difference(found)))
            self.taken[name] = found.profile, found.text, origin
            self._known[name] = found.digest

    def _difference(self, found: FoundProfile) -> str:
        """What the new one changes, the first few keys of it."""
        name = found.profile.name
        before = self.taken[name][1] if name in self.taken else self._store.profile_texts([name])[0]
        changed = differences(before, found.text)
        more = f" and {len(changed) - SHOWN} more" if len(changed) > SHOWN else ""
        return "; ".join(map(str, changed[:SHOWN])) + more


def _refuse_warnings(findings: list[Finding]) -> None:
    notable = [entry for entry in findings if entry.severity is not Severity.NOTE]
    if notable:
        shown = "; ".join(f"{entry.code.slug} in {entry.subject}" for entry in notable[:5])
        raise InputError(
            "nothing was taken, because of --strict",
            why=shown,
            next_step="Mend what the findings name, or import without --strict.",
            slug="strict",
        )
