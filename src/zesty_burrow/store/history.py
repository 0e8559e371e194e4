"""What was changed in a store, and how it was before: a change can be taken back where nothing has come after it.

Secrets stay sealed in here as they were. What a change has removed or replaced is kept for 30 days; of changes that
have removed nothing the last ten are kept.
"""

from __future__ import annotations

import base64
import hashlib
import json
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from datetime import UTC, datetime, timedelta
from typing import Any

from zesty_burrow.errors import Clash
from zesty_burrow.records import dataclass
from zesty_burrow.store.database import Transaction, in_parts, placeholders
from zesty_burrow.store.fleet import device_history
from zesty_burrow.store.fleet.device_history import DeviceRows

KEPT_DAYS = 30
KEPT_CHANGES = 10
MOST_NAMES = 2
TIME = "%Y-%m-%dT%H:%M:%SZ"
PROFILE = (
    "name", "provider", "country", "city", "protocol", "digest", "text", "tags", "origin", "imported_at",
    "label", "needs", "lacks",
)  # fmt: skip
SCOPE = ("label", "device", "profile", "kind")
SEALED = ("sealed", "origin", "imported_at", "worked_at", "domain")
ProfileRows = dict[str, list[str]]
SealedRows = dict[tuple[str, ...], list[str]]


@dataclass(frozen=True, slots=True)
class ChangeRow:
    """A change as a list shows it: its number, when (RFC 3339), what, and how much it has touched.

    ``who``: user and device, empty where it is not known. ``undone``: it was taken back. ``names``: the profiles;
    ``scopes``: whose credentials; ``devices``: with rules.
    """

    number: int
    made_at: str
    what: str
    undone: bool
    names: tuple[str, ...]
    scopes: tuple[str, ...]
    devices: tuple[str, ...]
    who: str = ""


def described(verb: str, names: Sequence[str], many: str = "profiles") -> str:
    """A change in a few words: what was done, to which profiles; ``many``: what they are called where only counted."""
    return f"{verb} {', '.join(names)}" if len(names) <= MOST_NAMES else f"{verb} {len(names)} {many}"


def profiles_now(transaction: Transaction, names: Sequence[str]) -> ProfileRows:
    """Whole rows by their names."""
    rows: ProfileRows = {}
    for some in in_parts(names):
        query = f"SELECT {', '.join(PROFILE)} FROM profiles WHERE name IN ({placeholders(some)})"  # noqa: S608
        rows.update((row[0], list(row)) for row in transaction.execute(query, *some))
    return rows


def _marks(transaction: Transaction, names: Sequence[str]) -> dict[str, list[str]]:
    """By what a profile that was changed since is known."""
    found: dict[str, list[str]] = {}
    for some in in_parts(names):
        query = f"SELECT name, digest, tags FROM profiles WHERE name IN ({placeholders(some)})"  # noqa: S608
        found.update((name, [digest, tags]) for name, digest, tags in transaction.execute(query, *some))
    return found


def credentials_now(transaction: Transaction) -> SealedRows:
    """All rows by whom they are for; what is sealed in base64."""
    rows = transaction.execute(f"SELECT {', '.join((*SCOPE, *SEALED))} FROM credentials")  # noqa: S608
    return {row[:4]: [base64.b64encode(bytes(row[4])).decode(), *row[5:]] for row in rows}


def mark_of(sealed: bytes) -> str:
    """By what credentials that were changed since are known."""
    return hashlib.sha256(sealed).hexdigest()[:32]


def _mark(row: Sequence[str] | None) -> str | None:
    return mark_of(base64.b64decode(row[0])) if row else None


