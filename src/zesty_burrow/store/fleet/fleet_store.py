"""Devices, rules and handovers; this machine's own keys; and, on a device, whose profiles its owner accepts."""

from __future__ import annotations

import json
from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager
from typing import TYPE_CHECKING

from zesty_burrow.errors import NotFound
from zesty_burrow.records import astuple, dataclass, fields
from zesty_burrow.store.database import Database, Transaction, placeholders
from zesty_burrow.store.devices import LISTS, Device, Handover, Report, Rule
from zesty_burrow.store.fleet.device_history import DEVICE, KNOWN, delete_devices
from zesty_burrow.store.fleet.device_history import RULE as RULE_ROW
from zesty_burrow.store.fleet.enrolment_store import EnrolmentStore
from zesty_burrow.store.fleet.link_store import LinkStore
from zesty_burrow.store.history import Recording, described, texts_of

if TYPE_CHECKING:
    from zesty_burrow.store.seal import Seal

RULE = RULE_ROW[1:]
HANDOVER, REPORT = KNOWN["handovers"], KNOWN["reports"]


@dataclass(frozen=True, slots=True)
class Administrator:
    """On a device: somebody who sends profiles. ``accepted_at``: since when the owner takes them unasked, or empty.

    ``key``: the public one, as text; ``number``: of the newest bundle that came; ``received``: the profiles in it.
    ``report_to``: a URL, and the authority (PEM) of its server where it is not one of the system's; ``reports``: how
    many were made.
    """

    key: str
    name: str = ""
    accepted_at: str = ""
    number: int = 0
    received: tuple[str, ...] = ()
    report_to: str = ""
    report_authority: str = ""
    reports: int = 0


ADMINISTRATOR = tuple(field.name for field in fields(Administrator))


