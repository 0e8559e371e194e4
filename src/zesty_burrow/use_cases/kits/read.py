"""Read a kit from files, standard input or a provider's portal."""

from __future__ import annotations

import gc
from collections.abc import Callable, Sequence
from pathlib import Path

from zesty_burrow.core.finding import Finding
from zesty_burrow.host.files import read_kit_files, read_standard_input
from zesty_burrow.intake.containers.budget import Passphrases
from zesty_burrow.intake.kit import Kit, Surroundings
from zesty_burrow.intake.read_kit import Argument, read_kit, together
from zesty_burrow.profiles.policy import judge_profile
from zesty_burrow.records import dataclass, field
from zesty_burrow.use_cases.kits.apart import apart
from zesty_burrow.use_cases.kits.portal import PortalRequest, fetch_kit_files
from zesty_burrow.use_cases.workspace import Workspace

PORTAL = "https://"
MOST_PASSPHRASES = 10


@dataclass(frozen=True, slots=True)
class KitRequest:
    """``sources``: paths, ``https://…`` for a portal, ``-`` for standard input; they are read as one kit.

    ``provider``: if the kit does not name it. ``profile``, ``device``: whose the credentials are. ``passphrase_file``:
    passphrases of archives and keys, one in each line, instead of asking.
    """

    sources: tuple[str, ...]
    provider: str = ""
    profile: str = ""
    device: str = ""
    passphrase_file: Path | None = None
    portal: PortalRequest = field(default_factory=PortalRequest)


def read_kit_sources(request: KitRequest, workspace: Workspace) -> Kit:
    """All sources as one kit, which may be empty. Raises the first error: :class:`InputError`, :class:`LimitExceeded`.

    A child process reads, with limits of time and memory.
    """
    interaction = workspace.interaction

    def ask(question: str) -> str:
        interaction.pause()
        return workspace.ask_passphrase(question, None, slug="kit-locked")

    file = request.passphrase_file
    known = workspace.ask_passphrase("", file, slug="kit-locked").splitlines() if file else []
    passphrases = Passphrases([line for line in known if line][:MOST_PASSPHRASES], None if file else ask)
    words = workspace.words()
    whole = together([_argument(source, request, workspace) for source in request.sources])
    with interaction.progress(f"Reading {whole.origin}") as progress:
        now = workspace.now()

        def read(at: Callable[[str], None]) -> Kit:
            given = Surroundings(
                request.provider, request.profile, request.device, whole.neighbours, progress, words, at, passphrases
            )
            try:
                return read_kit(whole.origin, whole.files, now, given, empty_ok=True)
            finally:
                # Here, in the process that has drawn the bar.
                interaction.pause()

        # Everything stays in memory until the end: looking for cycles among thousands of profiles is in vain.
        gc.disable()
        try:
            return apart(read, sum(len(file.data) for file in whole.files), whole.origin)
        finally:
            gc.freeze()
            gc.enable()


def read_files_apart(paths: Sequence[Path], workspace: Workspace) -> Kit:
    """Files that the user names in an answer, read as a kit of their own."""
    return read_kit_sources(KitRequest(tuple(map(str, paths))), workspace)


def judged_by_policy(kit: Kit, workspace: Workspace) -> list[Finding]:
    """Where a kit's profiles break the organisation's policy."""
    policy = workspace.policy()
    return [broken for entry in kit.profiles for broken in judge_profile(policy, entry.profile)]


def _argument(source: str, request: KitRequest, workspace: Workspace) -> Argument:
    if source == "-":
        return Argument("standard input", read_standard_input())
    if source.startswith(PORTAL):
        host, files = fetch_kit_files(source, request.portal, workspace)
        return Argument(host, files, on_disk=False)
    path = Path(source)
    files, beside = read_kit_files(path)
    return Argument(path.name or str(path), files, beside, is_folder=path.is_dir())
