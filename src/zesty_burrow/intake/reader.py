"""Works through the files of one kit and finds what is in each, before anything is assembled."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from dataclasses import replace

from cryptography import x509
from cryptography.hazmat.primitives.serialization import Encoding

from zesty_burrow.core.certificates.revocation import Revocations, load_revocation_list_untrusted
from zesty_burrow.core.credentials import Credentials
from zesty_burrow.core.finding import CODES, finding
from zesty_burrow.errors import BurrowError, InputError, LimitExceeded, SealError
from zesty_burrow.intake import limits, sealed
from zesty_burrow.intake.containers import Expanded
from zesty_burrow.intake.found import CertificateFile, Found, RawProfile, RawSecret, Record
from zesty_burrow.intake.kit import FoundCredentials, Surroundings
from zesty_burrow.intake.kit_file import KitFile
from zesty_burrow.intake.readers import codes, sheet
from zesty_burrow.intake.readers.certificates import read_certificates_untrusted
from zesty_burrow.intake.readers.credentials import read_credentials_untrusted
from zesty_burrow.intake.readers.encodings import decode_untrusted
from zesty_burrow.intake.readers.instance_data import read_instance_data_untrusted
from zesty_burrow.intake.readers.keys import FoundKey, read_keys_untrusted
from zesty_burrow.intake.readers.places import place_in_name
from zesty_burrow.intake.readers.vocabulary import Field
from zesty_burrow.intake.recognise import FileKind, recognise, text_of
from zesty_burrow.profiles.text import parse_profile, read_document

MAX_PICTURES = 200
STRIDE = 100
"""Files between two words about the progress."""


def read_files(origin: str, expanded: Expanded, given: Surroundings) -> Found:
    """Everything that is in a kit's plain files. What is wrong with one is recorded, and the others go on.

    Raises ``SealError`` where a passphrase is wrong, ``LimitExceeded`` for more than a kit may hold.
    """
    reader = _Reader(origin, given)
    for member, problem in expanded.damaged:
        reader.record.leave(member, FileKind.OTHER, "kit-unreadable", str(problem))
    seen: dict[bytes, str] = {}
    for number, member in enumerate(expanded.files):
        if number % STRIDE == 0:
            given.progress(number, len(expanded.files))
        content = hashlib.sha256(member.data).digest()
        reader.take(member, seen.get(content, ""))
        seen.setdefault(content, member.path)
    reader.take_codes()
    given.progress(len(expanded.files), len(expanded.files))
    return reader.found()


class _Reader:
    """Gathers what :func:`read_files` returns."""

    def __init__(self, origin: str, given: Surroundings) -> None:
        self.record = Record()
        self._origin, self._given = origin, given
        self._profiles: list[RawProfile] = []
        self._certificates: dict[str, CertificateFile] = {}
        self._copies: dict[str, str] = {}
        self._distinct: set[x509.Certificate] = set()
        self._keys: list[tuple[KitFile, FoundKey]] = []
        self._lists: list[tuple[KitFile, Revocations]] = []
        self._secrets: list[RawSecret] = []
        self._labelled: list[FoundCredentials] = []
        self._providers: dict[str, str] = {}
        self._symbols: list[codes.Symbol] = []
        self._pictures: list[KitFile] = []
        self._takers: dict[FileKind, Callable[[KitFile], None]] = {
            FileKind.PROFILE: self._profile,
            FileKind.CERTIFICATE: self._certificate,
            FileKind.KEY: self._key,
            FileKind.REVOCATION: self._revocation,
            FileKind.CREDENTIALS: self._credentials,
            FileKind.SHEET: self._sheet,
            FileKind.TABLE: self._table,
            FileKind.DATA: self._data,
            FileKind.SEALED: self._sealed,
            FileKind.CODE: self._picture,
        }

    def found(self) -> Found:
        """All of it."""
        return Found(
            tuple(self._profiles),
            self._certificates,
            self._copies,
            tuple(self._keys),
            tuple(self._lists),
            tuple(self._secrets),
            tuple(self._labelled),
            self._providers,
            self.record,
        )

    def take(self, member: KitFile, same: str = "") -> None:
        """Recognise one file and read it. ``same``: the path of an earlier file with the same content."""
        kind = FileKind.OTHER
        self._given.at(member.path)
        try:
            kind = recognise(member, self._given.words)
            if same and kind is not FileKind.READ_ME:
                self.record.leave(member, kind, "kit-same-content", f"the same as {same}")
                self._copies[member.path] = same
            elif kind in (FileKind.READ_ME, FileKind.OTHER):
                self.record.leave(member, kind, "kit-read-me" if kind is FileKind.READ_ME else "kit-junk")
            else:
                self._point_out_encoding(member, kind)
                self._takers[kind](member)
        except InputError as problem:
            self.record.leave(member, kind, _slug(problem), str(problem))
        except SealError as problem:
            if problem.slug != "kit-locked":
                raise
            self.record.leave(member, kind, "kit-locked")
        except BurrowError:
            raise
        except Exception as problem:
            self.record.fault(member, kind, problem)

    def _point_out_encoding(self, member: KitFile, kind: FileKind) -> None:
        """Where a text's letters may have been read wrongly."""
        if kind in (FileKind.PROFILE, FileKind.CREDENTIALS, FileKind.SHEET, FileKind.TABLE):
            guessed = decode_untrusted(member.data, member.path).guessed
            if guessed:
                self.record.findings.append(finding("encoding-guessed", member.path, f"read as {guessed}"))

    def _provider(self, member: KitFile) -> str:
        return self._given.provider or self._providers.get(member.source.group, "")

    def _profile(self, member: KitFile) -> None:
        document = parse_profile(text_of(member).lstrip("\ufeff"), member.path)
        table = document.pop(sealed.TABLE, None)
        head = document.get("profile")
        name = ""
        if not isinstance(head, dict) or "name" not in head:
            name = sheet.slug_of(place_in_name(member.path).city or member.name.rpartition(".")[0])
        named = read_document(document, member.path, name=name)
        if name and named.name == name:
            self.record.findings.append(finding("name-from-place", member.path, named.name))
        self._profiles.append(RawProfile(member.path, member, named))
        if table is not None:
            self._open_sealed(member, table)

    def _certificate(self, member: KitFile) -> None:
        self._keep_certificates(member, read_certificates_untrusted(member.data))

    def _bounded(self, what: str, count: int, limit: int) -> None:
        """Joining compares each with each: no kit has thousands of them."""
        if count > limit:
            raise LimitExceeded(f"{self._origin} holds too many {what}", why=f"more than {limit}")

    def _keep_certificates(self, member: KitFile, found: list[x509.Certificate]) -> None:
        fresh = self._distinct.union(found)
        self._bounded("certificates", len(fresh), limits.MAX_KIT_CERTIFICATES)
        self._distinct = fresh
        pem = b"".join(entry.public_bytes(Encoding.PEM) for entry in found).decode()
        self._certificates[member.path] = CertificateFile(member, pem, tuple(found))

    def _key(self, member: KitFile) -> None:
        self._bounded("private keys", len(self._keys) + 1, limits.MAX_KIT_KEYS)
        opened = read_keys_untrusted(member.data, self._given.ask, member.path)
        for key in opened.keys:
            self._keys.append((member, key))
            self.record.findings += key.findings
            if key.plain:
                self._check_mode(member)
        if opened.certificates:
            self._keep_certificates(member, opened.certificates)

    def _check_mode(self, member: KitFile) -> None:
        if member.mode is not None and member.mode & 0o077:
            self.record.findings.append(finding("kit-world-readable", member.path, f"mode {member.mode & 0o777:04o}"))

    def _revocation(self, member: KitFile) -> None:
        self._bounded("revocation lists", len(self._lists) + 1, limits.MAX_LISTS)
        self._lists.append((member, load_revocation_list_untrusted(member.data)))

    def _credentials(self, member: KitFile) -> None:
        value, found = read_credentials_untrusted(text_of(member), member.path)
        self.record.findings += found
        self._keep_secrets(member, [value])

    def _keep_secrets(self, member: KitFile, values: list[Credentials], owner: str = "") -> None:
        if values:
            self._warn_of_plain_secrets(member)
        self._secrets += [RawSecret(member, value, owner) for value in values]

    def _warn_of_plain_secrets(self, member: KitFile) -> None:
        if member.source.on_disk:
            self.record.findings.append(finding("kit-plaintext-password", member.path))
            self._check_mode(member)

    def _sheet(self, member: KitFile) -> None:
        text = text_of(member)
        lower = member.name.lower()
        reader = sheet.read_toml if lower.endswith(".toml") else sheet.read_pairs if lower.endswith(".csv") else None
        row = (reader or sheet.read_lines)(text, self._given.words)
        made = sheet.draft(row, member.path, self._provider(member))
        self.record.findings += made.findings
        if made.credentials and made.profile is None and row.first(Field.PROVIDER):
            self._providers.setdefault(member.source.group, row.first(Field.PROVIDER))
        if made.profile is not None:
            self._profiles.append(
                RawProfile(member.path, member, made.profile, by_template=not row.first(Field.SIGN_IN))
            )
        self._keep_secrets(member, made.credentials, member.path if made.profile is not None else "")
        if made.profile is None and not made.credentials:
            self.record.leave(
                member, FileKind.SHEET, "kit-unreadable", "neither a host nor an account with its password is on it"
            )

    def _table(self, member: KitFile) -> None:
        """A table's rows by template: one protocol and sign-in, many places."""
        rows = sheet.read_table(text_of(member), self._given.words)
        unknown = dict.fromkeys(label for row in rows for label in row.unknown)
        self.record.findings += [finding("sheet-not-understood", member.path, f"column {label}") for label in unknown]
        values: list[RawSecret] = []
        for number, row in enumerate(rows, start=2):
            row.unknown.clear()
            origin = f"{member.path}, row {number}"
            try:
                made = sheet.draft(row, origin, self._provider(member))
            except InputError as problem:
                self.record.findings.append(finding(_slug(problem), origin, str(problem)))
                continue
            self.record.findings += made.findings
            if made.profile is not None:
                self._profiles.append(
                    RawProfile(origin, member, made.profile, by_template=not row.first(Field.SIGN_IN))
                )
                values += [RawSecret(member, value, origin) for value in made.credentials]
        if values:
            self._warn_of_plain_secrets(member)
        self._secrets += values

    def _data(self, member: KitFile) -> None:
        for number, entry in enumerate(read_instance_data_untrusted(text_of(member), member.path), start=1):
            where = f"{member.path}, conn-entry {number}"
            if isinstance(entry, InputError):
                self.record.findings.append(finding(_slug(entry), where, str(entry)))
                continue
            self.record.findings += [
                finding("model-not-mapped", where, words) for words in dict.fromkeys(entry.left_out)
            ]
            self._profiles.append(RawProfile(where, member, entry.profile))
            self._keep_secrets(member, entry.credentials, where)

    def _sealed(self, member: KitFile) -> None:
        """Credentials that were exported under a passphrase."""
        self._open_sealed(member, sealed.read_sealed_file_untrusted(text_of(member), member.path))

    def _open_sealed(self, member: KitFile, table: object) -> None:
        passphrase = self._given.ask(f"Passphrase of {member.path}: ")
        for scope, value in sealed.open_credentials_untrusted(table, passphrase, member.path):
            self._labelled.append(FoundCredentials(member.path, scope, value, member.source.name))
            self.record.keep(member.path, FileKind.SEALED, f"for {scope}")

    def _picture(self, member: KitFile) -> None:
        if len(self._pictures) >= MAX_PICTURES:
            self.record.leave(member, FileKind.CODE, "kit-junk", f"only the first {MAX_PICTURES} pictures are read")
            return
        found = codes.read_picture_untrusted(member.data)
        if not found:
            self.record.leave(member, FileKind.OTHER, "kit-junk", "a picture without a QR code")
            return
        self._pictures.append(member)
        self._symbols += found
        self.record.keep(member.path, FileKind.CODE, f"{len(found)} codes" if len(found) > 1 else "one code")

    def take_codes(self) -> None:
        """The texts of all QR codes, once all pictures are seen."""
        if not self._pictures:
            return
        first = self._pictures[0]
        texts, missing = codes.join_symbols(self._symbols)
        for number, data in enumerate(texts, start=1):
            path = f"{first.path}/code" if len(texts) == 1 else f"{first.path}/code-{number}"
            self.take(replace(first, path=path, data=data))
        self.record.findings += [finding("code-incomplete", first.path, words) for words in missing]


def _slug(problem: BurrowError) -> str:
    """The finding that an error becomes where only one file is left out for it."""
    known = problem.slug in CODES and problem.slug.partition("-")[0] in ("kit", "protocol", "code")
    return problem.slug if known else "kit-unreadable"
