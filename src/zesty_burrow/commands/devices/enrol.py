"""``zesty enrol``, on a device: its key, and from which administrators its owner takes profiles unasked."""

from __future__ import annotations

import sys
from argparse import ArgumentParser, Namespace
from contextlib import suppress
from dataclasses import replace
from pathlib import Path

from zesty_burrow.commands.context import Context
from zesty_burrow.errors import Malformed, NotFound, UsageError
from zesty_burrow.fleet.keys import ADMINISTRATOR, DEVICE, OwnKeys, PublicKey, make_secret, read_key
from zesty_burrow.report.results.devices import KeyResult
from zesty_burrow.store.devices import KINDS, Device, check_device
from zesty_burrow.store.fleet_store import Administrator, FleetStore

OK = 200
LEFT_FOR = 3600
"""Seconds for which a bundle may lie unread where it was put."""
EXAMPLE = "zesty enrol --accept administrator.key"


def add_arguments(parser: ArgumentParser) -> None:
    """The command's words."""
    text = "take profiles from this administrator without being asked each time: FILE as `zesty devices key` wrote it"
    parser.add_argument("--accept", type=Path, metavar="FILE", help=text)
    text = "the administrator's code, as the administrator tells it; asked for on a terminal"
    parser.add_argument("--code", default="", help=text)
    text = "ask the administrator, whose `zesty links serve` answers at URL, to take this device into the list"
    parser.add_argument("--to", metavar="URL", default="", help=text)
    text = "the authority of the server there, PEM, where it is not one of the system's"
    parser.add_argument("--authority", type=Path, metavar="FILE", help=text)
    parser.add_argument("--name", default="", help="what this device is called there; by default its host name")
    parser.add_argument("--kind", choices=KINDS, default="workstation", help="what it is (workstation)")
    parser.add_argument("--timeout", type=float, default=15.0, metavar="SECONDS", help="for the server to answer (15)")
    text = "be asked again about what comes from the administrator with this code"
    parser.add_argument("--withdraw", metavar="CODE", default="", help=text)


def run(args: Namespace, context: Context) -> KeyResult:
    """Make the key at first use; accept or withdraw; show the key."""
    with context.store() as store:
        fleet = store.fleet
        keys = OwnKeys(fleet.own_key(DEVICE, make_secret))
        own = keys.public(DEVICE)
        if args.accept is not None:
            _accept(args, context, fleet)
        if args.withdraw:
            _withdraw(args.withdraw, fleet)
        accepted = [one for one in fleet.administrators() if one.accepted_at]
    if args.to:
        _ask(args, context, keys)
    codes = tuple(read_key(one.key, ADMINISTRATOR).code for one in accepted)
    return KeyResult("device", context.device(), own.text, own.code, codes, str(incoming(context)))


def _ask(args: Namespace, context: Context, keys: OwnKeys) -> None:
    from zesty_burrow.fleet.enrolment import ask
    from zesty_burrow.fleet.https_client import NotReached, ask_server

    device = Device(args.name or context.device(), args.kind)
    if why := check_device(device):
        raise UsageError(f"this device cannot be in a list: {why}")
    url = f"{server_url(args.to)}/e"
    status, _ = ask_server("POST", url, authority_of(args.authority), ask(keys, device.name, device.kind), args.timeout)
    if status != OK:
        raise NotReached(f"{url} does not take this device", why=f"HTTP status {status}")
    context.reporter.note("The administrator was asked. Both of you compare the code below.")


def server_url(url: str) -> str:
    """As it was given. Raises :class:`UsageError` if it is not a code."""
    if not url.startswith("https://"):
        raise UsageError(f"{url!r:.80} is not the URL of a server", next_step="It begins with https://.")
    return url.rstrip("/")


def authority_of(path: Path | None) -> str:
    """The PEM in a file, or nothing."""
    from zesty_burrow.host.files import read_bounded

    return read_bounded(path, 1 << 16)[0].decode("ascii", "replace") if path is not None else ""


def incoming(context: Context) -> Path:
    """Where what an administrator sends is put, until it is read; only this user may look into it.

    What a broken connection has left there goes after a while.
    """
    folder = context.paths.make(context.paths.make(context.paths.data) / "incoming")
    for path in folder.glob("*.bundle"):
        with suppress(OSError):
            if context.now().timestamp() - path.stat().st_mtime > LEFT_FOR:
                path.unlink()
    return folder


def _accept(args: Namespace, context: Context, fleet: FleetStore) -> None:
    from zesty_burrow.host.files import read_bounded

    data, _ = read_bounded(args.accept, 1 << 16)
    lines = [line for line in data.decode("utf-8", "replace").splitlines() if line.startswith(ADMINISTRATOR)]
    if len(lines) != 1:
        why = f"a line that begins with {ADMINISTRATOR!r} is needed"
        raise Malformed(f"{args.accept} has no administrator's key in it", why=why, next_step="Ask for it again.")
    key = read_key(lines[0], ADMINISTRATOR)
    if not _is_confirmed(key, args.code, context):
        raise UsageError(
            "the administrator was not accepted",
            why="the code was not confirmed",
            next_step="Ask the administrator for the code (`zesty devices key` shows it), and give it: --code CODE",
        )
    before = next((one for one in fleet.administrators() if one.key == key.text), Administrator(key.text))
    fleet.note_administrator(replace(before, accepted_at=context.now().strftime("%Y-%m-%dT%H:%M:%SZ")))


def same_code(one: str, other: str) -> bool:
    """However it is written."""
    plain = [text.upper().replace("-", "").replace(" ", "") for text in (one, other)]
    return plain[0] == plain[1]


def _is_confirmed(key: PublicKey, code: str, context: Context) -> bool:
    if code:
        return same_code(code, key.code)
    if not (sys.stdin.isatty() and sys.stderr.isatty()):
        return False
    context.reporter.note(f"The administrator's code is {key.code}.")
    context.reporter.note("That key is enough to change the profiles on this device from now on.")
    answer = context.reporter.ask("Is it the code that your administrator gave you? y or n [n] ")
    return answer.casefold() in ("y", "yes")


def _withdraw(code: str, fleet: FleetStore) -> None:
    for one in fleet.administrators():
        if one.accepted_at and same_code(code, read_key(one.key, ADMINISTRATOR).code):
            fleet.note_administrator(replace(one, accepted_at=""))
            return
    raise NotFound(f"no administrator with the code {code!r:.40} is accepted", next_step="`zesty enrol` shows them.")
