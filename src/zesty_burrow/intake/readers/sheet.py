"""Set-up sheets ("Label: value" lines, CSV with two columns, TOML of any shape) and server tables (CSV, JSON).

Both end in rows of fields; a row with a host becomes a profile, a row with account and password credentials.
"""

from __future__ import annotations

import csv
import io
import ipaddress
import json
import re
import tomllib
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

from zesty_burrow.core.credentials import Credentials, NamePassword, PreSharedKey
from zesty_burrow.core.finding import Finding, finding
from zesty_burrow.core.identity import Identity, IdType
from zesty_burrow.core.profile import Gateway, Profile, SignIn, Traffic, TunnelSettings
from zesty_burrow.core.secret import Secret
from zesty_burrow.errors import Malformed, ProfileInvalid
from zesty_burrow.intake.readers.credentials import paste_slips
from zesty_burrow.intake.readers.places import country_code, folded, place_in_name
from zesty_burrow.intake.readers.vocabulary import Field, meaning, yes_or_no
from zesty_burrow.profiles.text import read_profile, write_profile
from zesty_burrow.protocols.ikev2.settings import IkeSettings

MAX_ROWS = 10_000
MAX_LINE = 1000
LINE = re.compile(r"^\s*[-*•]?\s*([^:=\t]{2,50}?)\s*(?::|=|\t)\s*(\S.*?)\s*$")
SECRET_FIELDS = (Field.ACCOUNT, Field.PASSWORD, Field.SHARED_SECRET)
ANCHORS = frozenset({Field.HOST, Field.ACCOUNT, Field.PASSWORD})


@dataclass(slots=True)
class Row:
    """One filled-in sheet, or one line of a table: values by field, and labels that were not understood.

    ``trimmed``: secrets behind which blanks were left out.
    """

    values: dict[Field, list[str]] = field(default_factory=dict)
    unknown: list[str] = field(default_factory=list)
    trimmed: list[Field] = field(default_factory=list)

    def put(self, label: str, value: str) -> None:
        """Take a label and its value."""
        found = meaning(label)
        value = value.strip()
        if found is None:
            self.unknown.append(label.strip())
        elif value:
            self.values.setdefault(found, []).append(value)

    def first(self, which: Field) -> str:
        """The first value of a field, or an empty text."""
        return self.values.get(which, [""])[0]


def looks_like_sheet(text: str) -> bool:
    """Whether a text is a filled-in sheet: two known labels at least, one of them a host, an account or a password."""
    known = set(read_lines(text[:65536]).values)
    return len(known) >= 2 and bool(known & ANCHORS)


def read_lines(text: str) -> Row:
    """Lines of "Label: value"; other lines are prose and are passed over."""
    row = Row()
    for line in text.splitlines()[:MAX_ROWS]:
        if len(line) <= MAX_LINE and (match := LINE.match(line)):
            # A word of prose before a colon is not a label that was not understood: only short ones count.
            label, value = match.groups()
            known = meaning(label)
            if known is not None or len(label.split()) <= 3:
                row.put(label, value)
            if known in SECRET_FIELDS and line != line.rstrip():
                row.trimmed.append(known)
    return row


def read_pairs(text: str) -> Row:
    """CSV with a label and a value in each line."""
    row = Row()
    try:
        for cells in csv.reader(io.StringIO(text)):
            if len(cells) >= 2 and cells[0].strip():
                row.put(cells[0], ", ".join(cell for cell in cells[1:] if cell.strip()))
    except csv.Error as problem:
        raise Malformed("a sheet is malformed", why=str(problem)) from None
    return row


def read_toml(text: str) -> Row:
    """TOML of any shape: its keys are labels."""
    try:
        document = tomllib.loads(text)
    except (tomllib.TOMLDecodeError, RecursionError) as problem:
        raise Malformed("a sheet is not TOML", why=str(problem)) from None
    row = Row()
    _flatten(document, row, 0)
    return row


def _flatten(table: Mapping[str, Any], row: Row, depth: int) -> None:
    for key, value in table.items():
        if isinstance(value, Mapping) and depth < 4:
            _flatten(value, row, depth + 1)
        elif isinstance(value, list):
            row.put(key, ", ".join(str(one) for one in value))
        elif isinstance(value, bool):
            row.put(key, "yes" if value else "no")
        else:
            row.put(key, str(value))


