"""``zesty links``: serve the page of one-time links, and see how far their owners have got."""

from __future__ import annotations

import asyncio
import re
import signal
from argparse import ArgumentParser, Namespace
from contextlib import suppress
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from zesty_burrow.commands.context import Context
from zesty_burrow.errors import BurrowError, NotFound, UsageError
from zesty_burrow.fleet.links.link import earlier
from zesty_burrow.fleet.report import report_of
from zesty_burrow.fleet.standing import TIME
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.devices import LinksResult
from zesty_burrow.report.results.plain import MessageResult
from zesty_burrow.store.devices import CONFIRMED, FAILED, HANDED

if TYPE_CHECKING:
    from zesty_burrow.core.profile import Profile
    from zesty_burrow.fleet.links.server import Check
    from zesty_burrow.store.fleet_store import FleetStore
    from zesty_burrow.store.link_store import LinkRow
    from zesty_burrow.store.store import Store

HOST = re.compile(r"[A-Za-z0-9]([A-Za-z0-9.-]{0,250}[A-Za-z0-9])?")
EXAMPLE = "zesty links serve --address 0.0.0.0 --certificate server.pem --key server.key"
TIDY_SECONDS = 60
"""After so long it is looked for what is behind links that are over."""


def add_arguments(parser: ArgumentParser) -> None:
    """The command's words."""
    actions = parser.add_subparsers(dest="action", required=True, metavar="ACTION")
    text = "list links, and how far their owners have got"
    actions.add_parser("list", help=text, description=text)
    serve = actions.add_parser("serve", help="answer until Ctrl-C", description="Answer until Ctrl-C.")
    serve.add_argument("--address", action="append", required=True, help="an address of this machine; once or more")
    serve.add_argument("--port", type=int, default=443)
    serve.add_argument("--certificate", type=Path, required=True, metavar="FILE", help="PEM, the server's own first")
    serve.add_argument("--key", type=Path, required=True, metavar="FILE", help="the certificate's key, PEM")
    text = "the observatory that check pages ask, by HTTPS: a phone's owner sees whether the tunnel works"
    serve.add_argument("--observatory", default="", metavar="HOST", help=text)
    text = "make a device's link useless"
    actions.add_parser("withdraw", help=text, description=text).add_argument("device")


def run(args: Namespace, context: Context) -> Result:
    """List, serve, withdraw."""
    with context.store() as store:
        if args.action == "withdraw":
            store.fleet.links.withdraw(args.device)
            return MessageResult(f"The link for {args.device} opens nothing any more.")
        if args.action == "serve":
            if not 0 <= args.port <= 65535:
                raise UsageError(f"--port {args.port} is not between 0 and 65535")
            asyncio.run(_serve(args, context, store))
            return MessageResult("The server has stopped.")
        now = context.now().strftime(TIME)
        store.fleet.links.forget_old(now, earlier(now))
        return LinksResult(tuple(store.fleet.links.list_links()), now)


async def _serve(args: Namespace, context: Context, store: Store) -> None:
    from zesty_burrow.fleet.links.server import LinkServer
    from zesty_burrow.fleet.report import read_report
    from zesty_burrow.observe.tls import Certificate

    fleet = store.fleet

    def now() -> str:
        return context.now().strftime(TIME)

    def told(row: LinkRow) -> None:
        note(fleet, row, now())
        _say(context, f"{row.device}: {row.step}")

    stop = asyncio.Event()
    for number in (signal.SIGINT, signal.SIGTERM):
        asyncio.get_running_loop().add_signal_handler(number, stop.set)

    def reported(data: bytes) -> None:
        found = read_report(data, fleet.name_of_key)
        # By a clock that is fast it would stand in the list as verified for long.
        found = replace(found, taken_at=min(found.taken_at, now()))
        if fleet.note_report(found):
            _say(context, f"{found.device}: {found.verdict}")

    def taken(device: str) -> None:
        last = fleet.handovers().get(device)
        if last is not None and last.form == "pickup":
            fleet.note_handover(replace(last, state=CONFIRMED, detail="", at=now()))
            _say(context, f"{device}: has fetched what waited for it")

    server = LinkServer(
        fleet.links, Certificate(args.certificate, args.key), now, told, reported, _check(args, context, store)
    )
    server.enrolments, server.taken, server.failed = fleet.enrolments, taken, lambda problem: _say(context, problem)
    await server.start(args.address, args.port)
    context.reporter.note(f"Serving links on {', '.join(args.address)}, port {server.port}. Ctrl-C ends it.")
    while not stop.is_set():
        with suppress(TimeoutError):
            await asyncio.wait_for(stop.wait(), TIDY_SECONDS)
        with suppress(BurrowError):
            fleet.links.forget_old(now(), earlier(now()))
    await server.stop()


def _say(context: Context, text: str) -> None:
    """If nobody reads the output any more, the server goes on."""
    with suppress(OSError):
        context.reporter.note(text)


def _check(args: Namespace, context: Context, store: Store) -> Check | None:
    """For pages by which a phone's owner sees whether the tunnel works; the verdict stands in the list as well."""
    from zesty_burrow.core.outside.leak import ExpectedExit
    from zesty_burrow.fleet.links.check import judge_check
    from zesty_burrow.fleet.links.server import Check

    if not args.observatory:
        return None
    if not HOST.fullmatch(args.observatory):
        raise UsageError(f"--observatory {args.observatory!r:.80} is no host's name")

    def profile_of(name: str) -> tuple[str, Profile | None]:
        row = store.fleet.links.find(name)
        last = store.fleet.handovers().get(row.device) if row is not None and row.opened_at else None
        if row is None or last is None:
            return "", None
        try:
            return row.device, store.find_profile(last.profile)[0]
        except NotFound:
            return row.device, None

    def about(name: str) -> dict[str, Any] | None:
        device, profile = profile_of(name)
        return None if profile is None else {"device": device, "place": profile.place, "provider": profile.provider}

    def judge(name: str, document: Any) -> dict[str, Any]:
        device, profile = profile_of(name)
        if profile is None:
            return {}
        everything = profile.traffic.everything
        promise = ExpectedExit(profile.country, profile.city, profile.provider, everything=everything)
        found, seen = judge_check(document, promise, context.now().strftime(TIME))
        before = store.fleet.reports().get(device)
        last = store.fleet.handovers().get(device)
        number = before.number + 1 if before is not None else 1
        digest = last.digest if last is not None else ""
        report = report_of(device, number, profile.name, digest, found, seen)
        store.fleet.note_report(report)
        _say(context, f"{device}: {report.verdict}")
        rows = [
            {"code": one.code.slug, "severity": str(one.severity), "title": one.code.title, "detail": one.detail}
            for one in found.findings
        ]
        return {"verdict": report.verdict, "findings": rows, "exits": list(report.exits)}

    return Check(args.observatory, about, judge)


def note(fleet: FleetStore, row: LinkRow, now: str) -> None:
    """How far an owner has got, where the list of devices shows it."""
    last = fleet.handovers().get(row.device)
    if last is None or last.form != "link":
        return
    state = {"done": CONFIRMED, "declined": FAILED}.get(row.step, HANDED)
    cause = "device-declined" if row.step == "declined" else ""
    detail = "its owner did not agree" if cause else f"its owner has got to: {row.step}"
    fleet.note_handover(replace(last, state=state, cause=cause, detail=detail, at=now))
