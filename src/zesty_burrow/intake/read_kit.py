"""From files to a kit: unpack, read each file, assemble what belongs together."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from zesty_burrow.errors import InputError
from zesty_burrow.intake.assemble import assemble
from zesty_burrow.intake.containers.expand import expand, reader_for
from zesty_burrow.intake.kit import Kit, Neighbour, Surroundings
from zesty_burrow.intake.kit_file import KitFile, Source
from zesty_burrow.intake.limits import refused
from zesty_burrow.intake.reader import read_files
from zesty_burrow.records import dataclass, replace

CAUSES = tuple(
    {slug}
    for slug in (
        "archive-encrypted",
        "kit-locked",
        "kit-passphrase",
        "document-picture",
        "archive-unknown",
        "code-incomplete",
        "kit-no-networks",
        "protocol-foreign",
    )
)
"""Why nothing at all can be taken, where one cause is all there is."""
SHOWN = 3
"""Names of arguments in a kit's origin."""


@dataclass(frozen=True, slots=True)
class Argument:
    """What one argument names. ``is_folder``: its files' paths are within it. ``on_disk``: see :class:`Source`."""

    name: str
    files: Sequence[KitFile]
    neighbour: Neighbour = lambda _: None
    is_folder: bool = False
    on_disk: bool = True


@dataclass(frozen=True, slots=True)
class Together:
    """The files of all arguments as those of one kit."""

    origin: str
    files: tuple[KitFile, ...]
    neighbours: dict[str, Neighbour]


def together(arguments: Sequence[Argument]) -> Together:
    """All arguments as one kit: files that were given side by side are joined as in a folder.

    What came in one archive or folder stays a group: a profile gets the authorities of its own group first.
    """
    files: list[KitFile] = []
    neighbours: dict[str, Neighbour] = {}
    several = len(arguments) > 1
    taken: set[str] = set()
    for number, one in enumerate(arguments, start=1):
        is_group = one.is_folder or len(one.files) > 1 or any(reader_for(file.data) for file in one.files)
        source = Source(one.name, f"{number} {one.name}" if several and is_group else "", one.on_disk)
        for file in one.files:
            path = f"{one.name}/{file.path}" if several and one.is_folder else file.path
            path = path if path not in taken else f"{number}/{path}"
            taken.add(path)
            neighbours[path] = one.neighbour
            files.append(replace(file, path=path, source=source))
    names = [argument.name for argument in arguments]
    more = f" and {len(names) - SHOWN} more" if len(names) > SHOWN else ""
    return Together(", ".join(names[:SHOWN]) + more, tuple(files), neighbours)


def read_kit(
    origin: str,
    members: Sequence[KitFile],
    now: datetime,
    surroundings: Surroundings | None = None,
    *,
    empty_ok: bool = False,
) -> Kit:
    """A kit from its files. ``empty_ok``: also without anything to import, so that its files can be shown.

    Raises ``InputError`` for a hostile or damaged archive, and where there is nothing at all to take; ``SealError``
    where a passphrase is wrong.
    """
    given = surroundings or Surroundings()
    found = read_files(origin, expand(members, given.words, given.passphrases), given)
    made = assemble(found, origin, now, given)
    items = (*found.record.items, *made.record.items)
    findings = (*found.record.findings, *made.record.findings)
    certificates = tuple(fact for file in found.certificates.values() for fact in file.facts())
    kit = Kit(origin, made.profiles, made.credentials, items, findings, certificates, made.authorities)
    if kit.is_empty and not empty_ok:
        refuse_empty(kit)
    return kit


def refuse_empty(kit: Kit) -> None:
    """The error where nothing can be taken: why of each file, and what to do about the cause, if there is but one."""
    reasons = "; ".join(dict.fromkeys(f"{item.path}: {item.why}" for item in kit.items[:5]))
    foreign = next((finding for finding in kit.findings if finding.code.slug == "protocol-foreign"), None)
    causes = {finding.code.slug for finding in kit.findings if finding.subject in {item.path for item in kit.items}}
    if foreign is not None and causes == {foreign.code.slug}:
        host = foreign.detail.removeprefix("host ").partition(",")[0]
        raise InputError(
            f"{foreign.subject} is for a protocol that this program does not speak",
            why=f"it names {foreign.detail}",
            next_step=f"Ask the gateway what else it speaks: zesty advise --gateway {host}",
            slug=foreign.code.slug,
        )
    if causes == {"code-incomplete"}:
        # Which are missing, not what the picture holds.
        missing = [finding.detail for finding in kit.findings if finding.code.slug == "code-incomplete"]
        reasons = "; ".join(dict.fromkeys(missing))
    raise refused(causes.pop() if causes in CAUSES else "kit-empty", kit.origin, reasons)
