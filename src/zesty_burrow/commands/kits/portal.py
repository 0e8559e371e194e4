"""``zesty portal``: look at a provider's portal; ``import`` and ``inspect`` take its address as a kit."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace

from zesty_burrow.commands.context import Context
from zesty_burrow.records import asdict
from zesty_burrow.report.results.kits import PlacesResult
from zesty_burrow.use_cases.kits.portal import PortalRequest, list_places

EXAMPLE = "zesty portal https://portal.quillwort.example/ --account portal-account.txt"
SORTS = ("load", "country", "city", "name")


def add_arguments(parser: ArgumentParser) -> None:
    parser.add_argument("url", help="the portal's address, https://…")
    parser.add_argument("--account", metavar="FILE", default="", help="two lines: account and password for the portal")
    parser.add_argument("--authority", metavar="FILE", help="the authority of the portal's certificate")
    parser.add_argument("--sort", choices=SORTS, default="load", help="how the places are sorted (load)")


def run(args: Namespace, context: Context) -> PlacesResult:
    """Its places and what it recommends."""
    listed = list_places(args.url, PortalRequest(args.account, args.authority or ""), context)
    places = sorted(listed.places, key=lambda place: (getattr(place, args.sort), place.name))
    return PlacesResult(args.url, tuple(map(asdict, places)), listed.recommended, listed.reason)
