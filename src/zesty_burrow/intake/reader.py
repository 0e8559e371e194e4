"""Works through the files of one kit and gathers what is in them, before anything is joined."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from typing import TYPE_CHECKING

import tomli_w
from cryptography import x509
from cryptography.hazmat.primitives.serialization import Encoding

from zesty_burrow.core.certificates.revocation import Revocations, load_revocation_list_untrusted
from zesty_burrow.core.credentials import Credentials
from zesty_burrow.core.finding import CODES, Finding, finding
from zesty_burrow.core.profile import Profile
from zesty_burrow.errors import BurrowError, InputError, LimitExceeded, ProfileInvalid, SealError
from zesty_burrow.intake import limits, sealed
from zesty_burrow.intake.kit_file import KitFile
from zesty_burrow.intake.readers import codes, sheet
from zesty_burrow.intake.readers.certificates import read_certificates_untrusted
from zesty_burrow.intake.readers.credentials import read_credentials_untrusted
from zesty_burrow.intake.readers.instance_data import read_instance_data_untrusted
from zesty_burrow.intake.readers.keys import FoundKey, read_keys_untrusted
from zesty_burrow.intake.readers.places import place_in_name
from zesty_burrow.intake.recognise import Kind, recognise, text_of
from zesty_burrow.intake.vocabulary import Field
from zesty_burrow.profiles.text import read_profile

if TYPE_CHECKING:
    from zesty_burrow.intake.kit import FoundCredentials, Item, Surroundings

MAX_PICTURES = 200


@dataclass(frozen=True, slots=True)
class RawProfile:
    """A profile as it stands in the kit; ``by_template`` where the kit's own words left parts of it open."""

    path: str
    member: KitFile
    profile: Profile
    by_template: bool = False


@dataclass(frozen=True, slots=True)
class RawSecret:
    """Credentials as they stand in the kit; ``owner``: the path of the profile that they came with."""

    member: KitFile
    value: Credentials
    owner: str = ""


@dataclass(frozen=True, slots=True)
class CertificateFile:
    """A file of certificates; ``pem`` holds all of them."""

    member: KitFile
    pem: str
    certificates: tuple[x509.Certificate, ...]


