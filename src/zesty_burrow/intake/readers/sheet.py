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
from zesty_burrow.intake.readers import layout
from zesty_burrow.intake.readers.credentials import paste_slips
from zesty_burrow.intake.readers.places import country_code, folded, place_in_name
from zesty_burrow.intake.readers.vocabulary import DOUBTFUL, Field, Vocabulary, shipped
from zesty_burrow.profiles.text import read_profile, write_profile
from zesty_burrow.protocols.ikev2.settings import IkeSettings

MAX_ROWS = 10_000
SECRET_FIELDS = (Field.ACCOUNT, Field.PASSWORD, Field.SHARED_SECRET)
ANCHORS = frozenset({Field.HOST, Field.ACCOUNT, Field.PASSWORD})


@dataclass(slots=True)
class Row:
    """One filled-in sheet, or one line of a table: values by field, and labels that were not understood.

    ``trimmed``: secrets behind which blanks were left out. ``guessed``: labels that may mean something else, with what
    they were taken for.
    """

    values: dict[Field, list[str]] = field(default_factory=dict)
    unknown: list[str] = field(default_factory=list)
    trimmed: list[Field] = field(default_factory=list)
    guessed: list[str] = field(default_factory=list)
    words: Vocabulary = field(default_factory=shipped, repr=False)

    def put(self, label: str, value: str) -> Field | None:
        """Take a label and its value; what it means."""
        found = self.words.match(label)
        value = value.strip()
        if found is None:
            self.unknown.append(label.strip())
            return None
        if value:
            self.values.setdefault(found.field, []).append(value)
            if found.confidence < DOUBTFUL:
                self.guessed.append(f"{label.strip()}: taken for {found.field} ({found.confidence:.0%} sure)")
        return found.field

    def first(self, which: Field) -> str:
        """The first value of a field, or an empty text."""
        return self.values.get(which, [""])[0]

    def answer(self, which: Field) -> bool | None:
        """A yes or a no, or None."""
        return self.words.yes_or_no(self.first(which))


def looks_like_sheet(text: str, words: Vocabulary | None = None) -> bool:
    """Whether a text is a filled-in sheet: two known labels at least, one of them a host, an account or a password."""
    words = words or shipped()
    known = set()
    for pair in layout.pairs(text[:65536], words, tolerant=False):
        if pair.known and (match := words.match(pair.label, tolerant=False)):
            known.add(match.field)
    known.discard(Field.NOTHING)
    return len(known) >= 2 and bool(known & ANCHORS)


def read_lines(text: str, words: Vocabulary | None = None) -> Row:
    """Labels and values as people set them out; other lines are prose and are passed over."""
    words = words or shipped()
    found = list(layout.pairs(text, words))
    row = Row(words=words.preferring(pair.label for pair in found))
    for pair in found:
        # A word of prose before a colon is not a label that was not understood: only short ones count.
        if pair.known or len(pair.label.split()) <= 3:
            meant = row.put(pair.label, pair.value)
            if meant in SECRET_FIELDS and pair.trimmed:
                row.trimmed.append(meant)
    return row


def read_pairs(text: str, words: Vocabulary | None = None) -> Row:
    """CSV with a label and a value in each line."""
    row = Row(words=words or shipped())
    try:
        for cells in csv.reader(io.StringIO(text), delimiter=_delimiter(text)):
            if len(cells) >= 2 and cells[0].strip() and not cells[0].lstrip().startswith("#"):
                row.put(cells[0], ", ".join(cell for cell in cells[1:] if cell.strip()))
    except csv.Error as problem:
        raise Malformed("a sheet is malformed", why=str(problem)) from None
    return row


def _delimiter(text: str) -> str:
    """What separates cells: what the first line that is no comment has most of."""
    first = next((line for line in text.splitlines() if line.strip() and not line.lstrip().startswith("#")), "")
    return max(",;\t|", key=first.count)


def read_toml(text: str, words: Vocabulary | None = None) -> Row:
    """TOML of any shape: its keys are labels."""
    try:
        document = tomllib.loads(text)
    except (tomllib.TOMLDecodeError, RecursionError) as problem:
        raise Malformed("a sheet is not TOML", why=str(problem)) from None
    row = Row(words=words or shipped())
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


def read_table(text: str, words: Vocabulary | None = None) -> list[Row]:
    """A server table: CSV whose first line names the columns, or JSON with a list of objects. Columns in any order."""
    stripped = text.lstrip("\ufeff \t\r\n")
    try:
        if stripped[:1] in "[{":
            return _json_rows(json.loads(stripped), words or shipped())
        return _csv_rows(stripped, words or shipped())
    except (csv.Error, ValueError, RecursionError) as problem:
        raise Malformed("a server table is malformed", why=str(problem)[:200]) from None


def _csv_rows(text: str, words: Vocabulary) -> list[Row]:
    lines = text.splitlines(keepends=True)
    while lines and (not lines[0].strip() or lines[0].lstrip().startswith("#")):
        lines.pop(0)
    reader = csv.reader(io.StringIO("".join(lines)), delimiter=_delimiter(text))
    labels = next(reader, [])
    words = words.preferring(labels)
    rows: list[Row] = []
    for cells in reader:
        if len(rows) >= MAX_ROWS:
            raise Malformed("a server table is too long", why=f"more than {MAX_ROWS} lines")
        if any(cell.strip() for cell in cells) and not cells[0].lstrip().startswith("#"):
            rows.append(_row(zip(labels, cells, strict=False), words))
    return rows


