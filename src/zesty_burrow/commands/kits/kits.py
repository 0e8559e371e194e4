"""What ``inspect`` and ``import`` share: their arguments, and reading the kit."""

from __future__ import annotations

import gc
from argparse import ArgumentParser, Namespace
from collections.abc import Callable, Sequence
from pathlib import Path

from zesty_burrow.commands.context import Context
from zesty_burrow.commands.kits.apart import apart
from zesty_burrow.core.finding import Finding
from zesty_burrow.host.files import read_kit_files, read_standard_input
from zesty_burrow.intake.containers.budget import Passphrases
from zesty_burrow.intake.kit import Kit, Surroundings
from zesty_burrow.intake.read_kit import Argument, read_kit, together
from zesty_burrow.profiles.policy import judge_profile

PORTAL = "https://"
MOST_PASSPHRASES = 10


def add_kit_arguments(parser: ArgumentParser) -> None:
    """Which kits, and what they do not say themselves."""
    parser.add_argument(
        "kit",
        nargs="+",
        help="a file, folder, archive, mail or picture from a provider; https://… for a portal; - for pasted text; "
        "what is given side by side is read together",
    )
    parser.add_argument("--provider", default="", help="the provider, where the kit does not name it")
    parser.add_argument(
        "--kit-passphrase-file",
        type=Path,
        metavar="FILE",
        help="read the passphrases of archives, keys and sealed credentials in the kit from FILE, one in each line, "
        "instead of asking",
    )
    portal = parser.add_argument_group("for a provider's portal (https://…)")
    portal.add_argument(
        "--account", metavar="FILE", default="", help="a file of two lines: the account and password for the portal"
    )
    portal.add_argument("--authority", metavar="FILE", help="the certificate authority of the portal")
    portal.add_argument("--place", action="append", default=[], help="only this place's settings; may be repeated")


def read_arguments(
    args: Namespace, context: Context, *, profile: str = "", device: str = "", empty_ok: bool = False
) -> Kit:
    """All arguments as one kit, or the first error."""

    def ask(question: str) -> str:
        context.reporter.pause()
        return context.ask_passphrase(question, None, slug="kit-locked")

    file = args.kit_passphrase_file or context.passphrase_file
    known = context.ask_passphrase("", file, slug="kit-locked").splitlines() if file else []
    passphrases = Passphrases([one for one in known if one][:MOST_PASSPHRASES], None if file else ask)
    words = context.words()
    whole = together([_argument(name, args, context) for name in args.kit])
    with context.reporter.progress(f"Reading {whole.origin}") as progress:
        now = context.now()

        def read(at: Callable[[str], None]) -> Kit:
            given = Surroundings(args.provider, profile, device, whole.neighbours, progress, words, at, passphrases)
            try:
                return read_kit(whole.origin, whole.files, now, given, empty_ok=empty_ok)
            finally:
                # Here, in the process that has drawn the bar.
                context.reporter.pause()

        # What is read stays until the end: looking for cycles among thousands of profiles is in vain.
        gc.disable()
        try:
            return apart(read, sum(len(one.data) for one in whole.files), whole.origin)
        finally:
            gc.freeze()
            gc.enable()


def read_files_apart(paths: Sequence[Path], context: Context) -> Kit:
    """Files that the user names in an answer, read as a kit of their own."""
    words = Namespace(kit=[str(path) for path in paths], provider="", kit_passphrase_file=None)
    return read_arguments(words, context, empty_ok=True)


def judged_by_policy(kit: Kit, context: Context) -> list[Finding]:
    """Where a kit's profiles break the organisation's policy."""
    policy = context.policy()
    return [one for entry in kit.profiles for one in judge_profile(policy, entry.profile)]


def _argument(name: str, args: Namespace, context: Context) -> Argument:
    if name == "-":
        return Argument("standard input", read_standard_input())
    if name.startswith(PORTAL):
        from zesty_burrow.commands.kits.portal import fetch_kit_files

        host, files = fetch_kit_files(name, args, context)
        return Argument(host, files, on_disk=False)
    path = Path(name)
    files, beside = read_kit_files(path)
    return Argument(path.name or str(path), files, beside, is_folder=path.is_dir())
