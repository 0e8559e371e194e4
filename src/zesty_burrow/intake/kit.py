"""Reads a kit: recognises each file, joins what belongs together, and says what was left out and why."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from enum import StrEnum

from cryptography.hazmat.primitives.serialization import Encoding

from zesty_burrow.core import trust
from zesty_burrow.core.eap.peer import NamePassword
from zesty_burrow.core.finding import Finding, finding
from zesty_burrow.core.profile.checks import check_profile
from zesty_burrow.core.profile.model import Profile
from zesty_burrow.core.profile.text import PEM_MARK, digest, read_profile, write_profile
from zesty_burrow.errors import InputError, Malformed, SealError
from zesty_burrow.intake import sealed, sheet
from zesty_burrow.intake.certificates import PKCS7_MARK, read_certificates_untrusted
from zesty_burrow.intake.containers import expand
from zesty_burrow.intake.credentials import looks_like_credentials, read_credentials_untrusted
from zesty_burrow.intake.limits import refused
from zesty_burrow.intake.mail import text_of_html
from zesty_burrow.intake.member import Member
from zesty_burrow.intake.sealed import open_credentials_untrusted
from zesty_burrow.intake.vocabulary import Field

READ_ME = re.compile(r"^(read[ _.-]?me|licen[cs]e|terms|changes|news|notes|instructions?|help|about)", re.IGNORECASE)
PROFILE_KEY = re.compile(r"^\s*format\s*=|^\s*\[(profile|gateway)\]", re.MULTILINE)
Neighbour = Callable[[str], bytes | None]
Ask = Callable[[str], str]


class Kind(StrEnum):
    """What a file of a kit is."""

    PROFILE = "profile"
    CERTIFICATE = "certificate"
    CREDENTIALS = "credentials"
    SHEET = "sheet"
    TABLE = "table"
    SEALED = "sealed credentials"
    READ_ME = "read-me"
    OTHER = "other"


@dataclass(frozen=True, slots=True)
class Item:
    """One file of the kit and what became of it."""

    path: str
    kind: Kind
    taken: bool
    why: str = ""


@dataclass(frozen=True, slots=True)
class FoundProfile:
    """A profile that stands on its own: its authorities are inside."""

    path: str
    profile: Profile
    text: str
    digest: str


@dataclass(frozen=True, slots=True)
class FoundCredentials:
    """Credentials and the provider they are for."""

    path: str
    label: str
    value: NamePassword


@dataclass(frozen=True, slots=True)
class Kit:
    """Everything that was found."""

    origin: str
    profiles: tuple[FoundProfile, ...]
    credentials: tuple[FoundCredentials, ...]
    items: tuple[Item, ...]
    findings: tuple[Finding, ...]


class _Reader:
    """Works through the members of one kit."""

    def __init__(self, origin: str, now: datetime, neighbour: Neighbour, provider: str, ask: Ask) -> None:
        self.origin, self.now, self.neighbour, self.provider, self.ask = origin, now, neighbour, provider, ask
        self._takers: dict[Kind, Callable[[Member], None]] = {
            Kind.PROFILE: self._profile,
            Kind.CERTIFICATE: self._certificate,
            Kind.CREDENTIALS: self._secrets,
            Kind.SHEET: self._sheet,
            Kind.TABLE: self._table,
            Kind.SEALED: self._sealed,
        }
        self.labelled: list[FoundCredentials] = []
        self.items: list[Item] = []
        self.findings: list[Finding] = []
        self.raw_profiles: list[tuple[str, Member, Profile]] = []
        self.certificates: dict[str, tuple[Member, str]] = {}
        self.used: set[str] = set()
        self.credentials: list[tuple[Member, NamePassword]] = []
        self.profiles: list[FoundProfile] = []

    def take(self, member: Member) -> None:
        """Recognise one file."""
        kind = recognise(member)
        if kind is Kind.READ_ME:
            self.leave(member, kind, "kit-read-me")
        elif kind is Kind.OTHER:
            self.leave(member, kind, "kit-junk")
        else:
            try:
                self._takers[kind](member)
            except InputError as problem:
                slug = problem.slug if problem.slug == "kit-credentials-incomplete" else "kit-unreadable"
                self.leave(member, kind, slug, str(problem))

    def leave(self, member: Member, kind: Kind, slug: str, detail: str = "") -> None:
        """Record a file that is not taken, and why."""
        entry = finding(slug, member.path, detail)
        self.findings.append(entry)
        self.items.append(Item(member.path, kind, taken=False, why=detail or entry.code.title))

    def _profile(self, member: Member) -> None:
        self.raw_profiles.append((member.path, member, read_profile(_text(member), member.path)))

    def _certificate(self, member: Member) -> None:
        certificates = read_certificates_untrusted(member.data)
        pem = b"".join(entry.public_bytes(Encoding.PEM) for entry in certificates).decode()
        self.certificates[member.path] = (member, pem)

    def _secrets(self, member: Member) -> None:
        value, found = read_credentials_untrusted(_text(member), member.path)
        self.findings += found
        self._keep_secret(member, value)

    def _keep_secret(self, member: Member, value: NamePassword) -> None:
        self.findings.append(finding("kit-plaintext-password", member.path))
        if member.mode is not None and member.mode & 0o077:
            self.findings.append(finding("kit-world-readable", member.path, f"mode {member.mode & 0o777:04o}"))
        self.credentials.append((member, value))

    def _sheet(self, member: Member) -> None:
        text = _text(member)
        lower = member.name.lower()
        reader = sheet.read_toml if lower.endswith(".toml") else sheet.read_pairs if lower.endswith(".csv") else None
        row = reader(text) if reader else sheet.read_lines(text)
        made = sheet.draft(row, member.path, self.provider)
        self.findings += made.findings
        if made.credentials is not None:
            self._keep_secret(member, made.credentials)
            if made.profile is None and row.first(Field.PROVIDER):
                self.provider = self.provider or row.first(Field.PROVIDER)
        if made.profile is not None:
            self.raw_profiles.append((member.path, member, made.profile))
        if made.profile is None and made.credentials is None:
            self.leave(member, Kind.SHEET, "kit-unreadable", "neither a host nor an account with its password is on it")

    def _table(self, member: Member) -> None:
        """A table's rows by template: one protocol and sign-in, many places."""
        rows = sheet.read_table(_text(member))
        unknown = dict.fromkeys(label for row in rows for label in row.unknown)
        self.findings += [finding("sheet-not-understood", member.path, f"column {label}") for label in unknown]
        for number, row in enumerate(rows, start=2):
            row.unknown.clear()
            origin = f"{member.path}, row {number}"
            try:
                made = sheet.draft(row, origin, self.provider)
            except InputError as problem:
                self.findings.append(finding("kit-unreadable", origin, str(problem)))
                continue
            self.findings += made.findings
            if made.profile is not None:
                self.raw_profiles.append((origin, member, made.profile))

    def _sealed(self, member: Member) -> None:
        """Credentials that were exported under a passphrase."""
        question = f"Passphrase of {member.path}: "
        for label, value in open_credentials_untrusted(_text(member), self.ask(question), member.path).items():
            self.labelled.append(FoundCredentials(member.path, label, value))
            self.items.append(Item(member.path, Kind.SEALED, taken=True, why=f"for {label}"))

    def _attach(self, member: Member, profile: Profile) -> Profile:
        """The kit's own authorities, for a profile that names none (a sheet or a table cannot)."""
        if profile.authorities:
            return profile
        issuing = {path: pem for path, (_, pem) in self.certificates.items() if _is_authority(pem)}
        if issuing:
            self.used |= set(issuing)
            self.findings.append(finding("authority-attached", member.path, ", ".join(issuing)))
        return replace(profile, authorities=tuple(issuing.values()))

    def join(self) -> None:
        """Put authorities into profiles and make names unique."""
        names: dict[str, str] = {}
        contents: dict[str, str] = {}
        for path, member, raw in self.raw_profiles:
            named = replace(raw, authorities=tuple(self._authority(member, entry) for entry in raw.authorities))
            profile = self._attach(member, named)
            text = write_profile(profile)
            content = digest(text)
            if content in contents:
                detail = f"the same as {contents[content]}"
                self.leave(member, Kind.PROFILE, "kit-same-content", detail)
                continue
            contents[content] = path
            if profile.name in names:
                profile = replace(profile, name=_unique(profile.name, names))
                text = write_profile(profile)
                self.findings.append(finding("profile-renamed", path, f"it is now {profile.name}"))
            names[profile.name] = path
            self.findings += check_profile(profile, self.now)
            self.items.append(Item(path, Kind.PROFILE, taken=True, why=profile.place))
            self.profiles.append(FoundProfile(path, profile, text, digest(text)))
        for path, (member, _) in self.certificates.items():
            if path in self.used:
                self.items.append(Item(path, Kind.CERTIFICATE, taken=True, why="the profiles' authority"))
            else:
                self.leave(member, Kind.CERTIFICATE, "kit-certificate-unused")

    def _authority(self, member: Member, entry: str) -> str:
        """The PEM text for an entry of trust.authorities; the entry itself where the file is nowhere."""
        if PEM_MARK in entry:
            return entry
        beside = f"{member.folder}/{entry}" if member.folder else entry
        by_name = [path for path, (other, _) in self.certificates.items() if other.name.casefold() == entry.casefold()]
        path = beside if beside in self.certificates else by_name[0] if len(by_name) == 1 else ""
        if path:
            self.used.add(path)
            return self.certificates[path][1]
        data = self.neighbour(entry)
        if data is None:
            return entry
        try:
            certificates = read_certificates_untrusted(data)
        except Malformed as problem:
            self.findings.append(finding("kit-unreadable", entry, str(problem)))
            return entry
        return b"".join(one.public_bytes(Encoding.PEM) for one in certificates).decode()

    def label(self, provider: str) -> tuple[FoundCredentials, ...]:
        """Credentials with their provider: the one that was named, else the one all profiles share."""
        providers = {entry.profile.credentials_label for entry in self.profiles}
        label = provider or (providers.pop() if len(providers) == 1 else "")
        result = list(self.labelled)
        for index, (member, value) in enumerate(self.credentials):
            if index or not label:
                why = "only one set of credentials for each provider" if index else "say whose with --provider"
                self.items.append(Item(member.path, Kind.CREDENTIALS, taken=False, why=why))
                continue
            self.items.append(Item(member.path, Kind.CREDENTIALS, taken=True, why=f"for {label}"))
            result.append(FoundCredentials(member.path, label, value))
        if self.profiles and not self.credentials and not self.labelled:
            self.findings.append(finding("kit-no-credentials", self.origin))
        return tuple(result)


