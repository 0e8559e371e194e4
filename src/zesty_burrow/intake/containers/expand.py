"""Opens whatever carries files, nested in each other: archives, compressed files, mails, and documents at the end.

What one archive spends of its budget is gone for those inside it.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator

from zesty_burrow.core.finding import CODES
from zesty_burrow.errors import InputError
from zesty_burrow.intake import limits
from zesty_burrow.intake.containers import archives, compressed, mail
from zesty_burrow.intake.containers.budget import Budget, Left, Passphrases
from zesty_burrow.intake.containers.names import is_litter
from zesty_burrow.intake.documents.document import DocumentReader
from zesty_burrow.intake.documents.kinds import document_reader_for, not_readable
from zesty_burrow.intake.kit_file import KitFile
from zesty_burrow.intake.limits import refused
from zesty_burrow.intake.readers.vocabulary import Vocabulary, shipped
from zesty_burrow.records import dataclass


@dataclass(frozen=True, slots=True)
class Expanded:
    """Plain files, and what is left out of archives and documents."""

    files: tuple[KitFile, ...]
    left: tuple[Left, ...] = ()


def expand(
    members: Iterable[KitFile], words: Vocabulary | None = None, passphrases: Passphrases | None = None
) -> Expanded:
    """Archives, mails and documents are replaced by what is in them.

    Raises ``InputError`` for hostile ones and for a damaged one that was named itself; one that is damaged inside
    another is left out, and the rest is read. ``words``: by which a document's tables are recognised.
    """
    files: list[KitFile] = []
    left: list[Left] = []
    known = words or shipped()
    for member in members:
        budget = Budget.of(member, passphrases)
        files += _expand(member, budget, 0, known)
        left += budget.left
        if len(files) > limits.MAX_MEMBERS:
            raise refused("archive-bomb", member.path, f"more than {limits.MAX_MEMBERS} files")
    return Expanded(tuple(files), tuple(left))


def _expand(member: KitFile, budget: Budget, depth: int, words: Vocabulary) -> Iterator[KitFile]:
    if is_litter(member.path):
        yield member
        return
    if reading := document_reader_for(member):
        yield from _document(member, reading, budget, words)
        return
    reader = reader_for(member.data)
    if reader is None:
        if unknown := not_readable(member):
            budget.left.append(unknown)
        else:
            yield member
        return
    if depth >= limits.MAX_DEPTH:
        raise refused("archive-bomb", budget.subject, f"archives nested more than {limits.MAX_DEPTH} deep")
    try:
        unpacked = reader(member, budget)
    except InputError as problem:
        if depth == 0 or problem.slug != "archive-damaged":
            raise
        budget.left.append(Left(member, "kit-unreadable", str(problem)))
        return
    for inner in unpacked:
        yield from _expand(inner, budget, depth + 1, words)


def _document(member: KitFile, reading: DocumentReader, budget: Budget, words: Vocabulary) -> Iterator[KitFile]:
    """Its text, tables and pictures: nothing in it is opened further."""
    try:
        found = reading(member, words)
    except InputError as problem:
        if problem.slug == "archive-bomb":
            raise
        slug = problem.slug if problem.slug.startswith("document-") else "kit-unreadable"
        why = (problem.why or str(problem)).removeprefix(CODES[slug].title).strip(" ()")
        budget.left.append(Left(member, slug, why))
        return
    budget.left += found.left
    for part in found.files:
        budget.spend(len(part.data), part.name)
        yield part


Reader = Callable[[KitFile, Budget], list[KitFile]]


def reader_for(data: bytes) -> Reader | None:
    """The reader for an archive, by its first octets; None for a plain file."""
    if data.startswith(archives.ZIP_MAGIC):
        return archives.read_zip_untrusted
    if data.startswith(compressed.GZIP_MAGIC):
        return compressed.read_gzip_untrusted
    if data.startswith(compressed.XZ_MAGIC):
        return compressed.read_xz_untrusted
    at = archives.TAR_MAGIC_AT
    if data[at : at + len(archives.TAR_MAGIC)] == archives.TAR_MAGIC:
        return archives.read_tar_untrusted
    if mail.looks_like_mailbox(data):
        return mail.read_mailbox_untrusted
    if mail.looks_like_mail(data):
        return mail.read_mail_untrusted
    return None
