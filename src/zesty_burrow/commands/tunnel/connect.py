"""``zesty connect``: bring a tunnel up, in the foreground or in the background."""

from __future__ import annotations

import logging
from argparse import ArgumentParser, Namespace
from collections.abc import Callable
from pathlib import Path

from zesty_burrow.carrier.control.detach import run_detached
from zesty_burrow.carrier.control.log_lines import ForPeople
from zesty_burrow.carrier.control.status import StepReport, TunnelStatus
from zesty_burrow.carrier.data_path.options import CAN_BE_DISABLED
from zesty_burrow.carrier.supervisor import Supervisor, TunnelEnd, TunnelOptions
from zesty_burrow.commands.context import Context
from zesty_burrow.commands.credentials.choose_credentials import choose, explained
from zesty_burrow.commands.tunnel.rehearse import latest_rehearsals
from zesty_burrow.core.rehearsal import CHOICES, recommend
from zesty_burrow.errors import NotFound
from zesty_burrow.host.journal.journal import restore
from zesty_burrow.host.journal.lock import is_left_over
from zesty_burrow.profiles.policy import restrict
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.tunnel import EndResult, UpResult
from zesty_burrow.store.layered_store import LayeredStore

EXAMPLE = "zesty connect quillwort-lisbon --detach"


def add_arguments(parser: ArgumentParser) -> None:
    """The command's words."""
    parser.add_argument(
        "name", help="a profile's name, or a city that only one profile has; or nearest, fastest, strongest"
    )
    parser.add_argument("--detach", action="store_true", help="continue in the background once the tunnel is up")
    parser.add_argument("--ask", action="store_true", help="ask for name and password, use them once, store nothing")
    parser.add_argument(
        "--timeout", type=float, default=15.0, metavar="SECONDS", help="wait this long for the gateway to answer (15)"
    )
    parser.add_argument(
        "--keep-trying",
        action="store_true",
        help="reconnect when the tunnel is lost; until then, or `disconnect`, traffic for the tunnel is blocked",
    )
    parser.add_argument(
        "--disable",
        action="append",
        default=[],
        choices=CAN_BE_DISABLED,
        metavar="FEATURE",
        help=f"disable a feature, for testing; may be repeated: {', '.join(CAN_BE_DISABLED)}",
    )
    parser.add_argument(
        "--export-keys",
        type=Path,
        metavar="FILE",
        help="write the session keys to FILE for an analyser; anyone with FILE can read the traffic",
    )


def wanted_name(name: str, layered_store: LayeredStore, context: Context) -> str:
    """The name itself, or what the latest rehearsal found to be the nearest, fastest or strongest."""
    if name not in CHOICES or any(row.name == name for _, row in layered_store.list_profiles([name])):
        return name
    taken_at, rehearsals = latest_rehearsals(context)
    best = recommend(rehearsals).get(name)
    if best is None:
        why = f"none was fit in the rehearsal of {taken_at}" if taken_at else "nothing has been rehearsed yet"
        raise NotFound(f"no rehearsal tells which profile is the {name}", why=why, next_step="Run `zesty rehearse`.")
    context.reporter.note(f"The {name} is {best.profile}, by the rehearsal of {taken_at}.")
    return best.profile


def run(args: Namespace, context: Context) -> Result:
    """Set up, carry, put back."""
    if args.debug:
        handler = logging.StreamHandler()
        handler.setFormatter(ForPeople())
        logging.basicConfig(level=logging.DEBUG, handlers=[handler])
        logging.getLogger("asyncio").setLevel(logging.INFO)
    context.paths.make(context.paths.state)
    context.paths.make(context.paths.run)
    if is_left_over(context.paths.journal):
        context.reporter.note("An earlier tunnel left something behind; restoring this machine's settings first.")
        restore(context.paths.journal)
    with context.layered_store() as layered_store:
        profile, _, _ = layered_store.find_profile(wanted_name(args.name, layered_store, context))
        profile = restrict(context.policy(), profile)
        chosen = choose(profile, layered_store, context, ask=args.ask)
    if args.export_keys:
        context.reporter.note(f"Warning: anyone who can read {args.export_keys} can read all traffic of this tunnel.")
    options = TunnelOptions(
        context.paths.journal,
        context.paths.control,
        args.timeout,
        args.export_keys.absolute() if args.export_keys else None,
        args.keep_trying,
        frozenset(args.disable),
    )

    def carry(on_step: Callable[[StepReport], None], on_up: Callable[[TunnelStatus], None]) -> TunnelEnd:
        return Supervisor(profile, chosen.secrets, options, on_step, on_up).run()

    if args.detach:
        with explained(chosen):
            return UpResult(run_detached(context.paths.log, carry, context.reporter.step))
    seen: list[TunnelStatus] = []

    def up(status: TunnelStatus) -> None:
        seen.append(status)
        context.reporter.up(status)
        context.reporter.note("        Ctrl-C ends it.")

    with explained(chosen):
        end = carry(context.reporter.step, up)
    if not seen:
        # Ctrl-C, or another signal, before the tunnel was up.
        raise KeyboardInterrupt
    return EndResult(seen[0], end)
