"""``zesty lab``: the simulated internet."""

from __future__ import annotations

from argparse import REMAINDER, ArgumentParser, Namespace
from pathlib import Path

from zesty_burrow.commands.context import Context
from zesty_burrow.errors import UsageError
from zesty_burrow.lab import story
from zesty_burrow.lab.client import LabClient, lab_folder
from zesty_burrow.lab.kit import SIGN_INS, kit_archive
from zesty_burrow.lab.wire.watch import watch
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.lab import LabResult, WatchResult
from zesty_burrow.report.results.plain import MessageResult, Silent
from zesty_burrow.store.seal import write_private

EXAMPLE = "zesty lab start; zesty lab run heron -- zesty list; zesty lab stop"

FAULTS = f"Faults of gateways: {', '.join(story.FAULTS)}. Of the portal: {', '.join(story.PORTAL_FAULTS)}."

LONGEST_WATCH = 3600
GATEWAY_ACTIONS = {
    "end": "have a gateway end all its tunnels",
    "restart": "have a gateway forget all its tunnels and send nothing, as after a restart",
    "probe": "have a gateway probe its callers (liveness check)",
    "rekey": "have a gateway rekey all its child SAs",
    "redirect": "have a gateway redirect its callers (RFC 5685)",
    "rekey-ike": "have a gateway rekey its IKE SAs",
}


def add_arguments(parser: ArgumentParser) -> None:
    """The command's words."""
    actions = parser.add_subparsers(dest="action", required=True, metavar="ACTION")
    for name, text in (
        ("start", "start the lab in network namespaces of its own"),
        ("status", "show its hosts, tunnels and faults"),
        ("stop", "stop the lab and remove it"),
    ):
        actions.add_parser(name, help=text, description=text)
    fault = actions.add_parser(
        "fault",
        help="inject faults into a gateway or the portal",
        description=FAULTS,
    )
    fault.add_argument("host", help="portal, or a gateway: " + ", ".join(story.PLACE_BY_NAME))
    fault.add_argument("fault", nargs="*", help="none: the faults are removed")
    for name, text in GATEWAY_ACTIONS.items():
        one = actions.add_parser(name, help=text, description=text)
        one.add_argument("host", help="a gateway: " + ", ".join(story.PLACE_BY_NAME))
    account = actions.add_parser(
        "account",
        help="make an account at the office's gateway and export its settings",
        description="Create an account on the office's gateway and export the settings for it.",
    )
    account.add_argument("account", help="the account's name, for example tidewrack_curlew")
    account.add_argument(
        "--traffic", choices=("office", "everything"), default="office", help="the traffic for the tunnel"
    )
    account.add_argument("--sign-in", choices=SIGN_INS, default="password", help="how the account signs in (password)")
    account.add_argument("--to", type=Path, required=True, metavar="FILE", help="a new ZIP archive")
    text = "watch what leaves the workstation, on the router's end of its wire"
    watching = actions.add_parser("watch", help=text, description=text)
    watching.add_argument("--seconds", type=float, default=5.0, metavar="N", help="for so long (5)")
    command = actions.add_parser("run", help="run a command on a host", description="Run a command on a host.")
    command.add_argument("host", help=", ".join(story.hosts()))
    command.add_argument("command", nargs=REMAINDER, help="-- COMMAND …")


def run(args: Namespace, context: Context) -> Result:
    """Pass the call on to the lab."""
    client = LabClient(lab_folder(context.paths))
    if args.action == "run":
        command = args.command[1:] if args.command[:1] == ["--"] else args.command
        if not command:
            raise UsageError("no command to run", next_step="For example: zesty lab run heron -- zesty list")
        return Silent(client.run(args.host, command))
    if args.action == "stop":
        client.stop()
        return MessageResult("The lab was stopped.")
    if args.action == "fault":
        client.set_faults(args.host, args.fault)
        meaning = {**story.FAULTS, **story.PORTAL_FAULTS}
        words = "; ".join(meaning[fault] for fault in args.fault) or "its faults are removed"
        return MessageResult(f"{args.host}: {words}.")
    if args.action == "account":
        files = client.add_account(args.account, args.sign_in, everything=args.traffic == "everything")
        write_private(args.to.absolute(), kit_archive({name: text.encode() for name, text in files.items()}))
        return MessageResult(f"{story.OFFICE.host_name} has an account {args.account}; its settings are in {args.to}.")
    if args.action == "watch":
        if not 0 < args.seconds <= LONGEST_WATCH:
            raise UsageError(f"--seconds {args.seconds:g} is not between 0 and {LONGEST_WATCH}")
        return WatchResult(args.seconds, tuple(watch(client, args.seconds)))
    if args.action in GATEWAY_ACTIONS:
        client.call_host(args.host, args.action)
        return MessageResult(f"{args.host}: done.")
    if args.action == "start":
        context.paths.make(context.paths.run)
        status = client.start()
    else:
        status = client.status()
    return LabResult(status, f"{client.folder}/quillwort-relay.zip")
