"""Set-up sheets: "Label: value" lines in any layout, CSV with two columns, TOML of any shape.

They end in rows of fields, as server tables do; a row with a host becomes a profile, one with account and password
credentials.
"""

from __future__ import annotations

import csv
import ipaddress
import re
import tomllib
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from zesty_burrow.core.credentials import Credentials, NamePassword, PreSharedKey
from zesty_burrow.core.finding import Finding, finding
from zesty_burrow.core.identity import Identity
from zesty_burrow.core.profile import Gateway, Profile, Traffic, TunnelSettings
from zesty_burrow.core.secret import Secret
from zesty_burrow.errors import Malformed, ProfileInvalid
from zesty_burrow.intake.readers import layout, server_list
from zesty_burrow.intake.readers.credentials import paste_slips
from zesty_burrow.intake.readers.places import country_code, folded, place_in_name
from zesty_burrow.intake.readers.tables import HOST_NAME, TableRow, cells_of, is_host
from zesty_burrow.intake.readers.vocabulary import DOUBTFUL, Field, Vocabulary, shipped
from zesty_burrow.profiles.text import read_profile, write_profile
from zesty_burrow.protocols import registry
from zesty_burrow.protocols.facets.sheet import NEVER, SheetFacts
from zesty_burrow.protocols.parts import sheets
from zesty_burrow.records import dataclass, field, replace

SECRET_FIELDS = (Field.ACCOUNT, Field.PASSWORD, Field.SHARED_SECRET)
ANCHORS = frozenset({Field.HOST, Field.ACCOUNT, Field.PASSWORD})


def looks_like_sheet(text: str, words: Vocabulary | None = None) -> bool:
    """Whether a text is a filled-in sheet: two known labels, one for certain; one a host, an account or a password."""
    words = words or shipped()
    certain, known = set(), set()
    for pair in layout.pairs(text[:65536], words):
        if pair.known and (match := words.match(pair.label)):
            known.add(match.field)
            if match.confidence >= DOUBTFUL:
                certain.add(match.field)
    for found in (certain, known):
        found.discard(Field.NOTHING)
    return len(known) >= 2 and bool(certain) and bool(known & ANCHORS)


PLACE_FIELDS = frozenset((
    Field.HOST, Field.HOST6, Field.NAME, Field.CITY, Field.COUNTRY, Field.IDENTITY, Field.PORT, Field.TRANSPORT,
    Field.LOAD,
))  # fmt: skip
"""What each of several gateways on one sheet has for itself; the rest is for all of them."""


def read_lines(text: str, words: Vocabulary | None = None) -> TableRow:
    """All labels and values of a text as one row; see :func:`read_sheet`."""
    words = words or shipped()
    found = list(layout.pairs(text, words))
    return _row_of(found, words.preferring(pair.label for pair in found))


def _row_of(pairs: Iterable[layout.Pair], words: Vocabulary) -> TableRow:
    row = TableRow(words=words)
    for pair in pairs:
        # A word of prose before a colon is not a label that was not understood: only short ones count.
        if pair.known or len(pair.label.split()) <= 3:
            meant = row.put(pair.label, pair.value, tolerant=pair.known)
            if meant in SECRET_FIELDS and pair.trimmed:
                row.trimmed.append(meant)
    return row


def _add_named_hosts(
    rows: list[TableRow], hosts: Sequence[server_list.NamedHost], known: set[str], used: set[int], words: Vocabulary
) -> list[str]:
    """A row for each host that prose names with its place; a sentence for each other host. ``used``: lines."""
    loose = []
    for named in hosts:
        if named.host in known:
            continue
        known.add(named.host)
        if not (named.place.country or named.place.city):
            loose.append(f"the host {named.host} in line {named.line}: nothing says which place it is")
            continue
        used.add(named.line)
        values = {Field.HOST: named.host, Field.CITY: named.place.city, Field.COUNTRY: named.place.country}
        rows.append(TableRow({key: [value] for key, value in values.items() if value}, words=words))
    return loose


def _labelled(pairs: Sequence[layout.Pair], words: Vocabulary) -> list[layout.Pair]:
    """Without what is hardly a label. "Lisbon: lisbon.example" is no label that was not understood, but a place."""
    taken = [_with_host_word(pair, words) for pair in pairs if pair.known or len(pair.label.split()) <= 3]
    return [pair for pair in taken if pair.known or not is_host(pair.value.strip("()<>"))]


