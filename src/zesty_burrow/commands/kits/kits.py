"""The options that ``inspect`` and ``import`` share."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace
from pathlib import Path

from zesty_burrow.commands.context import Context
from zesty_burrow.use_cases.kits.portal import PortalRequest
from zesty_burrow.use_cases.kits.read import KitRequest


def add_kit_arguments(parser: ArgumentParser) -> None:
    """Which kits, and what they do not say themselves."""
    parser.add_argument(
        "kit",
        nargs="+",
        help="a file, folder, archive, mail or picture from a provider; https://… for a portal; - for pasted text; "
        "what is given side by side is read together",
    )
    parser.add_argument("--provider", default="", help="the provider, where the kit does not name it")
    parser.add_argument(
        "--kit-passphrase-file",
        type=Path,
        metavar="FILE",
        help="read the passphrases of archives, keys and sealed credentials in the kit from FILE, one in each line, "
        "instead of asking",
    )
    portal = parser.add_argument_group("for a provider's portal (https://…)")
    portal.add_argument(
        "--account", metavar="FILE", default="", help="a file of two lines: the account and password for the portal"
    )
    portal.add_argument("--authority", metavar="FILE", help="the certificate authority of the portal")
    portal.add_argument("--place", action="append", default=[], help="only this place's settings; may be repeated")


def kit_request(args: Namespace, context: Context, *, profile: str = "", device: str = "") -> KitRequest:
    """The request that the options describe."""
    return KitRequest(
        tuple(args.kit),
        args.provider,
        profile,
        device,
        args.kit_passphrase_file or context.passphrase_file,
        PortalRequest(args.account, args.authority or "", tuple(args.place)),
    )
