"""Works through the files of one kit and finds what is in each, before anything is assembled."""

from __future__ import annotations

import hashlib
from collections.abc import Callable

from cryptography import x509
from cryptography.hazmat.primitives.serialization import Encoding

from zesty_burrow.core.certificates.revocation import Revocations, load_revocation_list_untrusted
from zesty_burrow.core.credentials import Credentials
from zesty_burrow.core.finding import CODES, finding
from zesty_burrow.errors import BurrowError, InputError, LimitExceeded, Malformed, SealError
from zesty_burrow.intake import limits, sealed
from zesty_burrow.intake.containers.expand import Expanded
from zesty_burrow.intake.containers.names import is_litter
from zesty_burrow.intake.foreign import ForeignSettings, foreign_settings
from zesty_burrow.intake.found import CertificateFile, Found, RawProfile, RawSecret, Record
from zesty_burrow.intake.kit import FoundCredentials, Surroundings
from zesty_burrow.intake.kit_file import KitFile
from zesty_burrow.intake.readers import codes, server_list, sheet, tables
from zesty_burrow.intake.readers.certificates import read_certificates_untrusted
from zesty_burrow.intake.readers.credentials import read_credentials_untrusted
from zesty_burrow.intake.readers.encodings import decode_untrusted
from zesty_burrow.intake.readers.instance_data import read_instance_data_untrusted
from zesty_burrow.intake.readers.keys import FoundKey, read_keys_untrusted
from zesty_burrow.intake.readers.places import place_in_name
from zesty_burrow.intake.readers.vocabulary import Field
from zesty_burrow.intake.recognise import FileKind, recognise, text_of
from zesty_burrow.profiles.text import parse_profile, read_document
from zesty_burrow.records import replace

MAX_PICTURES = 200
MOST_NAMED = 5
"""Hosts in prose that are named."""
STRIDE = 100
"""Files between two words about the progress."""


def read_files(origin: str, expanded: Expanded, given: Surroundings) -> Found:
    """Everything that is in a kit's plain files. What is wrong with one is recorded, and the others go on.

    Raises ``SealError`` where a passphrase is wrong, ``LimitExceeded`` for more than a kit may hold.
    """
    reader = _Reader(origin, given)
    for one in expanded.left:
        reader.record.leave(one.member, FileKind.OTHER, one.slug, one.detail)
    seen: dict[bytes, str] = {}
    files = [member for member in expanded.files if not is_litter(member.path)]
    reader.tell_litter([member for member in expanded.files if is_litter(member.path)])
    for number, member in enumerate(files):
        if number % STRIDE == 0:
            given.progress(number, len(files))
        content = hashlib.sha256(member.data).digest()
        reader.take(member, seen.get(content, ""))
        seen.setdefault(content, member.path)
    reader.take_codes()
    given.progress(len(files), len(files))
    return reader.found()


