"""Options that every command has."""

from __future__ import annotations

TYPE_CHECKING = False
if TYPE_CHECKING:
    import argparse
    from pathlib import Path
    from typing import Any

COMMON = ("json", "debug", "json_file", "passphrase_file", "whom", "quiet")


def _path(text: str) -> Path:
    from pathlib import Path

    return Path(text)


_path.__name__ = "path"  # argparse shows it in its errors


def add_common(parser: argparse.ArgumentParser, **default: Any) -> None:
    """After a command's own. ``default``: what holds where the option is not given, other than argparse's own."""
    add = parser.add_argument_group("options of every command").add_argument
    add("--json", action="store_true", help="one JSON document on standard output", **default)
    add("--json-file", type=_path, metavar="FILE", help="write the JSON document to FILE as well", **default)
    text = "read the store's passphrase from FILE instead of asking"
    add("--passphrase-file", type=_path, metavar="FILE", help=text, **default)
    text = "use your own store (me) or the machine's, which every user may use; the default for root is machine"
    add("--for", dest="whom", choices=("me", "machine"), help=text, **default)
    text = "log more details; show a trace with an error"
    add("--debug", action="store_true", help=text, **default)
    text = "print the result and errors alone, not what happens on the way"
    add("--quiet", action="store_true", help=text, **default)
