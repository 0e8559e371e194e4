"""How the list of devices was before a change: devices, rules, and what is known of handing over and of reports.

What a device holds is not changed by it: links and bundles that were withdrawn stay withdrawn.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from zesty_burrow.records import dataclass, field, fields
from zesty_burrow.store.database import Transaction, in_parts, placeholders
from zesty_burrow.store.devices import Device, Handover, Report, Rule

DEVICE = tuple(one.name for one in fields(Device))
RULE = tuple(one.name for one in fields(Rule))
KNOWN = {
    "handovers": tuple(one.name for one in fields(Handover)),
    "reports": tuple(one.name for one in fields(Report)),
}
"""What is known of a device, one row of each; by table."""
GOES_ALONG = ("pickups", "links", "device_rules", *KNOWN)
"""Tables whose rows go with their device."""
KEY, NUMBER = DEVICE.index("key"), DEVICE.index("number")
Row = list[Any]
Document = dict[str, list[Any]]
"""``devices``, ``rules``: name or number, row before, row after (None: no row); ``known``: table, row."""


def delete_devices(transaction: Transaction, names: Sequence[str]) -> None:
    """Devices, with the rules that were theirs alone and what is known of handing over."""
    for some in in_parts(names):
        marks = placeholders(some)
        transaction.execute(f"DELETE FROM devices WHERE name IN ({marks})", *some)  # noqa: S608
        for table in GOES_ALONG:
            transaction.execute(f"DELETE FROM {table} WHERE device IN ({marks})", *some)  # noqa: S608


@dataclass(slots=True)
class DeviceRows:
    """Of some devices, and all rules, at one time. ``known``: by table and name."""

    devices: dict[str, Row] = field(default_factory=dict)
    rules: dict[int, Row] = field(default_factory=dict)
    known: dict[tuple[str, str], Row] = field(default_factory=dict)

    @classmethod
    def now(cls, transaction: Transaction, names: Sequence[str]) -> DeviceRows:
        rows = cls()
        for some in in_parts(names):
            marks = placeholders(some)
            query = f"SELECT {', '.join(DEVICE)} FROM devices WHERE name IN ({marks})"  # noqa: S608
            rows.devices.update((row[0], list(row)) for row in transaction.execute(query, *some))
            for table, columns in KNOWN.items():
                query = f"SELECT {', '.join(columns)} FROM {table} WHERE device IN ({marks})"  # noqa: S608
                rows.known.update(((table, row[0]), list(row)) for row in transaction.execute(query, *some))
        query = f"SELECT {', '.join(RULE)} FROM device_rules"  # noqa: S608
        rows.rules = {row[0]: list(row) for row in transaction.execute(query)}
        return rows

    def until(self, after: DeviceRows) -> Document:
        """What is different afterwards; nothing where all is the same."""
        devices = [
            [name, self.devices.get(name), after.devices.get(name)]
            for name in dict.fromkeys((*self.devices, *after.devices))
            if self.devices.get(name) != after.devices.get(name)
        ]
        rules = [
            [number, self.rules.get(number), after.rules.get(number)]
            for number in dict.fromkeys((*self.rules, *after.rules))
            if self.rules.get(number) != after.rules.get(number)
        ]
        known = [[table, row] for (table, name), row in self.known.items() if (table, name) not in after.known]
        document: Document = {"devices": devices, "rules": rules, "known": known}
        return document if any(document.values()) else {}


def names_in(document: Mapping[str, list[Any]]) -> list[str]:
    """The devices that a change has touched."""
    return [name for name, _, _ in document.get("devices", ())]


def rules_in(document: Mapping[str, list[Any]]) -> list[str]:
    return [f"rule {number}" for number, _, _ in document.get("rules", ())]


def touched_since(transaction: Transaction, document: Mapping[str, list[Any]]) -> list[str]:
    """What of a change was changed again; a device's key or its handed-over state does not count."""
    now = DeviceRows.now(transaction, names_in(document))
    found = [
        name
        for name, before, after in document.get("devices", ())
        if _essence(now.devices.get(name), before, after) != _essence(after, before, after)
    ]
    return found + [
        f"rule {number}" for number, _, after in document.get("rules", ()) if now.rules.get(number) != after
    ]


def _essence(row: Row | None, before: Row | None, after: Row | None) -> Row | None:
    """A device's row without what comes to it by itself: the number, and the key unless the change was one of it."""
    if row is None:
        return None
    about_key = before is not None and after is not None and before[KEY] != after[KEY]
    return [value for at, value in enumerate(row) if at != NUMBER and (at != KEY or about_key)]


def put_back(transaction: Transaction, document: Mapping[str, list[Any]]) -> None:
    """Everything that a change has touched as it was before."""
    devices, rules = document.get("devices", ()), document.get("rules", ())
    now = DeviceRows.now(transaction, names_in(document))
    delete_devices(transaction, [name for name, before, _ in devices if before is None])
    for name, before, after in devices:
        if before is None:
            continue
        row, present = list(before), now.devices.get(name)
        if present is not None:
            row[NUMBER] = present[NUMBER]
            row[KEY] = before[KEY] if after is not None and before[KEY] != after[KEY] else present[KEY]
            if row[KEY] != present[KEY]:
                # Another key counts its reports by itself.
                transaction.execute("DELETE FROM reports WHERE device = ?", name)
                now.known.pop(("reports", name), None)
        transaction.execute("DELETE FROM devices WHERE name = ?", name)
        _insert(transaction, "devices", DEVICE, row)
    for number, before, _ in rules:
        transaction.execute("DELETE FROM device_rules WHERE number = ?", number)
        if before is not None:
            _insert(transaction, "device_rules", RULE, before)
    for table, row in document.get("known", ()):
        if (table, row[0]) not in now.known:
            _insert(transaction, table, KNOWN[table], row)


def _insert(transaction: Transaction, table: str, columns: Sequence[str], row: Row) -> None:
    insert = f"INSERT INTO {table} ({', '.join(columns)}) VALUES ({placeholders(columns)})"  # noqa: S608
    transaction.execute(insert, *row)
