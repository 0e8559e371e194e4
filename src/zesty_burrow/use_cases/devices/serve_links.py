"""One-time links: serve their page, take what devices report, and see how far owners have got."""

from __future__ import annotations

import asyncio
import json
import re
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any

from zesty_burrow.errors import BurrowError, NotFound, UsageError
from zesty_burrow.fleet.links.link import earlier
from zesty_burrow.fleet.standing import TIME
from zesty_burrow.records import dataclass, replace
from zesty_burrow.store.devices import CONFIRMED, FAILED, HANDED
from zesty_burrow.use_cases.workspace import Workspace

if TYPE_CHECKING:
    from zesty_burrow.core.profile import Profile
    from zesty_burrow.fleet.links.server import CheckPages
    from zesty_burrow.store.fleet.link_store import LinkRow
    from zesty_burrow.store.store import Store

HOST = re.compile(r"[A-Za-z0-9]([A-Za-z0-9.-]{0,250}[A-Za-z0-9])?")
TIDY_SECONDS = 60
"""After so long what is behind expired links is removed."""


@dataclass(frozen=True, slots=True)
class ServeRequest:
    """``addresses`` of this machine; ``certificate`` and its ``key``: PEM files. ``observatory``: the host that check
    pages ask by HTTPS; empty: no check pages.
    """

    addresses: tuple[str, ...]
    certificate: Path
    key: Path
    port: int = 443
    observatory: str = ""


@dataclass(frozen=True, slots=True)
class ListedLinks:
    """``now``: when the list was made (RFC 3339)."""

    links: tuple[LinkRow, ...]
    now: str


def list_links(workspace: Workspace) -> ListedLinks:
    """Links, and how far their owners have got; what is behind expired ones is removed."""
    now = _time(workspace)
    with workspace.store() as store:
        store.fleet.links.forget_old(now, earlier(now))
        return ListedLinks(tuple(store.fleet.links.list_links()), now)


def withdraw_link(device: str, workspace: Workspace) -> None:
    """Make a device's link useless. Raises :class:`NotFound`."""
    with workspace.store() as store:
        store.fleet.links.withdraw(device)


async def serve_links(request: ServeRequest, workspace: Workspace, stop: asyncio.Event) -> None:
    """Answer until ``stop`` is set.

    Raises :class:`UsageError`, :class:`MachineError` if an address cannot be listened on, :class:`ExtraMissing`.
    """
    if not 0 <= request.port <= 65535:
        raise UsageError(f"--port {request.port} is not between 0 and 65535")
    if request.observatory and not HOST.fullmatch(request.observatory):
        raise UsageError(f"--observatory {request.observatory!r:.80} is no host's name")
    from zesty_burrow.fleet.links.server import LinkServer
    from zesty_burrow.observe.observatory.tls import Certificate

    with workspace.store() as store:
        events = _Events(workspace, store)
        certificate = Certificate(request.certificate, request.key)
        check: CheckPages | None = _Check(request.observatory, workspace, store) if request.observatory else None
        links = store.fleet.links
        server = LinkServer(links, store.fleet.enrolments, certificate, lambda: _time(workspace), events, check)
        await server.start(list(request.addresses), request.port)
        where = f"{', '.join(request.addresses)}, port {server.port}"
        workspace.interaction.note(f"Serving links on {where}. Ctrl-C ends it.")
        try:
            while not stop.is_set():
                with suppress(TimeoutError):
                    await asyncio.wait_for(stop.wait(), TIDY_SECONDS)
                with suppress(BurrowError):
                    links.forget_old(_time(workspace), earlier(_time(workspace)))
        finally:
            await server.stop()


def _time(workspace: Workspace) -> str:
    return workspace.now().strftime(TIME)


def _say(workspace: Workspace, text: str) -> None:
    """If nobody reads the output any more, the server goes on."""
    with suppress(OSError):
        workspace.interaction.note(text)