def _is_authority(pem: str) -> bool:
    return all(not trust.issuer_findings(one, 0) for one in trust.load_pem_certificates_untrusted(pem.encode()))


def _text(member: Member) -> str:
    try:
        text = member.data.decode()
    except UnicodeDecodeError as problem:
        raise Malformed(f"{member.path} is not text", why=f"octet {problem.start} is not UTF-8") from None
    return text_of_html(text) if member.name.lower().endswith((".html", ".htm")) else text


def _unique(name: str, taken: dict[str, str]) -> str:
    number = 2
    while f"{name[:60]}-{number}" in taken:
        number += 1
    return f"{name[:60]}-{number}"


def recognise(member: Member) -> Kind:
    """What a file is, by its content first and its name second."""
    data = member.data
    if READ_ME.match(member.name):
        return Kind.READ_ME
    if PEM_MARK.encode() in data and not PROFILE_KEY.search(data[:65536].decode("utf-8", "replace")):
        return Kind.CERTIFICATE
    lower = member.name.lower()
    if lower.endswith((".pem", ".crt", ".cer", ".der", ".p7b", ".p7c")) or data.startswith(PKCS7_MARK):
        return Kind.CERTIFICATE
    try:
        text = _text(member)
    except Malformed:
        return Kind.PROFILE if lower.endswith(".toml") else Kind.OTHER
    if PROFILE_KEY.search(text[:65536]):
        return Kind.PROFILE
    return _recognise_text(member, lower, text)


