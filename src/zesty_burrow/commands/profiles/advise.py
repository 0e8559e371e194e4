"""``zesty advise``: what each end can do, what would be negotiated, what should be, and why."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace

from zesty_burrow.carrier.costs import measure_costs
from zesty_burrow.carrier.probe import ProbeResult, probe_gateways
from zesty_burrow.commands.context import Context
from zesty_burrow.commands.kits.kits import read_arguments
from zesty_burrow.commands.profiles.list_profiles import add_filters, filters
from zesty_burrow.core.policy.policy import Policy
from zesty_burrow.core.profile import Gateway, Profile
from zesty_burrow.errors import NotFound, UsageError
from zesty_burrow.profiles.advising.advice import Advice, advise
from zesty_burrow.profiles.advising.clients import DEVICES
from zesty_burrow.profiles.text import read_profile
from zesty_burrow.profiles.ways import WayAnswer, answer_of, every_way
from zesty_burrow.protocols.ikev2.settings import IkeSettings
from zesty_burrow.report.results.trials import AdviceResult

EXAMPLE = "zesty advise lisbon"


def add_arguments(parser: ArgumentParser) -> None:
    """The command's words."""
    add_filters(parser)
    parser.add_argument("--gateway", default="", metavar="HOST", help="a gateway for which there is no profile")
    parser.add_argument("--kit", default="", metavar="KIT", help="the profiles of a kit that is not imported")
    parser.add_argument("--device", choices=DEVICES, default="workstation", help="the kind of device that will connect")
    parser.add_argument("--no-ask", action="store_true", help="do not ask the gateways; use the profiles only")
    parser.add_argument("--timeout", type=float, default=3.0, metavar="SECONDS", help="per gateway (3)")


def run(args: Namespace, context: Context) -> AdviceResult:
    """One profile in detail, many as a table."""
    profiles = _profiles(args, context)
    policy = context.policy()
    asked: list[ProbeResult] = [ProbeResult("", None)] * len(profiles)
    if not args.no_ask:
        with context.reporter.progress("asking gateways") as progress:
            asked = probe_gateways(profiles, args.timeout, lambda count: progress(count, len(profiles)))
    costs = measure_costs()
    device = DEVICES[args.device]
    rows: list[Advice] = []
    for profile, one in zip(profiles, asked, strict=True):
        host = profile.gateway.addresses[0] if profile.gateway.addresses else ""
        gateway = f"{host} ({one.address})" if one.address not in ("", host) else host
        rows.append(advise(profile, policy, device, costs, one.capabilities, asked=not args.no_ask, gateway=gateway))
    ways = _ways(args, profiles[0], policy, context) if len(profiles) == 1 and not args.no_ask else ()
    silent = {profile.name: one.why for profile, one in zip(profiles, asked, strict=True) if one.why}
    return AdviceResult(tuple(rows), policy.name, device.words, silent, ways)


def _ways(args: Namespace, profile: Profile, policy: Policy, context: Context) -> tuple[WayAnswer, ...]:
    """The gateway by every protocol and transport."""
    wanted = every_way(profile)
    with context.reporter.progress("asking by every protocol") as progress:
        asked = probe_gateways(wanted, args.timeout, lambda count: progress(count, len(wanted)), is_brief=True)
    known = DEVICES[args.device].protocols
    pairs = zip(wanted, asked, strict=True)
    return tuple(answer_of(way, one.capabilities, one.why, policy, known) for way, one in pairs)


def _profiles(args: Namespace, context: Context) -> list[Profile]:
    if args.gateway:
        if args.word or args.kit:
            raise UsageError("--gateway cannot be combined with profiles", why="there is no profile of it")
        return [Profile(args.gateway, Gateway((args.gateway,)), settings=IkeSettings())]
    if args.kit:
        given = Namespace(kit=[args.kit], provider="", kit_passphrase_file=None, account="", authority=None, place=[])
        found = [entry.profile for entry in read_arguments(given, context).profiles]
        words = [word.casefold() for word in args.word]
        found = [one for one in found if all(word in f"{one.name} {one.place}".casefold() for word in words)]
    else:
        with context.layered_store() as layered_store:
            rows = layered_store.profile_texts(layered_store.list_profiles(args.word, **filters(args)))
        found = [read_profile(text, f"profile {row.name} ({whom})") for row, text, whom in rows]
    if not found:
        raise NotFound("no profile matches")
    return found