def read_sheet(text: str, words: Vocabulary | None = None) -> list[TableRow]:
    """Labels and values as people set them out, and gateways that are named among other words: a row for each gateway.

    The first row has what is for all of them as well (an account, a name server); lines that are neither are its
    ``prose``, hosts in them without a place its ``loose`` ones.
    """
    words = words or shipped()
    found = list(layout.pairs(text, words))
    words = words.preferring(pair.label for pair in found)
    taken = _labelled(found, words)
    used = {number for pair in taken for number in (pair.at, pair.label_at)}
    hosts = list(server_list.named_hosts(text, used))
    common, own = _apart(taken, words)
    rows = [_row_of(pairs, words) for pairs in own]
    known = {host.lower() for pairs in (common, *own) for pair in pairs for host in pair.value.split()}
    loose = _add_named_hosts(rows, hosts, known, used, words)
    first = _row_of(common, words)
    if first.first(Field.HOST) or not rows:
        for row in rows:
            _share(first, row)
        rows.insert(0, first)
    else:
        _add_common(rows, first)
    lines = enumerate(text.splitlines(), start=1)
    rows[0].prose = _numbers(number for number, line in lines if line.strip() and number not in used)
    rows[0].loose = loose
    return rows


def _with_host_word(pair: layout.Pair, words: Vocabulary) -> layout.Pair:
    """ "Server (spare): spare.example" names a host, whatever stands beside the word for it."""
    if pair.known or not is_host(pair.value):
        return pair
    for word in re.findall(r"[^\W\d_]{3,}", pair.label):
        if (match := words.match(word, tolerant=False)) and match.field is Field.HOST:
            return pair._replace(label=word, known=True)
    return pair


def _apart(pairs: list[layout.Pair], words: Vocabulary) -> tuple[list[layout.Pair], list[list[layout.Pair]]]:
    """What is for all gateways, and what each of several has for itself, where a label of theirs comes again."""
    matches = [(pair, words.match(pair.label, tolerant=pair.known)) for pair in pairs]
    meant = [(pair, match.field if match else None) for pair, match in matches]
    labels = Counter(" ".join(pair.label.casefold().split()) for pair, which in meant if which in PLACE_FIELDS)
    again = {label for label, count in labels.items() if count > 1}
    hosts = {" ".join(pair.label.casefold().split()) for pair, which in meant if which is Field.HOST} & again
    if not hosts:
        return pairs, []
    begins = next(label for pair, _ in meant if (label := " ".join(pair.label.casefold().split())) in again)
    common: list[layout.Pair] = []
    own: list[list[layout.Pair]] = []
    for pair, which in meant:
        label = " ".join(pair.label.casefold().split())
        if label == begins:
            own.append([])
        (own[-1] if own and which in PLACE_FIELDS and (label in again or own) else common).append(pair)
    return common, own


SHARED = frozenset(Field) - PLACE_FIELDS - {Field.ACCOUNT, Field.PASSWORD, Field.SHARED_SECRET}


def _share(common: TableRow, row: TableRow) -> None:
    """What stands there once for all gateways, but for secrets."""
    for which, values in common.values.items():
        if which in SHARED:
            row.values.setdefault(which, list(values))


def _add_common(rows: list[TableRow], common: TableRow) -> None:
    """What is for all of them goes into each; the secrets, and what is to be told, into the first."""
    for row in rows:
        _share(common, row)
    for which, values in common.values.items():
        rows[0].values.setdefault(which, list(values))
    rows[0].unknown = [*common.unknown, *rows[0].unknown]
    rows[0].passed = [*common.passed, *rows[0].passed]
    rows[0].guessed = [*common.guessed, *rows[0].guessed]
    rows[0].trimmed = [*common.trimmed, *rows[0].trimmed]


def _numbers(lines: Iterable[int]) -> str:
    """Numbers of lines in a few words: 1-3, 7."""
    spans: list[list[int]] = []
    for number in lines:
        if spans and spans[-1][1] == number - 1:
            spans[-1][1] = number
        else:
            spans.append([number, number])
    return ", ".join(str(first) if first == last else f"{first}-{last}" for first, last in spans)


def read_pairs(text: str, words: Vocabulary | None = None) -> TableRow:
    """CSV with a label and a value in each line."""
    row = TableRow(words=words or shipped())
    try:
        for cells in cells_of(text):
            if len(cells) >= 2 and cells[0]:
                row.put(cells[0], ", ".join(cell for cell in cells[1:] if cell))
    except csv.Error as problem:
        raise Malformed("a sheet is malformed", why=str(problem)) from None
    return row


def read_toml(text: str, words: Vocabulary | None = None) -> TableRow:
    """TOML of any shape: its keys are labels."""
    try:
        document = tomllib.loads(text)
    except (tomllib.TOMLDecodeError, RecursionError) as problem:
        raise Malformed("a sheet is not TOML", why=str(problem)) from None
    row = TableRow(words=words or shipped())
    _flatten(document, row, 0)
    return row