@dataclass(slots=True)
class Recording:
    """One change while it is made. ``names``: the profiles that it may touch; ``devices``: those of the list, or None
    where it touches none and no rules.
    """

    names: Sequence[str]
    profiles: ProfileRows
    credentials: SealedRows
    devices: Sequence[str] | None
    listed: DeviceRows

    @classmethod
    def begin(cls, transaction: Transaction, names: Iterable[str], devices: Sequence[str] | None = None) -> Recording:
        wanted = list(dict.fromkeys(names))
        listed = DeviceRows() if devices is None else DeviceRows.now(transaction, devices)
        return cls(wanted, profiles_now(transaction, wanted), credentials_now(transaction), devices, listed)

    def end(self, transaction: Transaction, now: str, what: str, who: str) -> None:
        """Record what is different, and delete what is too old."""
        marks = _marks(transaction, self.names)
        profiles = [
            [name, row, marks.get(name)]
            for name in self.names
            if (row := self.profiles.get(name)) is None or [row[5], row[7]] != marks.get(name) or row[0] != name
        ]
        profiles = [entry for entry in profiles if entry[1] is not None or entry[2] is not None]
        after = credentials_now(transaction)
        credentials = [
            [list(key), self.credentials.get(key), _mark(after.get(key))]
            for key in dict.fromkeys((*self.credentials, *after))
            if _mark(self.credentials.get(key)) != _mark(after.get(key))
        ]
        listed = {} if self.devices is None else self.listed.until(DeviceRows.now(transaction, self.devices))
        if not profiles and not credentials and not listed:
            return
        every = (*profiles, *credentials, *listed.get("devices", ()), *listed.get("rules", ()))
        removes = any(entry[1] is not None for entry in every)
        document = json.dumps({"profiles": profiles, "credentials": credentials, **listed}, separators=(",", ":"))
        insert = "INSERT INTO changes (made_at, what, removes, document, who) VALUES (?, ?, ?, ?, ?)"
        transaction.execute(insert, now, what[:200], int(removes), document, who[:200])
        forget_old(transaction, now)


def forget_old(transaction: Transaction, now: str) -> None:
    """What has removed something, after 30 days; of the rest all but the last ten."""
    limit = (datetime.strptime(now, TIME).replace(tzinfo=UTC) - timedelta(days=KEPT_DAYS)).strftime(TIME)
    transaction.execute("DELETE FROM changes WHERE removes = 1 AND made_at < ?", limit)
    rows = transaction.execute("SELECT number FROM changes WHERE removes = 0 ORDER BY number DESC")
    for (number,) in rows[KEPT_CHANGES:]:
        transaction.execute("DELETE FROM changes WHERE number = ?", number)


def list_changes(transaction: Transaction) -> list[ChangeRow]:
    """The newest first."""
    rows = transaction.execute("SELECT number, made_at, what, undone, document, who FROM changes ORDER BY number DESC")
    found = []
    for number, made_at, what, undone, text, who in rows:
        document = json.loads(text)
        names = tuple(entry[0] for entry in document["profiles"])
        scopes = tuple(dict.fromkeys(key[2] or key[0] for key, _, _ in document["credentials"]))
        devices = (*device_history.names_in(document), *device_history.rules_in(document))
        found.append(ChangeRow(number, made_at, what, bool(undone), names, scopes, devices, str(who)))
    return found


def texts_of(transaction: Transaction, digests: Collection[str]) -> dict[str, str]:
    """Profiles' texts by the digest of their content: what there is now, and what the changes have kept."""
    found: dict[str, str] = {}
    for some in in_parts(list(digests)):
        query = f"SELECT digest, text FROM profiles WHERE digest IN ({placeholders(some)})"  # noqa: S608
        found.update((digest, text) for digest, text in transaction.execute(query, *some))
    if len(found) < len(digests):
        for (document,) in transaction.execute("SELECT document FROM changes"):
            rows = (row for _, row, _ in json.loads(document)["profiles"] if row is not None)
            found.update((row[5], row[6]) for row in rows if row[5] in digests)
    return found


def names_in(transaction: Transaction, number: int) -> tuple[list[str], list[str] | None]:
    """The profiles that a change has touched; the devices, or None where it has touched none and no rules."""
    rows = transaction.execute("SELECT document FROM changes WHERE number = ?", number)
    document = json.loads(rows[0][0]) if rows else {"profiles": []}
    devices = device_history.names_in(document) if "devices" in document else None
    return [entry[0] for entry in document["profiles"]], devices