class FleetStore:
    """A store's calls for devices. ``seal``: the store's; ``note_proof``: told that something is sealed with it;
    ``now``: the time (RFC 3339); ``who``: who changes something.
    """

    def __init__(
        self,
        database: Database,
        seal: Callable[[], Seal],
        note_proof: Callable[[Transaction, Seal], None],
        now: Callable[[], str],
        who: Callable[[], str] = lambda: "",
    ) -> None:
        self._database, self._seal, self._note_proof, self._now, self._who = database, seal, note_proof, now, who

    def _reading(self) -> AbstractContextManager[Transaction]:
        return self._database.transaction()

    def _writing(self) -> AbstractContextManager[Transaction]:
        return self._database.transaction(write=True)

    @contextmanager
    def _changing(self, what: str, devices: Sequence[str]) -> Iterator[Transaction]:
        """A change that can be taken back, of these devices and of rules; ``what``: in words."""
        with self._writing() as transaction:
            recording = Recording.begin(transaction, (), devices)
            yield transaction
            recording.end(transaction, self._now(), what, self._who())

    @property
    def links(self) -> LinkStore:
        return LinkStore(self._database)

    @property
    def enrolments(self) -> EnrolmentStore:
        """Devices that want to be in the list, and what waits for those that fetch it."""
        return EnrolmentStore(self._database)

    # Devices.

    def list_devices(self, words: Sequence[str] = (), **where: str) -> list[Device]:
        """Devices by name; ``words`` and ``where`` as for :meth:`Device.matches`."""
        with self._reading() as transaction:
            rows = transaction.execute(f"SELECT {', '.join(DEVICE)} FROM devices")  # noqa: S608
        found = map(_device, rows)
        chosen = (one for one in found if one.matches(words, **where)) if words or where else found
        return sorted(chosen, key=lambda one: one.name)

    def find_device(self, name: str) -> Device:
        """One by its name; :class:`NotFound` otherwise."""
        with self._reading() as transaction:
            query = f"SELECT {', '.join(DEVICE)} FROM devices WHERE name = ?"  # noqa: S608
            rows = transaction.execute(query, name)
        if not rows:
            missing = NotFound(f"there is no device {name!r}", next_step="See `zesty devices list`.")
            raise missing.meaning(name, [device.name for device in self.list_devices()])
        return _device(rows[0])

    def name_of_key(self, key: str) -> str | None:
        """Whose public key it is; None where nobody has it."""
        with self._reading() as transaction:
            rows = transaction.execute("SELECT name FROM devices WHERE key = ?", key)
        return rows[0][0] if rows else None

    def put_devices(self, fresh: Iterable[Device], changed: Iterable[Device] = ()) -> None:
        """Add new ones and change others, all or none; :class:`Clash` where one of a new one's name is there."""
        insert = f"INSERT INTO devices ({', '.join(DEVICE)}) VALUES ({placeholders(DEVICE)})"  # noqa: S608
        rows, others = [_row(one) for one in fresh], list(changed)
        names = [str(row[0]) for row in rows] + [other.name for other in others]
        what = described("change" if not rows else "import" if others else "add", names, "devices")
        with self._changing(f"devices: {what}", names) as transaction:
            if rows:
                transaction.execute_many(insert, rows)
            _change(transaction, others)

    def note_key(self, name: str, key: str) -> None:
        """A device's own statements; undo does not change them."""
        with self._writing() as transaction:
            transaction.execute("UPDATE devices SET key = ? WHERE name = ?", key, name)

    def remove_devices(self, names: Sequence[str]) -> None:
        """Remove devices, with the rules that were theirs alone and what is known of handing over."""
        with self._changing(f"devices: {described('remove', names, 'devices')}", names) as transaction:
            delete_devices(transaction, names)

    def next_number(self, name: str, least: int) -> int:
        """The number of the next bundle for a device: higher than those of all before.

        ``least``: from the clock, so that it is higher than before also for a device that was removed meanwhile.
        """
        with self._writing() as transaction:
            change = "UPDATE devices SET number = CASE WHEN number < ? THEN ? ELSE number + 1 END WHERE name = ?"
            transaction.execute(change, least, least, name)
            rows = transaction.execute("SELECT number FROM devices WHERE name = ?", name)
        if not rows:
            raise NotFound(f"there is no device {name!r}", next_step="See `zesty devices list`.")
        return int(rows[0][0])

    def texts_of(self, digests: Collection[str]) -> dict[str, str]:
        """Texts of profiles that were handed over, by digest, as far as they are kept: 30 days after a change."""
        with self._reading() as transaction:
            return texts_of(transaction, digests)

    # Rules.

    def list_rules(self) -> list[Rule]:
        """In the order in which they were made."""
        with self._reading() as transaction:
            query = f"SELECT number, {', '.join(RULE)} FROM device_rules ORDER BY number"  # noqa: S608
            return [Rule(*row) for row in transaction.execute(query)]

    def add_rule(self, rule: Rule) -> None:
        """Add one; one with the same conditions goes."""
        values = astuple(rule)[1:]
        same = " AND ".join(f"{column} = ?" for column in RULE[1:])
        with self._changing(f"devices: assign {rule.profile}", ()) as transaction:
            transaction.execute(f"DELETE FROM device_rules WHERE {same}", *values[1:])  # noqa: S608
            insert = f"INSERT INTO device_rules ({', '.join(RULE)}) VALUES ({placeholders(RULE)})"  # noqa: S608
            transaction.execute(insert, *values)

    def remove_rule(self, number: int) -> None:
        """The rule with a number. Raises :class:`NotFound`."""
        with self._changing(f"devices: unassign {number}", ()) as transaction:
            if not transaction.change("DELETE FROM device_rules WHERE number = ?", number):
                raise NotFound(f"there is no rule {number}", next_step="See `zesty devices rules`.")

    # Handing over.

    def handovers(self) -> dict[str, Handover]:
        """The last one of each device, by its name."""
        with self._reading() as transaction:
            rows = transaction.execute(f"SELECT {', '.join(HANDOVER)} FROM handovers")  # noqa: S608
        return {row[0]: Handover(*row) for row in rows}

    def note_handover(self, made: Handover) -> None:
        change = ", ".join(f"{column} = excluded.{column}" for column in HANDOVER[1:])
        insert = f"INSERT INTO handovers ({', '.join(HANDOVER)}) VALUES ({placeholders(HANDOVER)}) "  # noqa: S608
        with self._writing() as transaction:
            transaction.execute(f"{insert}ON CONFLICT (device) DO UPDATE SET {change}", *astuple(made))

    # Keys of this machine.

    def own_key(self, name: str, make: Callable[[], bytes]) -> bytes:
        """A secret of this machine's by name; made at first use."""
        seal = self._seal()
        with self._writing() as transaction:
            rows = transaction.execute("SELECT sealed FROM own_keys WHERE name = ?", name)
            if rows:
                return seal.open(bytes(rows[0][0]), subject_of(name))
            made = make()
            self._note_proof(transaction, seal)
            insert = "INSERT INTO own_keys (name, sealed) VALUES (?, ?)"
            transaction.execute(insert, name, seal.seal(made, subject_of(name)))
            return made

    # On a device.

    def administrators(self) -> list[Administrator]:
        """Everybody from whom something came or may come."""
        with self._reading() as transaction:
            rows = transaction.execute(f"SELECT {', '.join(ADMINISTRATOR)} FROM administrators")  # noqa: S608
        found = [dict(zip(ADMINISTRATOR, row, strict=True)) for row in rows]
        return [Administrator(**{**row, "received": tuple(json.loads(row["received"]))}) for row in found]

    def note_administrator(self, administrator: Administrator) -> None:
        values = [getattr(administrator, name) for name in ADMINISTRATOR]
        values[ADMINISTRATOR.index("received")] = json.dumps(list(administrator.received))
        change = ", ".join(f"{column} = excluded.{column}" for column in ADMINISTRATOR[1:])
        insert = f"INSERT INTO administrators ({', '.join(ADMINISTRATOR)}) VALUES ({placeholders(ADMINISTRATOR)}) "  # noqa: S608
        with self._writing() as transaction:
            transaction.execute(f"{insert}ON CONFLICT (key) DO UPDATE SET {change}", *values)

    # Reports.

    def reports(self) -> dict[str, Report]:
        """The newest of each device, by its name."""
        with self._reading() as transaction:
            rows = transaction.execute(f"SELECT {', '.join(REPORT)} FROM reports")  # noqa: S608
        found = [dict(zip(REPORT, row, strict=True)) for row in rows]
        lists = ("exits", "codes")
        return {
            row["device"]: Report(**{**row, **{key: tuple(json.loads(row[key])) for key in lists}}) for row in found
        }

    def note_report(self, report: Report) -> bool:
        """Replaces an older one. False if it, or a newer one, is stored already."""
        values = (*astuple(report)[:6], json.dumps(list(report.exits)), json.dumps(list(report.codes)))
        change = ", ".join(f"{column} = excluded.{column}" for column in REPORT[1:])
        insert = f"INSERT INTO reports ({', '.join(REPORT)}) VALUES ({placeholders(REPORT)}) "  # noqa: S608
        newer = f"ON CONFLICT (device) DO UPDATE SET {change} WHERE excluded.number > reports.number"
        with self._writing() as transaction:
            return transaction.change(f"{insert}{newer}", *values) > 0


