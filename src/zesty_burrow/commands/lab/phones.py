"""``zesty lab phone`` and ``zesty lab press``: the lab's phones in their owners' hands, and the keys of its box."""

from __future__ import annotations

from argparse import Namespace
from pathlib import Path
from typing import Any

from zesty_burrow.commands.context import Context
from zesty_burrow.errors import UsageError
from zesty_burrow.lab import story
from zesty_burrow.lab.client import LabClient
from zesty_burrow.lab.devices.screen import KEYS
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.lab import PhoneResult, ScreenResult

ACTIONS = ("phone", "press")
LONGEST_LINK = 4096
ON_PHONE = {
    "show": "what its screen shows",
    "open": "its owner opens the link in the file, agrees, and fills the form by what the page gives",
    "on": "switch its tunnel on",
    "off": "switch it off",
    "check": "its owner looks at the check page",
    "forget": "take everything from it that was set up",
}


def add_arguments(actions: Any) -> None:
    """Both actions' words."""
    text = "what a phone's owner does with it"
    phone = actions.add_parser("phone", help=text, description=f"{text[:1].upper()}{text[1:]}.")
    phone.add_argument("host", choices=story.PHONES, help=", ".join(story.PHONES))
    words = "; ".join(f"{name}: {what}" for name, what in ON_PHONE.items())
    phone.add_argument("what", nargs="?", choices=tuple(ON_PHONE), default="show", metavar="WHAT", help=words)
    phone.add_argument("--link", type=Path, metavar="FILE", help="for open: NAME.link.txt of `zesty hand-over --to`")
    text = "press keys of the set-top box, and show its screen"
    press = actions.add_parser("press", help=text, description=f"{text[:1].upper()}{text[1:]}.")
    press.add_argument("keys", nargs="*", metavar="KEY", help=", ".join(KEYS))


def run(args: Namespace, context: Context, client: LabClient) -> Result:
    """Do it, and show what is on the screen then."""
    if args.action == "press":
        return ScreenResult(story.BOX, client.press(args.keys))
    host, seen = args.host, {}
    if args.what == "open":
        link = _link(args.link)
        seen = client.as_owner(host, lambda owner: owner.open_link(link), context.reporter.note)
    elif args.what == "check":
        seen = client.as_owner(host, lambda owner: owner.look(), context.reporter.note)
    elif args.what in ("on", "off"):
        client.phone(host, "switch", on=args.what == "on")
    elif args.what == "forget":
        client.phone(host, "forget")
    return PhoneResult(host, client.phone(host, "screen"), seen, args.what in ("show", "open"))


def _link(path: Path | None) -> str:
    from zesty_burrow.host.files import read_bounded

    if path is None:
        raise UsageError("no link to open", next_step="Name its file: --link plover.link.txt")
    link = read_bounded(path, LONGEST_LINK)[0].decode("utf-8", "replace").strip()
    if not link.startswith("https://") or "#" not in link:
        raise UsageError(f"{path} has no link in it", next_step="`zesty hand-over … --link URL --to FOLDER` writes it.")
    return link
