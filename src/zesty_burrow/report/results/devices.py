"""Devices: where they stand, and what handing over has come to."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any, ClassVar

from zesty_burrow.records import dataclass, field
from zesty_burrow.report.results.base import EXIT_NOT_ALL_FIT, Result

if TYPE_CHECKING:
    from zesty_burrow.fleet.standing import Standing
    from zesty_burrow.store.devices import Device, Rule
    from zesty_burrow.store.fleet.link_store import LinkRow
    from zesty_burrow.use_cases.devices.enrolments import WaitingDevice
    from zesty_burrow.use_cases.devices.request import HandOverRow
    from zesty_burrow.use_cases.devices.rules import CountedRule


def device_document(device: Device) -> dict[str, Any]:
    """A device as plain values."""
    return {
        "name": device.name,
        "kind": device.kind,
        "owner": device.owner,
        "place": device.place,
        "client": device.connects_by,
        "protocols": list(device.protocols),
        "sign_ins": list(device.sign_ins),
        "reach": device.reach,
        "folder": device.folder,
        "tags": list(device.tags),
        "enrolled": bool(device.key),
    }


def standing_document(one: Standing) -> dict[str, Any]:
    """A device with where it stands."""
    last = one.last
    return {
        **device_document(one.device),
        "profile": one.wanted,
        "state": one.state.words,
        "why": one.why,
        "handed_over": {
            "profile": last.profile,
            "form": last.form,
            "at": last.at,
            "state": last.state,
            "cause": last.cause,
            "expires": last.expires,
        }
        if last is not None
        else None,
        "report": {
            "taken_at": one.report.taken_at,
            "verdict": one.report.verdict,
            "profile": one.report.profile,
            "exits": list(one.report.exits),
            "codes": list(one.report.codes),
        }
        if one.report is not None
        else None,
    }


COLUMNS = (
    "name", "kind", "owner", "place", "client", "protocols", "sign_ins", "reach", "folder", "tags", "enrolled",
    "profile", "state", "why", "attention", "verdict", "taken_at", "exits", "codes",
)  # fmt: skip


@dataclass(frozen=True)
class DevicesResult(Result):
    """``devices list``; ``asked``: not all are wanted. ``attention``: by profile, codes of what needs attention."""

    standings: tuple[Standing, ...]
    asked: bool = False
    attention: Mapping[str, str] = field(default_factory=dict)
    shown_by: ClassVar[str] = "devices"
    kind: ClassVar[str] = "devices"

    def content(self) -> dict[str, Any]:
        rows = [(standing_document(one), self.attention.get(one.wanted, "")) for one in self.standings]
        return {"devices": [{**document, "attention": words} for document, words in rows]}

    def table(self) -> tuple[tuple[str, ...], list[dict[str, Any]]]:
        """For CSV: columns, and a row for each device."""
        rows = []
        for row in self.content()["devices"]:
            report = row["report"] or {}
            told = {key: report.get(key) for key in ("verdict", "taken_at", "exits", "codes")}
            rows.append({**row, **told})
        return COLUMNS, rows


@dataclass(frozen=True)
class DeviceResult(Result):
    """``devices show``: one, the rule that is followed for it, and why its client cannot use the profile."""

    standing: Standing
    rule: Rule | None
    misfits: tuple[str, ...]
    nearest: str
    code: str
    shown_by: ClassVar[str] = "devices"
    kind: ClassVar[str] = "device"

    def content(self) -> dict[str, Any]:
        rule = {"number": self.rule.number, **self.rule.conditions} if self.rule is not None else None
        fit = {"misfits": list(self.misfits), "nearest": self.nearest, "code": self.code}
        return {"device": standing_document(self.standing), "rule": rule, **fit}


@dataclass(frozen=True)
class RulesResult(Result):
    """``devices rules``; with how many devices follow each."""

    rules: tuple[CountedRule, ...]
    shown_by: ClassVar[str] = "devices"
    kind: ClassVar[str] = "device rules"

    def content(self) -> dict[str, Any]:
        rows = [
            {
                "number": counted.rule.number,
                "profile": counted.rule.profile,
                "conditions": counted.rule.conditions,
                "devices": counted.devices,
            }
            for counted in self.rules
        ]
        return {"rules": rows}


@dataclass(frozen=True)
class HandOverResult(Result):
    """``hand-over``; ``left``: how many devices had nothing left to do; ``dry``: nothing was sent.

    ``code``: of the only link, drawn for a terminal.
    """

    rows: tuple[HandOverRow, ...]
    left: int
    dry: bool = False
    code: str = ""
    shown_by: ClassVar[str] = "devices"
    kind: ClassVar[str] = "hand-over"

    @property
    def exit_code(self) -> int:
        return EXIT_NOT_ALL_FIT if any(row.cause for row in self.rows) else 0

    def content(self) -> dict[str, Any]:
        rows = [
            {
                key: getattr(row, key)
                for key in ("device", "profile", "form", "state", "cause", "detail", "remedy", "to")
            }
            | {"changes": list(row.changes)}
            for row in self.rows
        ]
        return {"dry_run": self.dry, "nothing_to_do": self.left, "devices": rows}


@dataclass(frozen=True)
class EnrolmentsResult(Result):
    """``devices enrolments``: each with its code."""

    enrolments: tuple[WaitingDevice, ...]
    shown_by: ClassVar[str] = "devices"
    kind: ClassVar[str] = "enrolments"

    def content(self) -> dict[str, Any]:
        rows = [
            {"name": who.enrolment.name, "kind": who.enrolment.kind, "at": who.enrolment.at, "code": who.code}
            for who in self.enrolments
        ]
        return {"enrolments": rows}


@dataclass(frozen=True)
class LinksResult(Result):
    """``links list``; ``now``: when it was asked for (RFC 3339)."""

    links: tuple[LinkRow, ...]
    now: str
    shown_by: ClassVar[str] = "devices"
    kind: ClassVar[str] = "links"


@dataclass(frozen=True)
class KeyResult(Result):
    """A public key as a line, with the code by which people compare it.

    ``accepted``: codes of administrators; ``folder``: where a device takes what is sent to it.
    """

    role: str
    name: str
    key: str
    code: str
    accepted: tuple[str, ...] = ()
    folder: str = ""
    shown_by: ClassVar[str] = "devices"
    kind: ClassVar[str] = "key"


@dataclass(frozen=True)
class ReportResult(Result):
    """``report``, on a device: the verdict, how many reports were sent, and how many wait; ``why`` they do."""

    verdict: str
    sent: int
    waiting: int
    why: str = ""
    shown_by: ClassVar[str] = "devices"
    kind: ClassVar[str] = "report"


@dataclass(frozen=True)
class ReceiptResult(Result):
    """``receive``, on a device: what has become of a bundle. ``administrator``: the code of whose it is."""

    state: str
    number: int
    administrator: str
    profiles: tuple[str, ...]
    credentials: tuple[str, ...]
    detail: str = ""
    shown_by: ClassVar[str] = "devices"
    kind: ClassVar[str] = "receipt"