class Reader:
    """Gathers. ``items`` and ``findings`` say what became of each file."""

    def __init__(self, origin: str, now: datetime, surroundings: Surroundings) -> None:
        from zesty_burrow.intake.kit import Item

        self._item = Item
        self.origin, self.now, self.given = origin, now, surroundings
        self.provider = surroundings.provider
        self.items: list[Item] = []
        self.findings: list[Finding] = []
        self.profiles: list[RawProfile] = []
        self.certificates: dict[str, CertificateFile] = {}
        self.copies: dict[str, str] = {}
        """Files that are left out for being the same as an earlier one, by their paths; with the earlier one's."""
        self._distinct: set[x509.Certificate] = set()
        self.keys: list[tuple[KitFile, FoundKey]] = []
        self.lists: list[tuple[KitFile, Revocations]] = []
        self.secrets: list[RawSecret] = []
        self.labelled: list[FoundCredentials] = []
        self._symbols: list[codes.Symbol] = []
        self._pictures: list[KitFile] = []
        self._takers: dict[Kind, Callable[[KitFile], None]] = {
            Kind.PROFILE: self._profile,
            Kind.CERTIFICATE: self._certificate,
            Kind.KEY: self._key,
            Kind.REVOCATION: self._revocation,
            Kind.CREDENTIALS: self._credentials,
            Kind.SHEET: self._sheet,
            Kind.TABLE: self._table,
            Kind.DATA: self._data,
            Kind.SEALED: self._sealed,
            Kind.CODE: self._picture,
        }

    def take(self, member: KitFile) -> None:
        """Recognise one file and read it; whatever is wrong with it is told, and the others go on."""
        kind = recognise(member)
        if kind in (Kind.READ_ME, Kind.OTHER):
            self.leave(member, kind, "kit-read-me" if kind is Kind.READ_ME else "kit-junk")
            return
        try:
            self._takers[kind](member)
        except InputError as problem:
            self.leave(member, kind, _slug(problem), str(problem))
        except SealError as problem:
            if problem.slug != "kit-locked":
                raise
            self.leave(member, kind, "kit-locked")

    def leave(self, member: KitFile, kind: Kind, slug: str, detail: str = "") -> None:
        """Record a file that is not taken, and why."""
        entry = finding(slug, member.path, detail)
        self.findings.append(entry)
        self.items.append(self._item(member.path, kind, taken=False, why=detail or entry.code.title))

    def keep(self, path: str, kind: Kind, why: str) -> None:
        """Record a file that is taken."""
        self.items.append(self._item(path, kind, taken=True, why=why))

    def item(self, path: str, kind: Kind, why: str) -> Item:
        """A file that is not taken, where no finding is needed to say why."""
        return self._item(path, kind, taken=False, why=why)

    def _profile(self, member: KitFile) -> None:
        text = text_of(member).lstrip("\ufeff")
        table = None
        if sealed.TABLE in text:
            text, table = _without_sealed(text, member.path)
        name = ""
        if not NAME_KEY.search(text):
            name = sheet.slug_of(place_in_name(member.path).city or member.name.rpartition(".")[0])
        named = read_profile(text, member.path, name=name)
        if name and named.name == name:
            self.findings.append(finding("name-from-place", member.path, named.name))
        self.profiles.append(RawProfile(member.path, member, named))
        if table is not None:
            self._open_sealed(member, table)

    def _certificate(self, member: KitFile) -> None:
        self._keep_certificates(member, read_certificates_untrusted(member.data))

    def _bounded(self, what: str, count: int, limit: int) -> None:
        """Joining compares each with each: no kit has thousands of them."""
        if count > limit:
            raise LimitExceeded(f"{self.origin} holds too many {what}", why=f"more than {limit}")

    def _keep_certificates(self, member: KitFile, found: list[x509.Certificate]) -> None:
        fresh = self._distinct.union(found)
        self._bounded("certificates", len(fresh), limits.MAX_KIT_CERTIFICATES)
        self._distinct = fresh
        pem = b"".join(entry.public_bytes(Encoding.PEM) for entry in found).decode()
        self.certificates[member.path] = CertificateFile(member, pem, tuple(found))

    def _key(self, member: KitFile) -> None:
        self._bounded("private keys", len(self.keys) + 1, limits.MAX_KIT_KEYS)
        opened = read_keys_untrusted(member.data, self.given.ask, member.path)
        for key in opened.keys:
            self.keys.append((member, key))
            self.findings += key.findings
            if key.plain:
                self._check_mode(member)
        if opened.certificates:
            self._keep_certificates(member, opened.certificates)

    def _check_mode(self, member: KitFile) -> None:
        if member.mode is not None and member.mode & 0o077:
            self.findings.append(finding("kit-world-readable", member.path, f"mode {member.mode & 0o777:04o}"))

    def _revocation(self, member: KitFile) -> None:
        self._bounded("revocation lists", len(self.lists) + 1, limits.MAX_LISTS)
        self.lists.append((member, load_revocation_list_untrusted(member.data)))

    def _credentials(self, member: KitFile) -> None:
        value, found = read_credentials_untrusted(text_of(member), member.path)
        self.findings += found
        self._keep_secrets(member, [value])

    def _keep_secrets(self, member: KitFile, values: list[Credentials], owner: str = "") -> None:
        if values:
            self._warn_of_plain_secrets(member)
        self.secrets += [RawSecret(member, value, owner) for value in values]

    def _warn_of_plain_secrets(self, member: KitFile) -> None:
        if self.given.on_disk:
            self.findings.append(finding("kit-plaintext-password", member.path))
            self._check_mode(member)

    def _sheet(self, member: KitFile) -> None:
        text = text_of(member)
        lower = member.name.lower()
        reader = sheet.read_toml if lower.endswith(".toml") else sheet.read_pairs if lower.endswith(".csv") else None
        row = reader(text) if reader else sheet.read_lines(text)
        made = sheet.draft(row, member.path, self.provider)
        self.findings += made.findings
        if made.credentials and made.profile is None and row.first(Field.PROVIDER):
            self.provider = self.provider or row.first(Field.PROVIDER)
        if made.profile is not None:
            self.profiles.append(
                RawProfile(member.path, member, made.profile, by_template=not row.first(Field.SIGN_IN))
            )
        self._keep_secrets(member, made.credentials, member.path if made.profile is not None else "")
        if made.profile is None and not made.credentials:
            self.leave(member, Kind.SHEET, "kit-unreadable", "neither a host nor an account with its password is on it")

    def _table(self, member: KitFile) -> None:
        """A table's rows by template: one protocol and sign-in, many places."""
        rows = sheet.read_table(text_of(member))
        unknown = dict.fromkeys(label for row in rows for label in row.unknown)
        self.findings += [finding("sheet-not-understood", member.path, f"column {label}") for label in unknown]
        values: list[RawSecret] = []
        for number, row in enumerate(rows, start=2):
            row.unknown.clear()
            origin = f"{member.path}, row {number}"
            try:
                made = sheet.draft(row, origin, self.provider)
            except InputError as problem:
                self.findings.append(finding(_slug(problem), origin, str(problem)))
                continue
            self.findings += made.findings
            if made.profile is not None:
                self.profiles.append(RawProfile(origin, member, made.profile, by_template=not row.first(Field.SIGN_IN)))
                values += [RawSecret(member, value, origin) for value in made.credentials]
        if values:
            self._warn_of_plain_secrets(member)
        self.secrets += values

    def _data(self, member: KitFile) -> None:
        for number, entry in enumerate(read_instance_data_untrusted(text_of(member), member.path), start=1):
            where = f"{member.path}, conn-entry {number}"
            if isinstance(entry, InputError):
                self.findings.append(finding(_slug(entry), where, str(entry)))
                continue
            self.findings += [finding("model-not-mapped", where, words) for words in dict.fromkeys(entry.left_out)]
            self.profiles.append(RawProfile(where, member, entry.profile))
            self._keep_secrets(member, entry.credentials, where)

    def _sealed(self, member: KitFile) -> None:
        """Credentials that were exported under a passphrase."""
        self._open_sealed(member, sealed.read_sealed_file_untrusted(text_of(member), member.path))

    def _open_sealed(self, member: KitFile, table: object) -> None:
        from zesty_burrow.intake.kit import FoundCredentials

        passphrase = self.given.ask(f"Passphrase of {member.path}: ")
        for scope, value in sealed.open_credentials_untrusted(table, passphrase, member.path):
            self.labelled.append(FoundCredentials(member.path, scope, value))
            self.keep(member.path, Kind.SEALED, f"for {scope}")

    def _picture(self, member: KitFile) -> None:
        if len(self._pictures) >= MAX_PICTURES:
            self.leave(member, Kind.CODE, "kit-junk", f"only the first {MAX_PICTURES} pictures are looked at")
            return
        found = codes.read_picture_untrusted(member.data)
        if not found:
            self.leave(member, Kind.OTHER, "kit-junk", "a picture without a QR code")
            return
        self._pictures.append(member)
        self._symbols += found
        self.keep(member.path, Kind.CODE, f"{len(found)} codes" if len(found) > 1 else "one code")

    def take_codes(self) -> None:
        """The texts of all QR codes, once all pictures are seen."""
        if not self._pictures:
            return
        first = self._pictures[0]
        texts, missing = codes.join_symbols(self._symbols)
        for number, data in enumerate(texts, start=1):
            path = f"{first.path}/code" if len(texts) == 1 else f"{first.path}/code-{number}"
            self.take(KitFile(path, data, first.mode))
        self.findings += [finding("code-incomplete", first.path, words) for words in missing]


def _slug(problem: BurrowError) -> str:
    """The finding that an error becomes where only one file is left out for it."""
    known = problem.slug in CODES and problem.slug.partition("-")[0] in ("kit", "protocol", "code")
    return problem.slug if known else "kit-unreadable"


NAME_KEY = re.compile(r"^\s*name\s*=", re.MULTILINE)


def _without_sealed(text: str, origin: str) -> tuple[str, object]:
    """A profile's text without the sealed credentials in it, and those."""
    try:
        document = tomllib.loads(text)
    except (tomllib.TOMLDecodeError, RecursionError) as problem:
        raise ProfileInvalid(f"{origin} is not TOML", why=str(problem)) from None
    table = document.pop(sealed.TABLE, None)
    return tomli_w.dumps(document, multiline_strings=True), table