def take_back(transaction: Transaction, number: int, what: str) -> None:
    """Everything that a change has touched as it was before. :class:`Clash` where it was changed again since."""
    document = json.loads(transaction.execute("SELECT document FROM changes WHERE number = ?", number)[0][0])
    names = [entry[0] for entry in document["profiles"]]
    marks, sealed = _marks(transaction, names), credentials_now(transaction)
    touched = [name for name, _, after in document["profiles"] if marks.get(name) != after]
    touched += [key[2] or key[0] for key, _, after in document["credentials"] if _mark(sealed.get(tuple(key))) != after]
    touched += device_history.touched_since(transaction, document)
    if touched:
        raise Clash(
            f"{what} cannot be taken back",
            why=f"{', '.join(dict.fromkeys(touched[:3]))} was changed again since",
            next_step="Take the later changes back first: zesty undo --list shows them.",
        )
    for some in in_parts(names):
        transaction.execute(f"DELETE FROM profiles WHERE name IN ({placeholders(some)})", *some)  # noqa: S608
    rows = [row for _, row, _ in document["profiles"] if row is not None]
    insert = f"INSERT INTO profiles ({', '.join(PROFILE)}) VALUES ({placeholders(PROFILE)})"  # noqa: S608
    transaction.execute_many(insert, rows)
    same = " AND ".join(f"{name} = ?" for name in SCOPE)
    columns = (*SCOPE, *SEALED)
    for key, row, _ in document["credentials"]:
        transaction.execute(f"DELETE FROM credentials WHERE {same}", *key)  # noqa: S608
        if row is not None:
            insert = f"INSERT INTO credentials ({', '.join(columns)}) VALUES ({placeholders(columns)})"  # noqa: S608
            transaction.execute(insert, *key, base64.b64decode(row[0]), *row[1:])
    device_history.put_back(transaction, document)
    transaction.execute("UPDATE changes SET undone = 1 WHERE number = ?", number)


def forget_for_good(transaction: Transaction, names: Collection[str], scopes: Collection[tuple[str, ...]]) -> None:
    """What is kept of profiles and credentials that are gone for good."""

    def without(document: Mapping[str, list[list[Any]]]) -> dict[str, list[list[Any]]]:
        return {
            **document,
            "profiles": [entry for entry in document["profiles"] if entry[0] not in names],
            "credentials": [entry for entry in document["credentials"] if tuple(entry[0]) not in scopes],
        }

    _rewrite(transaction, without)


def holds_secrets(transaction: Transaction) -> bool:
    """Whether anything sealed is kept of changes."""
    rows = transaction.execute("SELECT document FROM changes")
    return any(row for (text,) in rows for _, row, _ in json.loads(text)["credentials"])


def seal_again(
    transaction: Transaction, again: Callable[[tuple[str, ...], bytes], bytes], renewed: Mapping[str, str]
) -> None:
    """``again``: what is sealed for a scope and kind, under the new key; ``renewed``: marks of what is kept now."""

    def sealed(document: Mapping[str, list[list[Any]]]) -> dict[str, list[list[Any]]]:
        rows = []
        for key, row, after in document["credentials"]:
            octets = base64.b64encode(again(tuple(key), base64.b64decode(row[0]))).decode() if row else ""
            rows.append([key, [octets, *row[1:]] if row else None, renewed.get(after, after)])
        return {**document, "credentials": rows}

    _rewrite(transaction, sealed)


def _rewrite(
    transaction: Transaction, change: Callable[[Mapping[str, list[list[Any]]]], dict[str, list[list[Any]]]]
) -> None:
    for number, text in transaction.execute("SELECT number, document FROM changes"):
        document = change(json.loads(text))
        if any(document.values()):
            words = json.dumps(document, separators=(",", ":"))
            transaction.execute("UPDATE changes SET document = ? WHERE number = ?", words, number)
        else:
            transaction.execute("DELETE FROM changes WHERE number = ?", number)