def _json_rows(document: Any, words: Vocabulary) -> list[Row]:
    if isinstance(document, dict):
        document = next((value for value in document.values() if isinstance(value, list)), [])
    if not isinstance(document, list) or len(document) > MAX_ROWS:
        raise Malformed("a server table is malformed", why=f"a list of up to {MAX_ROWS} objects is needed")
    rows = []
    for entry in document:
        if not isinstance(entry, dict):
            raise Malformed("a server table is malformed", why="a list of objects is needed")
        texts = {key: ", ".join(map(str, one)) if isinstance(one, list) else str(one) for key, one in entry.items()}
        rows.append(_row(texts.items(), words))
    return rows


def _row(pairs: Iterable[tuple[str, str]], words: Vocabulary) -> Row:
    row = Row(words=words)
    for label, value in pairs:
        row.put(label, value)
    return row


def looks_like_table(text: str, words: Vocabulary | None = None) -> bool:
    """Whether a text is a server table: its first columns hold a host and, in CSV, at least one more known label."""
    words = words or shipped()
    stripped = text.lstrip("\ufeff \t\r\n")
    if stripped[:1] in ("[", "{"):
        try:
            return any(row.first(Field.HOST) for row in read_table(text, words)[:1])
        except Malformed:
            return False
    lines = (line for line in stripped.splitlines() if line.strip() and not line.lstrip().startswith("#"))
    cells = [cell.strip().strip("\"'") for cell in re.split(r"[,;\t|]", next(lines, ""))]
    labels = {match.field for cell in cells if (match := words.match(cell, tolerant=False))}
    return bool(labels & {Field.HOST, Field.HOST6}) and len(labels) >= 2


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
    made.findings += [finding("sheet-guessed", origin, words) for words in dict.fromkeys(row.guessed)]
    made.findings += [finding("sheet-not-taken", origin, words) for words in _not_taken(row)]
    if row.answer(Field.EVERYBODY):
        made.findings.append(finding("for-everybody", origin))
    account, password, secret = (row.first(one) for one in (Field.ACCOUNT, Field.PASSWORD, Field.SHARED_SECRET))
    if not account and (mail := row.first(Field.EMAIL)):
        # Whose name to sign in with is nowhere else: many accounts are called by a mail address.
        account = mail
        made.findings.append(finding("sheet-guessed", origin, f"the e-mail address {mail} was taken for the account"))
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
    if _list(row, Field.HOST) or _list(row, Field.HOST6):
        made.profile = _profile(row, origin, provider)
    return made


IKE_PORTS = frozenset({"500", "4500"})


def _not_taken(row: Row) -> list[str]:
    """What was understood and has no place, in words: no line of a sheet is dropped silently."""
    told = [f"encryption: {value}" for value in row.values.get(Field.ENCRYPTION, [])]
    told += [f"port {value}" for value in row.values.get(Field.PORT, []) if not set(_parts(value)) <= IKE_PORTS]
    told += [f"transport: {value}" for value in row.values.get(Field.TRANSPORT, []) if "udp" not in value.casefold()]
    return told


def _parts(value: str) -> list[str]:
    return [part for part in re.split(r"[^0-9a-z]+", value.casefold()) if part and part not in ("udp", "and", "u")]


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
    if named := row.first(Field.OWN_IDENTITY):
        own = Identity.of(named)
    return SignIn(gateway, method), own


def _profile(row: Row, origin: str, provider: str) -> Profile:
    _check_protocol(row, origin)
    hosts = [*_list(row, Field.HOST), *_list(row, Field.HOST6)]
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
        networks = tuple(ipaddress.ip_network(one) for one in _networks(row))
        netbios = tuple(ipaddress.ip_address(one) for one in _list(row, Field.NETBIOS))
    except ValueError as problem:
        raise ProfileInvalid(f"{origin}: name servers or networks", why=str(problem)) from None
    everything = _everything(row, origin)
    if everything is False and not networks:
        raise ProfileInvalid(
            f"{origin}: networks",
            why="only the office's traffic is to go through, but its networks are not named",
            next_step="Ask for the office's networks and add a line such as: Networks: 10.20.0.0/16",
        )
    ipv6 = row.answer(Field.IPV6)
    return Traffic(
        networks=networks if networks and everything is not True else Traffic().networks,
        ipv6="block" if ipv6 is False else "tunnel",
        name_servers=servers,
        suffixes=tuple(_list(row, Field.SUFFIX)),
        netbios_name_servers=netbios,
    )


WITH_MASK = re.compile(r"(\d+\.\d+\.\d+\.\d+)\s*(?:/|,|;|mask|netmask|\s)\s*(255\.\d+\.\d+\.\d+)", re.IGNORECASE)


def _networks(row: Row) -> list[str]:
    """Networks in every usual form: with a prefix length, or with a mask behind them; a split tunnel's as well."""
    values = [*row.values.get(Field.NETWORKS, []), *row.values.get(Field.SPLIT, [])]
    texts = [WITH_MASK.sub(r"\1/\2", value) for value in values]
    parts = [part for text in texts for part in re.split(r"[,;\s]+", text) if part]
    from_split = row.answer(Field.SPLIT) is not None
    return [part for part in parts if part.casefold() not in NOTHING and not (from_split and "." not in part)]


def _everything(row: Row, origin: str) -> bool | None:
    """Whether all traffic is to go through the tunnel; None where the sheet does not say."""
    everything, split = row.answer(Field.ALL_TRAFFIC), row.answer(Field.SPLIT)
    if split is None and row.first(Field.SPLIT) and not row.first(Field.ALL_TRAFFIC):
        # Its networks stand there instead of a yes.
        split = True
    if everything is not None and split is not None and everything is split:
        raise ProfileInvalid(
            f"{origin}: all traffic, split tunnel",
            why="the sheet says both that all traffic goes through and that only some does, or neither",
            next_step="Ask which of the two is meant, and correct the other line.",
        )
    return (not split) if everything is None and split is not None else everything