def subject_of(name: str) -> str:
    """What a seal binds a key of this machine to."""
    return f"own key/{name}"


def seal_keys_again(transaction: Transaction, again: Callable[[str, bytes], bytes]) -> int:
    """``again``: what is sealed for a subject, under the new key. How many there are."""
    rows = transaction.execute("SELECT name, sealed FROM own_keys")
    for name, sealed in rows:
        fresh = again(subject_of(name), bytes(sealed))
        transaction.execute("UPDATE own_keys SET sealed = ? WHERE name = ?", fresh, name)
    return len(rows)


def _row(device: Device) -> tuple[object, ...]:
    values = (getattr(device, column) for column in DEVICE)
    return tuple(" ".join(value) if isinstance(value, tuple) else value for value in values)


def _change(transaction: Transaction, others: Sequence[Device]) -> None:
    """A device with another key counts its reports afresh."""
    if others:
        keys = [(other.name, other.key) for other in others]
        stale = "DELETE FROM reports WHERE device IN (SELECT name FROM devices WHERE name = ? AND key <> ?)"
        transaction.execute_many(stale, keys)
        change = ", ".join(f"{column} = ?" for column in DEVICE)
        rows = [(*_row(other), other.name) for other in others]
        transaction.execute_many(f"UPDATE devices SET {change} WHERE name = ?", rows)  # noqa: S608


_LISTS_AT = tuple(DEVICE.index(column) for column in LISTS)


def _device(row: Sequence[object]) -> Device:
    values = list(row)
    for at in _LISTS_AT:
        values[at] = tuple(str(values[at]).split())
    return Device(*values)  # type: ignore[arg-type]
