"""What ``inspect`` and ``import`` share: the words, reading the kits that were named, how they stand to the store."""

from __future__ import annotations

import gc
from argparse import ArgumentParser, Namespace
from collections.abc import Sequence
from pathlib import Path

from zesty_burrow.commands.context import Context
from zesty_burrow.core.finding import Finding
from zesty_burrow.host.files import read_kit_files, read_standard_input
from zesty_burrow.intake.kit import Kit, Neighbour, Surroundings, read_kit
from zesty_burrow.intake.kit_file import KitFile
from zesty_burrow.profiles.policy import judge_profile

PORTAL = "https://"


def add_kit_arguments(parser: ArgumentParser) -> None:
    """Which kits, and what they do not say themselves."""
    parser.add_argument(
        "kit", nargs="+", help="a file, folder, archive, mail or picture from a provider; https://… ; - for pasted text"
    )
    parser.add_argument("--provider", default="", help="whose kit it is, where it does not say so itself")
    parser.add_argument(
        "--kit-passphrase-file",
        type=Path,
        metavar="FILE",
        help="the passphrase of keys and sealed credentials in the kit, instead of asking",
    )
    portal = parser.add_argument_group("for a provider's portal (https://…)")
    portal.add_argument(
        "--account", metavar="FILE", default="", help="two lines: the account and password for the portal"
    )
    portal.add_argument("--authority", metavar="FILE", help="the authority of the portal's certificate")
    portal.add_argument("--place", action="append", default=[], help="only this place's settings; may be repeated")


def read_kits(args: Namespace, context: Context, *, profile: str = "", device: str = "") -> tuple[Kit, ...]:
    """All kits, or the first error; nothing is taken before all of them were read."""

    def ask(question: str) -> str:
        context.reporter.pause()
        file = args.kit_passphrase_file or context.passphrase_file
        return context.ask_passphrase(question, file, slug="kit-locked")

    kits = []
    for name in args.kit:
        with context.reporter.progress(f"Reading {name}") as progress:
            origin, members, beside = _members(name, args, context)
            on_disk = not name.startswith(PORTAL)
            given = Surroundings(args.provider, profile, device, beside, ask, on_disk, progress)
            # What is read stays until the end: looking for cycles among thousands of profiles is in vain.
            gc.disable()
            try:
                kits.append(read_kit(origin, members, context.now(), given))
            finally:
                gc.enable()
    return tuple(kits)


def judged_by_policy(kits: Sequence[Kit], context: Context) -> list[Finding]:
    """Where a kit's profiles break the organisation's policy."""
    policy = context.policy()
    return [one for kit in kits for entry in kit.profiles for one in judge_profile(policy, entry.profile)]


def _members(name: str, args: Namespace, context: Context) -> tuple[str, list[KitFile], Neighbour]:
    if name == "-":
        return "standard input", *read_standard_input()
    if name.startswith(PORTAL):
        from zesty_burrow.commands.kits.portal import fetch_kit_files

        return fetch_kit_files(name, args, context)
    path = Path(name)
    return path.name or str(path), *read_kit_files(path)
