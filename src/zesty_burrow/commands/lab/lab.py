"""``zesty lab``: the simulated internet."""

from __future__ import annotations

from argparse import REMAINDER, ArgumentParser, Namespace
from pathlib import Path
from typing import Any

from zesty_burrow.commands.context import Context
from zesty_burrow.commands.lab import phones
from zesty_burrow.errors import MachineError, UsageError
from zesty_burrow.lab import story
from zesty_burrow.lab.client import LabClient, lab_folder
from zesty_burrow.lab.kit import SIGN_INS, kit_archive
from zesty_burrow.lab.local_network.conditions import Conditions
from zesty_burrow.lab.local_network.workstation import move, renew
from zesty_burrow.lab.wire.watch import watch
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.lab import LabResult, WatchResult
from zesty_burrow.report.results.plain import MessageResult, Silent
from zesty_burrow.store.seal import write_private

EXAMPLE = "zesty lab start; zesty lab run heron -- zesty list; zesty lab stop"

FAULTS = (
    f"Faults of gateways: {', '.join(story.FAULTS)}. Of the portal: {', '.join(story.PORTAL_FAULTS)}. "
    f"Of the local network (cobblewire): {', '.join(story.ROUTER_FAULTS)}. "
    f"Of devices: {', '.join(dict.fromkeys((*story.LAPTOP_FAULTS, *story.PHONE_FAULTS)))}."
)

LONGEST_WATCH = 3600
GATEWAY_ACTIONS = {
    "end": "have a gateway end all its tunnels",
    "restart": "have a gateway forget all its tunnels and send nothing, as after a restart",
    "probe": "have a gateway probe its callers (liveness check)",
    "reset": "have a gateway reset the TCP connections of its callers",
    "rekey": "have a gateway rekey all its child SAs",
    "redirect": "have a gateway redirect its callers (RFC 5685)",
    "rekey-ike": "have a gateway rekey its IKE SAs",
}


def add_arguments(parser: ArgumentParser) -> None:
    actions = parser.add_subparsers(dest="action", required=True, metavar="ACTION")
    for name, text in (
        ("start", "start the lab in network namespaces of its own"),
        ("status", "show its hosts, tunnels and faults"),
        ("stop", "stop the lab and remove it"),
    ):
        actions.add_parser(name, help=text, description=text)
    fault = actions.add_parser(
        "fault",
        help="inject faults into a gateway, the portal, the local network or a device",
        description=FAULTS,
    )
    fault.add_argument("host", help=", ".join(story.FAULTS_OF))
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
    _add_local_network(actions)
    phones.add_arguments(actions)
    command = actions.add_parser("run", help="run a command on a host", description="Run a command on a host.")
    command.add_argument("host", help=", ".join(story.hosts()))
    command.add_argument("command", nargs=REMAINDER, help="-- COMMAND …")


def _add_local_network(actions: Any) -> None:
    text = "let packets on the workstation's wire be lost, late, or at a rate; without options as at the start"
    wire = actions.add_parser("wire", help=text, description=text)
    wire.add_argument("--loss", type=float, default=0.0, metavar="PERCENT", help="of the packets each way")
    wire.add_argument("--delay", type=float, default=0.0, metavar="MS", help="milliseconds each way")
    wire.add_argument("--rate", type=float, default=0.0, metavar="MBIT", help="megabits a second each way")
    text = "have the workstation move to another local network"
    moving = actions.add_parser("move", help=text, description=text)
    moving.add_argument("network", choices=tuple(story.LOCAL_NETWORKS))
    text = "have the workstation ask for its settings again (DHCP)"
    actions.add_parser("renew", help=text, description=text)


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
        meaning = story.FAULTS_OF[args.host]
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
    if args.action in phones.ACTIONS:
        return phones.run(args, context, client)
    if args.action in ("wire", "move", "renew"):
        return MessageResult(_local_network(args, client))
    if args.action in GATEWAY_ACTIONS:
        client.call_host(args.host, args.action)
        return MessageResult(f"{args.host}: done.")
    if args.action == "start":
        context.paths.make(context.paths.run)
        status = client.start()
    else:
        status = client.status()
    return LabResult(status, f"{client.folder}/quillwort-relay.zip")


def _local_network(args: Namespace, client: LabClient) -> str:
    if args.action == "wire":
        if not 0 <= args.loss < 100 or args.delay < 0 or args.rate < 0:
            raise UsageError("--loss is from 0 to below 100; --delay and --rate are not below 0")
        client.set_wire(Conditions(args.loss / 100, args.delay / 1000, args.rate * 1e6))
        return f"The workstation's wire: {args.loss:g} % loss, {args.delay:g} ms, {args.rate or 'any'} Mbit/s."
    if args.action == "move":
        code = client.call(story.WORKSTATION, lambda: move(story.LOCAL_NETWORKS[args.network]))
        done = f"The workstation is in the network {args.network}."
    else:
        code = client.call(story.WORKSTATION, renew)
        done = "The workstation has its settings by DHCP."
    if code:
        raise MachineError(f"lab {args.action} failed", why="the workstation's own words are above")
    return done