def _flatten(table: Mapping[str, Any], row: TableRow, depth: int) -> None:
    for key, value in table.items():
        if isinstance(value, Mapping) and depth < 4:
            _flatten(value, row, depth + 1)
        elif isinstance(value, list):
            row.put(key, ", ".join(str(one) for one in value))
        elif isinstance(value, bool):
            row.put(key, "yes" if value else "no")
        else:
            row.put(key, str(value))


def slug_of(text: str) -> str:
    """A profile's name from a title: lower-case ASCII letters, digits and hyphens."""
    return re.sub(r"[^a-z0-9]+", "-", folded(text)).strip("-")[:60].strip("-")


@dataclass(slots=True)
class Drafted:
    profile: Profile | None = None
    credentials: list[Credentials] = field(default_factory=list)
    findings: list[Finding] = field(default_factory=list)


def draft(row: TableRow, origin: str, provider: str = "") -> Drafted:
    """A profile and credentials from a row. Raises :class:`ProfileInvalid` with the field that is wrong."""
    made = Drafted()
    made.findings += [finding("sheet-not-understood", origin, label) for label in dict.fromkeys(row.unknown)]
    if row.passed:
        made.findings.append(finding("sheet-not-needed", origin, ", ".join(dict.fromkeys(row.passed))))
    made.findings += [finding("sheet-guessed", origin, words) for words in dict.fromkeys(row.guessed)]
    made.findings += [finding("sheet-not-taken", origin, words) for words in (*_not_taken(row), *row.loose)]
    if row.prose:
        lines = f"line {row.prose}" if row.prose.isdigit() else f"lines {row.prose}"
        made.findings.append(finding("sheet-prose", origin, lines))
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


def _not_taken(row: TableRow) -> list[str]:
    """What was understood and has no place, in words: no line of a sheet is dropped silently."""
    told = [f"encryption: {value}" for value in row.values.get(Field.ENCRYPTION, [])]
    hosts = _hosts(row)
    if hosts and (name := _named_protocol(row)):
        facet, facts = sheets()[name], _facts(row, hosts)
        for value in row.values.get(Field.PORT, []):
            if any(facet.is_port_unused(part, facts) for part in _parts(value)):
                told.append(f"port {value}")
    stated = row.values.get(Field.TRANSPORT, [])
    told += [f"transport: {value}" for value in stated if not {"udp", "tcp"} & set(_words(value))]
    return told


def _words(value: str) -> list[str]:
    return re.findall(r"[a-z]+", value.casefold())


def _stated_port(row: TableRow) -> int:
    """The first one that stands there; 0 where none does."""
    stated = row.first(Field.PORT)
    return next((int(part) for part in re.findall(r"\d{1,5}", stated) if 0 < int(part) < 65536), 0)


def _parts(value: str) -> list[str]:
    return [part for part in re.split(r"[^0-9a-z]+", value.casefold()) if part and part not in ("udp", "and", "u")]


NOTHING = frozenset({"none", "no", "-", "n/a"})
"""What people write into a field that they leave out."""
SIGN_IN_WORDS = {
    "certificate": re.compile(r"[cz]erti[fv]i[ck]|serti[fv]i[ck]|certyfikat|potrdil|smart ?card"),
    "raw-key": re.compile(r"\braw\b"),
    "shared-key": re.compile(
        r"\bpsk\b|shared|gemeinsam|vorinstalliert|partage|compartid|partilhad|precompartid|condivis|gedeeld|\bdelt\b|"
        r"wspol|wspoldziel|skupn|jagatud"
    ),
    "password": re.compile(
        r"passw|pass ?word|mschap|kennwort|mot de passe|contrasen|palavra|senha|wachtwoord|passord|haslo|geslo|"
        r"parool|parola"
    ),
}
"""How this side signs in, as the sheets' languages say it."""


def _named_protocol(row: TableRow) -> str:
    """The protocol that a sheet names, or means by naming none; empty for one that is not known here."""
    plain = row.first(Field.PROTOCOL).casefold()
    known = sheets()
    if not plain:
        return registry.DEFAULT
    if named := next((name for name, facet in known.items() if facet.named.search(plain)), ""):
        return named
    if _is_retired(plain):
        return ""
    return next((name for name, facet in known.items() if facet.perhaps.search(plain)), "")


def _is_retired(plain: str) -> bool:
    return any(facet.retired.search(plain) for facet in sheets().values())


