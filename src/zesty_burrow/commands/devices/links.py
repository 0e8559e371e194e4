"""``zesty links``: serve the page of one-time links, and see how far their owners have got."""

from __future__ import annotations

import asyncio
import signal
from argparse import ArgumentParser, Namespace
from pathlib import Path

from zesty_burrow.commands.context import Context
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.devices import LinksResult
from zesty_burrow.report.results.plain import MessageResult
from zesty_burrow.use_cases.devices.serve_links import ServeRequest, list_links, serve_links, withdraw_link

EXAMPLE = "zesty links serve --address 0.0.0.0 --certificate server.pem --key server.key"


def add_arguments(parser: ArgumentParser) -> None:
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
    if args.action == "withdraw":
        withdraw_link(args.device, context)
        return MessageResult(f"The link for {args.device} opens nothing any more.")
    if args.action == "serve":
        request = ServeRequest(tuple(args.address), args.certificate, args.key, args.port, args.observatory)
        asyncio.run(_serve(request, context))
        return MessageResult("The server has stopped.")
    listed = list_links(context)
    return LinksResult(listed.links, listed.now)


async def _serve(request: ServeRequest, context: Context) -> None:
    stop = asyncio.Event()
    for number in (signal.SIGINT, signal.SIGTERM):
        asyncio.get_running_loop().add_signal_handler(number, stop.set)
    await serve_links(request, context, stop)