def _recognise_text(member: Member, lower: str, text: str) -> Kind:
    if sealed.MARK in text[:200]:
        return Kind.SEALED
    if lower.endswith((".csv", ".json")) and sheet.looks_like_table(text):
        return Kind.TABLE
    readers = {".csv": sheet.read_pairs, ".toml": sheet.read_toml}
    for ending, reader in readers.items():
        if lower.endswith(ending):
            try:
                known = set(reader(text).values)
            except Malformed:
                return Kind.PROFILE if ending == ".toml" else Kind.OTHER
            return Kind.SHEET if known & sheet.ANCHORS else Kind.PROFILE if ending == ".toml" else Kind.OTHER
    if sheet.looks_like_sheet(text):
        return Kind.SHEET
    if looks_like_credentials(member.name, text):
        return Kind.CREDENTIALS
    is_prose = (lower.endswith((".txt", ".md", ".html")) or "text of the mail" in lower) and text.count(" ") > 8
    return Kind.READ_ME if is_prose else Kind.OTHER


def nobody_to_ask(_: str) -> str:
    """Where no passphrase can be asked for."""
    raise SealError("a passphrase is needed", next_step="Name a file that holds it: --passphrase-file FILE")


def nothing_beside(_: str) -> bytes | None:
    """For kits that have no surroundings."""
    return None


def read_kit(
    origin: str,
    members: Sequence[Member],
    now: datetime,
    *,
    provider: str = "",
    neighbour: Neighbour = nothing_beside,
    ask: Ask = nobody_to_ask,
) -> Kit:
    """A kit from its files. ``neighbour`` looks a file up beside a single profile, ``ask`` asks for a passphrase.

    Raises ``InputError`` for a hostile or damaged archive, and where there is nothing at all to take.
    """
    reader = _Reader(origin, now, neighbour, provider, ask)
    seen: dict[bytes, str] = {}
    for member in expand(members):
        content = hashlib.sha256(member.data).digest()
        if content in seen and recognise(member) is not Kind.READ_ME:
            reader.leave(member, recognise(member), "kit-same-content", f"the same as {seen[content]}")
            continue
        seen[content] = member.path
        reader.take(member)
    reader.join()
    credentials = reader.label(reader.provider)
    kit = Kit(origin, tuple(reader.profiles), credentials, tuple(reader.items), tuple(reader.findings))
    if not kit.profiles and not kit.credentials:
        reasons = [f"{item.path}: {item.why}" for item in kit.items[:5]]
        raise refused("kit-empty", origin, "; ".join(reasons))
    return kit
