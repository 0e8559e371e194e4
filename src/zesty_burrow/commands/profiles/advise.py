"""``zesty advise``: what each end can do, what would be negotiated, what should be, and why."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace

from zesty_burrow.commands.context import Context
from zesty_burrow.commands.profiles.filters import add_filters, read_filters
from zesty_burrow.profiles.advising.clients import DEVICES
from zesty_burrow.report.results.trials import AdviceResult
from zesty_burrow.use_cases.profiles.advise import AdviseRequest, advise_profiles

EXAMPLE = "zesty advise lisbon"


def add_arguments(parser: ArgumentParser) -> None:
    add_filters(parser)
    parser.add_argument("--gateway", default="", metavar="HOST", help="a gateway for which there is no profile")
    parser.add_argument("--kit", default="", metavar="KIT", help="the profiles of a kit that is not imported")
    parser.add_argument("--device", choices=DEVICES, default="workstation", help="the kind of device that will connect")
    parser.add_argument("--no-ask", action="store_true", help="do not ask the gateways; use the profiles only")
    parser.add_argument("--timeout", type=float, default=3.0, metavar="SECONDS", help="per gateway (3)")


def run(args: Namespace, context: Context) -> AdviceResult:
    """One profile in detail, many as a table."""
    request = AdviseRequest(read_filters(args), args.gateway, args.kit, args.device, not args.no_ask, args.timeout)
    advised = advise_profiles(request, context)
    return AdviceResult(advised.advice, advised.policy, advised.device, advised.silent, advised.ways)
