"""``zesty import``: take a kit into the store; all of it or nothing."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace
from pathlib import Path

from zesty_burrow.commands.context import Context
from zesty_burrow.commands.kits import read_kits
from zesty_burrow.core.finding import Finding, Severity, finding
from zesty_burrow.core.profile.model import Profile
from zesty_burrow.errors import InputError
from zesty_burrow.report.result import KitResult

EXAMPLE = "zesty import quillwort-relay.zip"


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
    outcomes: dict[str, str] = {}
    taken: list[tuple[Profile, str, str]] = []
    with context.store() as store:
        known = store.digests()
        for kit in kits:
            for found in kit.profiles:
                name = found.profile.name
                if known.get(name) == found.digest:
                    outcomes[name] = "there already"
                    findings.append(finding("profile-same", name))
                elif name in known and not args.replace:
                    outcomes[name] = "left out"
                    findings.append(finding("profile-clash", name))
                else:
                    outcomes[name] = "replaced" if name in known else "new"
                    taken.append((found.profile, found.text, kit.origin))
                    known[name] = found.digest
        secrets = [(entry.label, entry.value, kit.origin) for kit in kits for entry in kit.credentials]
        store.take_kit(taken, secrets, replace=args.replace)
    return KitResult(kits, imported=True, outcomes=outcomes, findings=tuple(findings))


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