def read_table(text: str) -> list[Row]:
    """A server table: CSV whose first line names the columns, or JSON with a list of objects. Columns in any order."""
    stripped = text.lstrip("\ufeff \t\r\n")
    try:
        if stripped[:1] in "[{":
            return _json_rows(json.loads(stripped))
        return _csv_rows(stripped)
    except (csv.Error, ValueError, RecursionError) as problem:
        raise Malformed("a server table is malformed", why=str(problem)[:200]) from None


def _csv_rows(text: str) -> list[Row]:
    first = text.partition("\n")[0]
    separator = max(",;\t", key=first.count)
    reader = csv.reader(io.StringIO(text), delimiter=separator)
    labels = next(reader, [])
    rows: list[Row] = []
    for cells in reader:
        if len(rows) >= MAX_ROWS:
            raise Malformed("a server table is too long", why=f"more than {MAX_ROWS} lines")
        if any(cell.strip() for cell in cells):
            rows.append(_row(zip(labels, cells, strict=False)))
    return rows


def _json_rows(document: Any) -> list[Row]:
    if isinstance(document, dict):
        document = next((value for value in document.values() if isinstance(value, list)), [])
    if not isinstance(document, list) or len(document) > MAX_ROWS:
        raise Malformed("a server table is malformed", why=f"a list of up to {MAX_ROWS} objects is needed")
    rows = []
    for entry in document:
        if not isinstance(entry, dict):
            raise Malformed("a server table is malformed", why="a list of objects is needed")
        texts = {key: ", ".join(map(str, one)) if isinstance(one, list) else str(one) for key, one in entry.items()}
        rows.append(_row(texts.items()))
    return rows


def _row(pairs: Iterable[tuple[str, str]]) -> Row:
    row = Row()
    for label, value in pairs:
        row.put(label, value)
    return row


def looks_like_table(text: str) -> bool:
    """Whether a text is a server table: its first columns hold a host and, in CSV, at least one more known label."""
    stripped = text.lstrip("\ufeff \t\r\n")
    if stripped[:1] in ("[", "{"):
        try:
            return any(row.first(Field.HOST) for row in read_table(text)[:1])
        except Malformed:
            return False
    first = stripped.partition("\n")[0]
    labels = {meaning(cell) for cell in re.split(r"[,;\t]", first)} - {None}
    return Field.HOST in labels and len(labels) >= 2


def slug_of(text: str) -> str:
    """A profile's name from a title: lower-case ASCII letters, digits and hyphens."""
    return re.sub(r"[^a-z0-9]+", "-", folded(text)).strip("-")[:60].strip("-")


@dataclass(slots=True)
class Drafted:
    """What a row became."""

    profile: Profile | None = None
    credentials: list[Credentials] = field(default_factory=list)
    findings: list[Finding] = field(default_factory=list)


def draft(row: Row, origin: str, provider: str = "") -> Drafted:
    """A profile and credentials from a row. Raises :class:`ProfileInvalid` with the field that is wrong."""
    made = Drafted()
    made.findings += [finding("sheet-not-understood", origin, label) for label in dict.fromkeys(row.unknown)]
    if yes_or_no(row.first(Field.EVERYBODY)):
        made.findings.append(finding("for-everybody", origin))
    account, password, secret = (row.first(one) for one in (Field.ACCOUNT, Field.PASSWORD, Field.SHARED_SECRET))
    if account and password:
        made.credentials.append(NamePassword(account, Secret(password), row.first(Field.DOMAIN)))
    if secret and secret.casefold() not in NOTHING:
        made.credentials.append(PreSharedKey(Secret(secret)))
    made.findings += [
        finding("credentials-paste-slip", origin, f"the {label} {slip}")
        for label, value in (("name", account), ("password", password), ("shared secret", secret))
        for slip in paste_slips(value)
    ]
    made.findings += [
        finding("credentials-paste-slip", origin, f"there was a blank behind the {one} on the sheet; it was left out")
        for one in row.trimmed
    ]
    if _list(row, Field.HOST):
        made.profile = _profile(row, origin, provider)
    return made


