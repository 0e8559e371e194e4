"""``zesty hand-over``: profiles to devices, many at once; a second run does only what is left."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace
from pathlib import Path

from zesty_burrow.commands.context import Context
from zesty_burrow.commands.devices.devices import add_selection, selection
from zesty_burrow.report.results.devices import HandOverResult
from zesty_burrow.use_cases.devices.hand_over import hand_over
from zesty_burrow.use_cases.devices.request import HandOverRequest

EXAMPLE = "zesty hand-over --all --dry-run"


def add_arguments(parser: ArgumentParser) -> None:
    add_selection(parser)
    parser.add_argument("--all", action="store_true", help="to every device")
    parser.add_argument("--again", action="store_true", help="also to devices that have it already")
    parser.add_argument("--dry-run", action="store_true", help="show what would be done, and send nothing")
    text = "write what is for devices that are not reached by SSH to new files in FOLDER"
    parser.add_argument("--to", type=Path, metavar="FOLDER", help=text)
    text = (
        "leave what is for devices with this program to be fetched by `zesty receive --from`, from `zesty links serve`"
    )
    parser.add_argument("--pickup", action="store_true", help=text)
    text = "make a one-time link for each device without this program; the page is served at URL by `zesty links serve`"
    parser.add_argument("--link", metavar="URL", default="", help=text)
    parser.add_argument("--hours", type=int, default=48, help="for which a link can be opened (48)")
    text = "write cards to be printed, for devices without this program, to a new FILE: .pdf or .html"
    parser.add_argument("--card", type=Path, metavar="FILE", help=text)
    parser.add_argument("--paper", choices=("A4", "A6"), default="A4", help="four cards a page, or one (A4)")
    parser.add_argument("--language", choices=("en", "de", "es", "fr"), default="en", help="of the cards (en)")
    text = "read the passphrase of archives, for devices without this program (--to), from FILE instead of asking"
    parser.add_argument("--kit-passphrase-file", type=Path, metavar="FILE", help=text)
    text = "have devices with this program report to URL, where `zesty links serve` answers"
    parser.add_argument("--report", metavar="URL", default="", help=text)
    text = "the authority of the server there, PEM, where it is not one of the system's"
    parser.add_argument("--report-authority", type=Path, metavar="FILE", help=text)
    text = "name this page at the end, where the owner can check the connection"
    parser.add_argument("--check", metavar="URL", default="", help=text)
    parser.add_argument("--at-once", type=int, default=20, metavar="NUMBER", help="devices at a time (20)")
    parser.add_argument("--timeout", type=float, default=20.0, metavar="SECONDS", help="for each device to answer (20)")
    parser.add_argument("--ssh-config", default="", metavar="FILE", help="instead of your own SSH settings")
    parser.add_argument("--ssh-known-hosts", default="", metavar="FILE", help="instead of your own known hosts")
    parser.add_argument("--ssh-key", action="append", default=[], metavar="FILE", help="sign in with this key")
    parser.add_argument("--program", default="zesty", help="this program's command on the devices (zesty)")


def run(args: Namespace, context: Context) -> HandOverResult:
    """Plan for each device, then do it: by SSH, or into files."""
    request = HandOverRequest(
        tuple(args.word),
        selection(args),
        args.all,
        args.again,
        args.dry_run,
        args.to,
        args.pickup,
        args.link,
        args.hours,
        args.card,
        args.paper,
        args.language,
        args.kit_passphrase_file or context.passphrase_file,
        args.report,
        args.report_authority,
        args.check,
        args.at_once,
        args.timeout,
        args.ssh_config,
        args.ssh_known_hosts,
        tuple(args.ssh_key),
        args.program,
    )
    made = hand_over(request, context)
    return HandOverResult(made.rows, made.left, dry=args.dry_run, code=made.code)