MAY_BE_FOREIGN = frozenset(
    (FileKind.CERTIFICATE, FileKind.KEY, FileKind.SHEET, FileKind.CREDENTIALS, FileKind.READ_ME, FileKind.OTHER)
)


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
        self._pixels = limits.MAX_KIT_PIXELS
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
        """Everything read so far, as one :class:`Found`."""
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

    def tell_litter(self, files: list[KitFile]) -> None:
        """What desktops and archivers leave behind, as one line."""
        if files:
            names = ", ".join(member.name for member in files[:3]) + (", …" if len(files) > 3 else "")
            words = f"{len(files)} of them: {names}" if len(files) > 1 else names
            self.record.leave(files[0], FileKind.OTHER, "kit-litter", words)

    def take(self, member: KitFile, same: str = "") -> None:
        """Recognise one file and read it. ``same``: the path of an earlier file with the same content."""
        kind = FileKind.OTHER
        self._given.at(member.path)
        try:
            kind = recognise(member, self._given.words)
            if same and kind is not FileKind.READ_ME:
                self.record.leave(member, kind, "kit-same-content", f"the same as {same}")
                self._copies[member.path] = same
            elif kind in MAY_BE_FOREIGN and (other := self._foreign(member)):
                self.record.leave(member, kind, "protocol-foreign", other.words)
            elif kind in (FileKind.READ_ME, FileKind.OTHER):
                self._leave_out(member, kind)
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

    def _foreign(self, member: KitFile) -> ForeignSettings | None:
        """What settings of a protocol that is not spoken here name. Who says whose a certificate is wants it taken."""
        if self._given.provider or self._given.profile:
            return None
        try:
            return foreign_settings(text_of(member))
        except InputError:
            return None

    def _leave_out(self, member: KitFile, kind: FileKind) -> None:
        """What nothing is read from; with the hosts that prose names, which may be what somebody looks for."""
        if kind is not FileKind.READ_ME:
            self.record.leave(member, kind, "kit-junk")
            return
        hosts = list(dict.fromkeys(host.host for host in server_list.named_hosts(text_of(member)[:65536])))
        more = f" and {len(hosts) - MOST_NAMED} more" if len(hosts) > MOST_NAMED else ""
        named = f"it names {', '.join(hosts[:MOST_NAMED])}{more}" if hosts else ""
        self.record.leave(member, kind, "kit-read-me", named)

    def _point_out_encoding(self, member: KitFile, kind: FileKind) -> None:
        """Where a text's letters may have been read wrongly."""
        if kind in (FileKind.PROFILE, FileKind.CREDENTIALS, FileKind.SHEET, FileKind.TABLE):
            guessed = "" if member.is_text else decode_untrusted(member.data, member.path).guessed
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

    def _keep_certificates(self, member: KitFile, certificates: list[x509.Certificate]) -> None:
        fresh = self._distinct.union(certificates)
        self._bounded("certificates", len(fresh), limits.MAX_KIT_CERTIFICATES)
        self._distinct = fresh
        pem = b"".join(entry.public_bytes(Encoding.PEM) for entry in certificates).decode()
        self._certificates[member.path] = CertificateFile(member, pem, tuple(certificates))

    def _key(self, member: KitFile) -> None:
        self._bounded("private keys", len(self._keys) + 1, limits.MAX_KIT_KEYS)
        try:
            opened = read_keys_untrusted(member.data, self._given.passphrases.asking(member.path), member.path)
        except SealError as problem:
            if problem.slug != "kit-passphrase":
                raise
            self.record.leave(member, FileKind.KEY, problem.slug, problem.why)
            return
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
        rows = self._rows_of_sheet(member, text_of(member))
        drafts = self._drafts(member, rows, [member.path] if len(rows) == 1 else [])
        self._keep_drafts(member, drafts)
        with_provider = next((row for row in rows if row.first(Field.PROVIDER)), None)
        profiles = any(made.profile for _, _, made in drafts)
        credentials = any(made.credentials for _, _, made in drafts)
        if credentials and not profiles and with_provider is not None:
            self._providers.setdefault(member.source.group, with_provider.first(Field.PROVIDER))
        if not profiles and not credentials:
            self.record.leave(
                member, FileKind.SHEET, "kit-unreadable", "neither a host nor an account with its password is on it"
            )

    def _rows_of_sheet(self, member: KitFile, text: str) -> list[tables.TableRow]:
        lower = member.name.lower()
        if lower.endswith(".toml"):
            return [sheet.read_toml(text, self._given.words)]
        if lower.endswith((".csv", ".tsv")):
            row = sheet.read_pairs(text, self._given.words)
            if row.values:
                return [row]
        return sheet.read_sheet(text, self._given.words)

    def _table(self, member: KitFile) -> None:
        """A table's rows by template: one protocol and sign-in, many places."""
        rows = tables.read_table(text_of(member), self._given.words)
        unknown = dict.fromkeys(label for row in rows for label in row.unknown)
        self.record.findings += [finding("sheet-not-understood", member.path, f"column {label}") for label in unknown]
        passed = dict.fromkeys(label for row in rows for label in row.passed)
        if passed:
            self.record.findings.append(finding("sheet-not-needed", member.path, f"columns {', '.join(passed)}"))
        for row in rows:
            row.unknown.clear()
            row.passed.clear()
        origins = [f"{member.path}, row {number}" for number in range(2, len(rows) + 2)]
        self._keep_drafts(member, self._drafts(member, rows, origins))

    def _drafts(
        self, member: KitFile, rows: list[tables.TableRow], origins: list[str]
    ) -> list[tuple[str, tables.TableRow, sheet.Drafted]]:
        """What rows become. One of several that is wrong is reported and left out; the only one is an error."""
        made: list[tuple[str, tables.TableRow, sheet.Drafted]] = []
        for number, row in enumerate(rows):
            origin = origins[number] if origins else f"{member.path}, {row.first(Field.HOST) or 'the rest'}"
            try:
                made.append((origin, row, sheet.draft(row, origin, self._provider(member))))
            except InputError as problem:
                if len(rows) == 1 and origin == member.path:
                    raise
                self.record.findings.append(finding(_slug(problem), origin, str(problem)))
        return made

    def _keep_drafts(self, member: KitFile, drafts: list[tuple[str, tables.TableRow, sheet.Drafted]]) -> None:
        values: list[RawSecret] = []
        several = sum(made.profile is not None for _, _, made in drafts) > 1
        by_rows = sum(bool(made.credentials) for _, _, made in drafts) > 1
        for origin, row, made in drafts:
            self.record.findings += made.findings
            if made.profile is not None:
                by_template = not row.first(Field.SIGN_IN)
                self._profiles.append(RawProfile(origin, member, made.profile, by_template=by_template))
            # Of several gateways, credentials that stand there once are for all.
            owner = origin if made.profile is not None and (by_rows or not several) else ""
            values += [RawSecret(member, value, owner) for value in made.credentials]
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
        passphrase = self._given.passphrases.asking(member.path)(f"Passphrase of {member.path}: ")
        for scope, value in sealed.open_credentials_untrusted(table, passphrase, member.path):
            self._labelled.append(FoundCredentials(member.path, scope, value, member.source.name))
            self.record.keep(member.path, FileKind.SEALED, f"for {scope}")

    def _picture(self, member: KitFile) -> None:
        if len(self._pictures) >= MAX_PICTURES:
            self.record.leave(member, FileKind.CODE, "kit-junk", f"only the first {MAX_PICTURES} pictures are read")
            return
        found = codes.read_picture_untrusted(member.data, self._spend_pixels)
        if not found:
            self.record.leave(member, FileKind.OTHER, "kit-junk", "a picture without a QR code")
            return
        self._pictures.append(member)
        self._symbols += found
        self.record.keep(member.path, FileKind.CODE, f"{len(found)} codes" if len(found) > 1 else "one code")

    def _spend_pixels(self, pixels: int) -> None:
        """A picture of one colour is small and takes as long to look at as any other."""
        if pixels > self._pixels:
            raise Malformed("a picture was not read", why="the pictures of this kit have too many pixels in all")
        self._pixels -= pixels

    def take_codes(self) -> None:
        """The texts of all QR codes, once all pictures are seen."""
        if not self._pictures:
            return
        first = self._pictures[0]
        texts, missing = codes.join_symbols(self._symbols)
        for number, data in enumerate(texts, start=1):
            path = f"{first.path}/code" if len(texts) == 1 else f"{first.path}/code-{number}"
            self._take_code(replace(first, path=path, data=data))
        self.record.findings += [finding("code-incomplete", first.path, words) for words in missing]

    def _take_code(self, member: KitFile) -> None:
        """A code's text is read as a file is; unknown text is shown, without secrets."""
        kind = recognise(member, self._given.words)
        if kind in (FileKind.OTHER, FileKind.READ_ME):
            self.record.leave(member, FileKind.CODE, "code-other", codes.shown(member.data))
        else:
            self.take(member)


def _slug(problem: BurrowError) -> str:
    """The finding that an error becomes where only one file is left out for it."""
    known = problem.slug in CODES and problem.slug.partition("-")[0] in ("kit", "protocol", "code", "document")
    return problem.slug if known else "kit-unreadable"