NOTHING = frozenset({"none", "no", "-", "n/a"})
"""What people write into a field that they leave out."""
RETIRED = re.compile(r"l2tp|pptp|ike ?v?1\b|xauth", re.IGNORECASE)
SIGN_IN_WORDS = {"certificate": "certificate", "shared": "pre-shared-key", "raw": "raw-public-key"}


def _check_protocol(row: Row, origin: str) -> None:
    wanted = row.first(Field.PROTOCOL)
    plain = wanted.casefold()
    if not wanted or "ikev2" in plain.replace(" ", "") or ("ike" in plain and not RETIRED.search(plain)):
        return
    slug = "protocol-retired" if RETIRED.search(plain) else "protocol-unavailable"
    raise ProfileInvalid(f"{origin}: protocol", why=f"{wanted!r:.60} is not available; IKEv2 is", slug=slug)


def _sign_in(row: Row) -> tuple[SignIn, Identity | None]:
    """By the sheet's own word, else by what it gives: a password, else a shared secret, else neither (a password)."""
    said = row.first(Field.SIGN_IN).casefold()
    method = next((method for word, method in SIGN_IN_WORDS.items() if word in said), "")
    shared = row.first(Field.SHARED_SECRET).casefold() not in {"", *NOTHING}
    if not method:
        method = "pre-shared-key" if shared and not row.first(Field.PASSWORD) else "eap-mschapv2"
    gateway = "pre-shared-key" if shared else "certificate"
    account = row.first(Field.ACCOUNT)
    own = Identity(IdType.ID_KEY_ID, account) if method == "pre-shared-key" and account else None
    return SignIn(gateway, method), own


def _profile(row: Row, origin: str, provider: str) -> Profile:
    _check_protocol(row, origin)
    hosts = _list(row, Field.HOST)
    named = row.first(Field.NAME) or row.first(Field.CITY)
    title = named or place_in_name(hosts[0].partition(".")[0]).city or hosts[0]
    sign_in, own = _sign_in(row)
    profile = Profile(
        name=slug_of(title) or slug_of(hosts[0]),
        provider=row.first(Field.PROVIDER) or provider,
        country=country_code(row.first(Field.COUNTRY)),
        city=row.first(Field.CITY),
        gateway=Gateway(tuple(hosts)),
        settings=IkeSettings(identity=Identity.of(row.first(Field.IDENTITY) or hosts[0]), own_identity=own),
        edition=row.first(Field.EDITION),
        tunnel=_tunnel(row, origin),
        sign_in=sign_in,
        traffic=_traffic(row, origin),
    )
    # The text form's own rules judge what a person has written.
    return read_profile(write_profile(profile), origin)


def _list(row: Row, which: Field) -> list[str]:
    parts = [part for value in row.values.get(which, []) for part in re.split(r"[,;\s]+", value) if part]
    return [part for part in parts if part.casefold() not in NOTHING]


def _tunnel(row: Row, origin: str) -> TunnelSettings:
    text = row.first(Field.MTU)
    if not text:
        return TunnelSettings()
    if not text.isascii() or not text.isdigit() or len(text) > 5:
        raise ProfileInvalid(f"{origin}: MTU", why=f"{text!r:.40} is not a number")
    return TunnelSettings(mtu=int(text))


def _traffic(row: Row, origin: str) -> Traffic:
    try:
        servers = tuple(ipaddress.ip_address(one) for one in _list(row, Field.NAME_SERVER))
        networks = tuple(ipaddress.ip_network(one) for one in _list(row, Field.NETWORKS))
        netbios = tuple(ipaddress.ip_address(one) for one in _list(row, Field.NETBIOS))
    except ValueError as problem:
        raise ProfileInvalid(f"{origin}: name servers or networks", why=str(problem)) from None
    everything = yes_or_no(row.first(Field.ALL_TRAFFIC))
    if everything is False and not networks:
        raise ProfileInvalid(
            f"{origin}: networks",
            why="only the office's traffic is to go through, but its networks are not named",
            next_step="Ask for the office's networks and add a line such as: Networks: 10.20.0.0/16",
        )
    ipv6 = yes_or_no(row.first(Field.IPV6))
    return Traffic(
        networks=networks if networks and everything is not True else Traffic().networks,
        ipv6="block" if ipv6 is False else "tunnel",
        name_servers=servers,
        suffixes=tuple(_list(row, Field.SUFFIX)),
        netbios_name_servers=netbios,
    )