def _protocol(row: TableRow, origin: str) -> str:
    """The sheet's protocol. Raises :class:`ProfileInvalid` for one that is retired or not known here."""
    if named := _named_protocol(row):
        return named
    wanted = row.first(Field.PROTOCOL)
    slug = "protocol-retired" if _is_retired(wanted.casefold()) else "protocol-unavailable"
    known = ", ".join(name for name, facet in sheets().items() if facet.named is not NEVER)
    raise ProfileInvalid(f"{origin}: protocol", why=f"{wanted!r:.60} is not available; {known} are", slug=slug)


def _facts(row: TableRow, hosts: list[str]) -> SheetFacts:
    """What the protocol's own part needs of a sheet."""
    stated = folded(row.first(Field.SIGN_IN))
    return SheetFacts(
        identity=Identity.of(row.first(Field.IDENTITY) or hosts[0]),
        transports=frozenset(_words(row.first(Field.TRANSPORT))),
        port=_stated_port(row),
        sign_in=next((kind for kind, words in SIGN_IN_WORDS.items() if words.search(stated)), ""),
        account=row.first(Field.ACCOUNT),
        own_identity=row.first(Field.OWN_IDENTITY),
        has_password=bool(row.first(Field.PASSWORD)),
        has_shared_secret=row.first(Field.SHARED_SECRET).casefold() not in {"", *NOTHING},
    )


def _hosts(row: TableRow) -> list[str]:
    """A name first: the gateway's certificate has it, and it stays if an address changes."""
    hosts = [*_list(row, Field.HOST), *_list(row, Field.HOST6)]
    return list(dict.fromkeys(sorted(hosts, key=_is_address)))


def _profile(row: TableRow, origin: str, provider: str) -> Profile:
    protocol = _protocol(row, origin)
    hosts = _hosts(row)
    named = row.first(Field.NAME) or row.first(Field.CITY)
    title = named or place_in_name(hosts[0].partition(".")[0]).city or hosts[0]
    facet, facts = sheets()[protocol], _facts(row, hosts)
    profile = Profile(
        name=slug_of(title) or slug_of(hosts[0]),
        provider=row.first(Field.PROVIDER) or provider,
        country=country_code(row.first(Field.COUNTRY)),
        city=row.first(Field.CITY),
        gateway=Gateway(tuple(hosts)),
        settings=facet.settings(facts),
        edition=row.first(Field.EDITION),
        tunnel=replace(_tunnel(row, origin), protocol=protocol),
        sign_in=facet.sign_in(facts),
        traffic=_traffic(row, origin),
    )
    # The text form's own rules judge what a person has written.
    return read_profile(write_profile(profile), origin)


def _is_address(text: str) -> bool:
    return is_host(text) and HOST_NAME.fullmatch(text) is None


def _list(row: TableRow, which: Field) -> list[str]:
    parts = [part for value in row.values.get(which, []) for part in re.split(r"[,;\s]+", value) if part]
    return [part for part in parts if part.casefold() not in NOTHING]


def _tunnel(row: TableRow, origin: str) -> TunnelSettings:
    text = row.first(Field.MTU)
    if not text:
        return TunnelSettings()
    if not text.isascii() or not text.isdigit() or len(text) > 5:
        raise ProfileInvalid(f"{origin}: MTU", why=f"{text!r:.40} is not a number")
    return TunnelSettings(mtu=int(text))


def _traffic(row: TableRow, origin: str) -> Traffic:
    try:
        servers = tuple(ipaddress.ip_address(one) for one in _list(row, Field.NAME_SERVER))
        networks = tuple(ipaddress.ip_network(network) for network in _networks(row))
        netbios = tuple(ipaddress.ip_address(one) for one in _list(row, Field.NETBIOS))
    except ValueError as problem:
        raise ProfileInvalid(f"{origin}: name servers or networks", why=str(problem)) from None
    everything = _everything(row, origin)
    if everything is False and not networks:
        raise ProfileInvalid(
            f"{origin}: networks",
            why="only the office's traffic is to go through, but its networks are not named",
            next_step="Ask for the office's networks and add a line such as: Networks: 10.20.0.0/16",
            slug="kit-no-networks",
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


def _networks(row: TableRow) -> list[str]:
    """Networks in every usual form: with a prefix length, or with a mask behind them; a split tunnel's as well."""
    values = [*row.values.get(Field.NETWORKS, []), *row.values.get(Field.SPLIT, [])]
    texts = [WITH_MASK.sub(r"\1/\2", value) for value in values]
    parts = [part for text in texts for part in re.split(r"[,;\s]+", text) if part]
    from_split = row.answer(Field.SPLIT) is not None
    return [part for part in parts if part.casefold() not in NOTHING and not (from_split and "." not in part)]


def _everything(row: TableRow, origin: str) -> bool | None:
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
