"""``zesty hand-over``: profiles to devices, many at once; a second run does only what is left."""

from __future__ import annotations

import asyncio
from argparse import ArgumentParser, Namespace
from functools import partial
from pathlib import Path

from zesty_burrow.commands.context import Context
from zesty_burrow.commands.devices.devices import add_selection, selection, stand
from zesty_burrow.commands.devices.forms import archive_of, bundle_of, push_all, to_cards, to_file, to_link, to_pickup
from zesty_burrow.commands.devices.hand_over_plan import ARCHIVE, BUNDLE, CARD, FILES, LINK, PICKUP, PUSH, Plan, Work
from zesty_burrow.errors import NotFound, UsageError
from zesty_burrow.extras import is_installed, require
from zesty_burrow.fleet.standing import Standing, State
from zesty_burrow.report.results.devices import HandOverResult, HandOverRow
from zesty_burrow.store.devices import FAILED

EXAMPLE = "zesty hand-over --all --dry-run"
LONGEST_LINK = 24 * 30
MOST_AT_ONCE, LONGEST_TIMEOUT = 200, 600


def add_arguments(parser: ArgumentParser) -> None:
    """The command's words."""
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
    if not (args.word or selection(args) or args.all):
        raise UsageError("to which devices?", next_step="Name them, or use --kind, --owner, --place, --tag or --all.")
    if not 0 < args.timeout <= LONGEST_TIMEOUT:
        raise UsageError(f"--timeout {args.timeout:g} is not between 0 and {LONGEST_TIMEOUT}")
    if not 1 <= args.at_once <= MOST_AT_ONCE:
        raise UsageError(f"--at-once {args.at_once} is not between 1 and {MOST_AT_ONCE}")
    if not 1 <= args.hours <= LONGEST_LINK:
        raise UsageError(f"--hours {args.hours} is not between 1 and {LONGEST_LINK}")
    for option, url in (("--link", args.link), ("--check", args.check), ("--report", args.report)):
        if url and not url.startswith("https://"):
            raise UsageError(
                f"{option} {url!r:.80} is not a URL", next_step="It begins with https://, as browsers ask."
            )
    if args.card is not None and args.card.suffix.lower() not in (".pdf", ".html"):
        raise UsageError(f"{args.card}: cards are .pdf or .html")
    if args.card is not None and args.link:
        raise UsageError("--card and --link are two ways for the same devices", next_step="Choose one of them.")
    if args.to is not None and not args.to.is_dir():
        raise NotFound(f"there is no folder {args.to}", next_step="Name one that exists.")
    with context.store() as store:
        found = stand(context, store, store.fleet.list_devices(args.word, **selection(args)))
        if not found:
            raise NotFound("no device matches", next_step="See `zesty devices list`.")
        work = Work(store, context, args)
        # Their state says it as well, but a run that passes over them in silence would be taken for a success.
        gone = [_gone(one) for one in found if one.handover_state is State.PROFILE_GONE]
        there = [one for one in found if one.handover_state is not State.PROFILE_GONE]
        chosen = [one for one in there if one.is_left or (args.again and one.wanted)]
        plans = work.plans(chosen)
        left = len(found) - len(chosen) - len(gone)
        if args.dry_run:
            rows = [
                plan.row
                or HandOverRow(plan.device.name, plan.name, plan.form, "ready", to=plan.to, changes=plan.changes)
                for plan in plans
            ]
            return HandOverResult((*rows, *gone), left, dry=True)
        forms = {plan.form for plan in plans if plan.row is None}
        require(*dict.fromkeys(EXTRA_OF[form] for form in sorted(forms) if form in EXTRA_OF))
        done = _run(args, context, work, plans)
    return HandOverResult((*done, *gone), left, code=_code(done))


EXTRA_OF = {CARD: "cards", PUSH: "ssh", FILES: "ssh"}
"""Which extra of the installation a form of handing over needs."""


def _code(rows: list[HandOverRow]) -> str:
    """To be scanned from the terminal, where there is one link and nothing else."""
    if (
        not is_installed("codes")
        or len(rows) != 1
        or rows[0].cause
        or rows[0].form != LINK
        or not rows[0].to.startswith("https://")
    ):
        return ""
    from zesty_burrow.intake.readers.codes import drawn, make_codes

    return drawn(make_codes(rows[0].to)[0])


def _gone(one: Standing) -> HandOverRow:
    step = "Assign another: zesty devices assign PROFILE …"
    return HandOverRow(
        one.device.name, one.wanted, "", FAILED, "device-profile-gone", f"there is no {one.wanted}", step
    )


def _run(args: Namespace, context: Context, work: Work, plans: list[Plan]) -> list[HandOverRow]:
    rows: list[HandOverRow] = []

    def ended(plan: Plan, row: HandOverRow) -> None:
        if plan.row is None:
            # What was not even tried changes nothing of where a device stands.
            work.note(plan, row)
        rows.append(row)
        shown(len(rows), len(plans))

    passphrase = ""
    if any(plan.form == ARCHIVE and plan.row is None for plan in plans):
        file = args.kit_passphrase_file or context.passphrase_file
        passphrase = context.ask_passphrase("Passphrase of the archives: ", file, confirm=True)
    with context.reporter.progress("handing over") as shown:
        for plan in plans:
            if plan.row is not None:
                ended(plan, plan.row)
            elif plan.form == BUNDLE:
                ended(plan, to_file(plan, partial(bundle_of, plan, work)))
            elif plan.form == PICKUP:
                ended(plan, to_pickup(plan, work))
            elif plan.form == ARCHIVE:
                ended(plan, to_file(plan, partial(archive_of, plan, work, passphrase)))
            elif plan.form == LINK:
                ended(plan, to_link(plan, work, args, context))
        carded = [plan for plan in plans if plan.row is None and plan.form == CARD]
        for plan, row in to_cards(carded, args) if carded else ():
            ended(plan, row)
        pushed = [plan for plan in plans if plan.row is None and plan.form in (PUSH, FILES)]
        if pushed:
            from zesty_burrow.fleet.push import SshOptions

            keys = tuple(args.ssh_key)
            options = SshOptions(args.timeout, args.ssh_config, args.ssh_known_hosts, keys, args.program)
            asyncio.run(push_all(pushed, work, options, args.at_once, ended))
    return sorted(rows, key=lambda row: row.device)