@dataclass(frozen=True, slots=True)
class _Events:
    """Notes what devices and their owners report in the list of devices."""

    workspace: Workspace
    store: Store

    def step(self, row: LinkRow) -> None:
        """How far an owner has got."""
        last = self.store.fleet.handovers().get(row.device)
        if last is not None and last.form == "link":
            state = {"done": CONFIRMED, "declined": FAILED}.get(row.step, HANDED)
            cause = "device-declined" if row.step == "declined" else ""
            detail = "its owner did not agree" if cause else f"its owner has got to: {row.step}"
            noted = replace(last, state=state, cause=cause, detail=detail, at=_time(self.workspace))
            self.store.fleet.note_handover(noted)
        _say(self.workspace, f"{row.device}: {row.step}")

    def report(self, data: bytes) -> None:
        """A device's report. Raises :class:`InputError` if it cannot be read or is from nobody in the list."""
        from zesty_burrow.fleet.report import read_report

        report = read_report(data, self.store.fleet.name_of_key)
        # By a clock that is fast it would stand in the list as verified for long.
        report = replace(report, taken_at=min(report.taken_at, _time(self.workspace)))
        if self.store.fleet.note_report(report):
            from zesty_burrow.use_cases.verification.history import keep_reported

            keep_reported(report, {"signed_report": json.loads(data)}, self.store, self.workspace)
            _say(self.workspace, f"{report.device}: {report.verdict}")

    def fetched(self, device: str) -> None:
        """A device has what waited for it."""
        last = self.store.fleet.handovers().get(device)
        if last is not None and last.form == "pickup":
            self.store.fleet.note_handover(replace(last, state=CONFIRMED, detail="", at=_time(self.workspace)))
            _say(self.workspace, f"{device}: has fetched what waited for it")

    def problem(self, text: str) -> None:
        """The server cannot answer."""
        _say(self.workspace, text)


@dataclass(frozen=True, slots=True)
class _Check:
    """For pages by which a phone's owner sees whether the tunnel works; the verdict is noted in the list as well."""

    observatory: str
    workspace: Workspace
    store: Store

    def about(self, name: str) -> dict[str, Any] | None:
        """What a page may know of a link's device; None if the link is unknown."""
        device, profile = self._profile_of(name)
        return None if profile is None else {"device": device, "place": profile.place, "provider": profile.provider}

    def judge(self, name: str, document: Any) -> dict[str, Any]:
        """The verdict on a page's observations, as plain values. Raises :class:`Malformed`."""
        from zesty_burrow.core.outside.observation import ExpectedExit
        from zesty_burrow.fleet.links.check import judge_check
        from zesty_burrow.fleet.report import report_of
        from zesty_burrow.use_cases.verification.history import keep_reported

        device, profile = self._profile_of(name)
        if profile is None:
            return {}
        everything = profile.traffic.everything
        promise = ExpectedExit(profile.country, profile.city, profile.provider, everything=everything)
        judgement, seen = judge_check(document, promise, _time(self.workspace))
        before = self.store.fleet.reports().get(device)
        last = self.store.fleet.handovers().get(device)
        number = before.number + 1 if before is not None else 1
        digest = last.digest if last is not None else ""
        report = report_of(device, number, profile.name, digest, judgement, seen)
        self.store.fleet.note_report(report)
        keep_reported(report, {"check_page": name}, self.store, self.workspace, seen)
        _say(self.workspace, f"{device}: {report.verdict}")
        rows = [
            {
                "code": finding.code.slug,
                "severity": str(finding.severity),
                "title": finding.code.title,
                "detail": finding.detail,
            }
            for finding in judgement.findings
        ]
        return {"verdict": report.verdict, "findings": rows, "exits": list(report.exits)}

    def _profile_of(self, name: str) -> tuple[str, Profile | None]:
        row = self.store.fleet.links.find(name)
        last = self.store.fleet.handovers().get(row.device) if row is not None and row.opened_at else None
        if row is None or last is None:
            return "", None
        try:
            return row.device, self.store.find_profile(last.profile)[0]
        except NotFound:
            return row.device, None
