"""``zesty observatory serve``: run an observatory on a server of one's own."""

from __future__ import annotations

import asyncio
import ipaddress
import logging
import os
import signal
from argparse import ArgumentParser, Namespace
from pathlib import Path
from typing import TextIO

from zesty_burrow.commands.context import Context
from zesty_burrow.core.outside.geofeed import AddressBook, read_geofeed_untrusted, read_operators_untrusted
from zesty_burrow.errors import UsageError
from zesty_burrow.host.files import read_bounded
from zesty_burrow.observe.observatory.server import Observatory, ObservatoryConfig, zone_of
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.plain import MessageResult
from zesty_burrow.report.results.verification import ReadyResult
from zesty_burrow.use_cases.verification.observatory_check import check_observatory

EXAMPLE = (
    "zesty observatory serve --zone observatory.example --address 203.0.113.10 --address 2001:db8:b5::10 "
    "--geofeed geofeed.csv"
)
MAX_FEED = 64 << 20


def add_arguments(parser: ArgumentParser) -> None:
    actions = parser.add_subparsers(dest="action", required=True, metavar="ACTION")
    check = actions.add_parser("check", help="check one from outside, as its callers see it", description="Check one.")
    check.add_argument("url", nargs="?", default="", metavar="URL", help="https://HOST[:PORT] (from the settings file)")
    check.add_argument("--signed-by", default="", metavar="KEY", help="the public key that it has to sign with")
    serve = actions.add_parser("serve", help="answer until Ctrl-C", description="Answer until Ctrl-C.")
    serve.add_argument("--zone", required=True, help="the DNS zone that is delegated to this server")
    serve.add_argument(
        "--address", action="append", required=True, help="an address of this server; once for IPv4, once for IPv6"
    )
    serve.add_argument("--geofeed", type=Path, help="where addresses are, as RFC 8805 has it")
    serve.add_argument("--operators", type=Path, help="whose networks they are: lines of PREFIX,OPERATOR")
    serve.add_argument("--http-port", type=int, default=80)
    serve.add_argument("--dns-port", type=int, default=53)
    serve.add_argument("--stun-port", type=int, default=3478)
    serve.add_argument("--https-port", type=int, default=443, help="used where there is a certificate (443)")
    serve.add_argument("--certificate", type=Path, metavar="FILE", help="for HTTPS, PEM, the server's own first")
    text = "the certificate's key, PEM; both are read again when they have changed"
    serve.add_argument("--key", type=Path, metavar="FILE", help=text)
    text = "sign the answers with the Ed25519 key in FILE (PEM); a key is made if FILE does not exist"
    serve.add_argument("--signing-key", type=Path, metavar="FILE", help=text)
    text = "sign the zone (DNSSEC) with the Ed25519 key in FILE (PEM); a key is made if FILE does not exist"
    serve.add_argument("--zone-key", type=Path, metavar="FILE", help=text)
    serve.add_argument("--access-log", type=Path, metavar="FILE", help="append a line of JSON for each request")
    serve.add_argument(
        "--metrics", metavar="ADDRESS:PORT", help="tell metrics there (OpenMetrics), for example 127.0.0.1:9464"
    )
    serve.add_argument("--requests-a-second", type=float, default=50.0, metavar="N", help="of each source address (50)")


def run(args: Namespace, context: Context) -> Result:
    """Serve until a signal, or check one."""
    if args.action == "check":
        checks = check_observatory(args.url, args.signed_by, context)
        return ReadyResult(
            tuple(check.document() for check in checks),
            f"Is the observatory {args.url or 'of the settings'} ready for callers?",
        )
    places = read_geofeed_untrusted(_text(args.geofeed)) if args.geofeed else {}
    operators = read_operators_untrusted(_text(args.operators)) if args.operators else {}
    zone = args.zone.lower().rstrip(".")
    addresses = tuple(args.address)
    if (args.certificate is None) != (args.key is None):
        raise UsageError("--certificate and --key go together")
    log = _access_log(args.access_log) if args.access_log else None
    config = ObservatoryConfig(
        addresses,
        zone_of(zone, addresses),
        AddressBook(places, operators),
        args.http_port,
        args.dns_port,
        args.stun_port,
        args.https_port,
        (args.certificate, args.key) if args.certificate else None,
        _metrics(args.metrics) if args.metrics else None,
        args.requests_a_second,
        log,
        args.signing_key,
        args.zone_key,
    )
    logging.basicConfig(level=logging.INFO, format="%(levelname)s %(message)s")
    try:
        asyncio.run(_serve(config, context))
    finally:
        if log is not None:
            log.close()
    return MessageResult("The observatory has stopped.")


def _access_log(path: Path) -> TextIO:
    descriptor = os.open(path, os.O_WRONLY | os.O_APPEND | os.O_CREAT | os.O_CLOEXEC, 0o640)
    return os.fdopen(descriptor, "a", encoding="utf-8")


def _metrics(text: str) -> tuple[str, int]:
    address, _, port = text.rpartition(":")
    try:
        return str(ipaddress.ip_address(address.strip("[]"))), int(port)
    except ValueError:
        raise UsageError(f"--metrics {text!r} is not ADDRESS:PORT", next_step="For example: 127.0.0.1:9464") from None


def _text(path: Path) -> str:
    return read_bounded(path, MAX_FEED)[0].decode("utf-8", "replace")


async def _serve(config: ObservatoryConfig, context: Context) -> None:
    stop = asyncio.Event()
    loop = asyncio.get_running_loop()
    for number in (signal.SIGINT, signal.SIGTERM):
        loop.add_signal_handler(number, stop.set)
    observatory = Observatory(config)
    await observatory.start()
    loop.add_signal_handler(signal.SIGHUP, observatory.reload)
    places = ", ".join(config.addresses)
    https = f"HTTPS {config.https_port}, " if config.certificate else ""
    context.reporter.note(
        f"Listening on {places}: HTTP {config.http_port}, {https}DNS {config.dns_port}, STUN {config.stun_port}; "
        f"one-time names under {config.zone.probe}. Ctrl-C ends it."
    )
    if observatory.parent_record:
        context.reporter.note(f"The zone is signed. Its parent zone needs: {observatory.parent_record}")
    if observatory.public_key:
        context.reporter.note(f'Callers write into their settings: observatory_key = "{observatory.public_key}"')
    await stop.wait()
    await observatory.stop()
