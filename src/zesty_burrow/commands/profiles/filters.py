"""The options that say which profiles are meant."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace

from zesty_burrow.use_cases.profiles.find import ProfileFilter


def add_filters(parser: ArgumentParser) -> None:
    """Words and options by which profiles are found."""
    text = "profiles with all of these in name, place (in any usual spelling), provider, protocol or tags"
    parser.add_argument("word", nargs="*", help=text)
    parser.add_argument(
        "--place", default="", help="in this city or country, in any usual spelling, or its two letters"
    )
    parser.add_argument("--provider", default="", help="of this provider")
    parser.add_argument("--protocol", default="", help="with this protocol")
    parser.add_argument("--tag", default="", help="with this tag")


def read_filters(args: Namespace) -> ProfileFilter:
    """What the options of ``add_filters`` ask for."""
    return ProfileFilter(tuple(args.word), args.place, args.provider, args.protocol, args.tag)
