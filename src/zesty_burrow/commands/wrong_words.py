"""What a wrong word on the command line may have meant. Loaded only where a word is wrong."""

from __future__ import annotations

import shlex
from collections.abc import Collection, Sequence

from zesty_burrow.commands import COMMANDS
from zesty_burrow.errors import BurrowError, UsageError
from zesty_burrow.nearest import nearest

OTHER_WORDS = {
    "up": "connect", "start": "connect", "on": "connect", "dial": "connect", "switch": "connect",
    "down": "disconnect", "stop": "disconnect", "off": "disconnect", "end": "disconnect", "kill": "disconnect",
    "ls": "list", "profiles": "list", "places": "list", "servers": "list", "gateways": "list", "locations": "list",
    "info": "show", "view": "show", "cat": "show", "details": "show",
    "rm": "remove", "delete": "remove", "del": "remove", "uninstall": "remove", "forget": "remove",
    "mv": "rename", "new": "create", "setup": "create", "install": "import", "load": "import", "open": "inspect",
    "read": "inspect", "edit": "change", "set": "change", "config": "change", "configure": "change",
    "settings": "change", "update": "import", "refresh": "import", "revert": "undo", "back": "undo", "save": "export",
    "backup": "export", "login": "credentials", "logout": "credentials", "passwd": "credentials",
    "password": "credentials", "user": "credentials", "account": "credentials", "secrets": "credentials",
    "test": "verify", "check": "verify", "leak": "verify", "leaks": "verify", "leaktest": "verify", "ip": "verify",
    "whoami": "verify", "prove": "verify", "state": "status", "stat": "status", "log": "status", "logs": "status",
    "firewall": "guard", "lock": "guard", "block": "guard", "fix": "restore", "repair": "restore", "reset": "restore",
    "autostart": "startup", "boot": "startup", "enable": "startup", "disable": "startup", "service": "startup",
    "device": "devices", "phone": "devices", "phones": "devices", "fleet": "devices", "push": "hand-over",
    "send": "hand-over", "deploy": "hand-over", "share": "hand-over", "qr": "hand-over", "link": "links",
    "enroll": "enrol", "register": "enrol", "accept": "receive", "pull": "receive", "why": "explain",
    "doctor": "ready", "diagnose": "ready", "try": "rehearse", "speed": "rehearse", "speedtest": "rehearse",
    "ping": "rehearse", "compare": "advise", "recommend": "advise", "ciphers": "advise", "man": "help", "?": "help",
    "usage": "help", "watch": "monitor", "alerts": "monitor", "report-bug": "support", "debug": "support",
    "version": "--version",
}  # fmt: skip
"""Words of the trade, and of other programs of the system, for what a command of ours does."""
OTHER_OPTIONS = {
    "--background": "--detach", "--daemon": "--detach", "--bg": "--detach", "--no-wait": "--detach",
    "--test": "--verify", "--check": "--verify", "--verbose": "--debug", "-v": "--debug", "-d": "--debug",
    "-q": "--quiet", "--silent": "--quiet", "-y": "--yes", "--force": "--yes", "--assume-yes": "--yes",
    "--output": "--to", "-o": "--to", "--out": "--to", "--file": "--from", "-f": "--from", "--input": "--from",
    "--dns": "--name-servers", "--nameserver": "--name-servers", "--cipher": "--encryption", "--proto": "--protocol",
    "--kill-switch": "--guard", "--killswitch": "--guard", "--firewall": "--guard", "--lan": "--local-networks",
    "--retry": "--keep-trying", "--reconnect": "--keep-trying", "--follow": "--watch", "--server": "--gateway",
    "--host": "--gateway", "--log-file": "--log", "--logs": "--log", "--try": "--dry-run", "--simulate": "--dry-run",
    "--csv-file": "--csv", "--html": "--page", "--qr": "--link", "--system": "--for", "--user": "--for",
}  # fmt: skip
NAMES_ITSELF = ("--country", "--city", "--place", "--location", "--profile", "--name", "--server", "--to")
"""What follows one of these is a name for a command that takes names."""


def unknown_command(word: str, words: Sequence[str]) -> UsageError:
    """``words``: the whole command line."""
    meant = OTHER_WORDS.get(word.casefold())
    near = (meant,) if meant else nearest(word, COMMANDS)
    return _error(f"there is no command {word!r:.60}", word, near, words, "zesty help")


def wrong_choice(what: str, value: str, choices: Collection[str], prog: str) -> UsageError:
    """The error for a value that is not among the choices."""
    known = list(map(str, choices))
    error = UsageError(
        f"{what}: {value!r:.60} cannot be chosen",
        why=f"it is one of {', '.join(known)}" if len(known) <= MOST_NAMED else "",
        next_step=f"See `{prog} --help`.",
    )
    error.instead = (value, nearest(value, known))
    return error


MOST_NAMED = 24


def unknown_options(
    extra: Sequence[str], known: Collection[str], prog: str, words: Sequence[str], *, takes_name: bool
) -> UsageError:
    """``extra``: what nothing takes, in order; ``known``: the options of the command."""
    option, _, value = extra[0].partition("=")
    if not option.startswith("-"):
        what = f"{option!r:.60} is more than the command takes"
        return UsageError(what, next_step=f"See `{prog} --help`.")
    if takes_name and option in NAMES_ITSELF and option not in known:
        error = UsageError(
            f"there is no option {option}",
            why="a profile is named by itself: its name, a city, or a country's two letters",
            next_step=f"See `{prog} --help`.",
        )
        left = _with_name(words, extra[0], value)
        if len(left) > 1:
            error.next_step = f"Run: {shlex.join(['zesty', *left])}"
        return error
    meant = OTHER_OPTIONS.get(option, "")
    near = (meant,) if meant in known else nearest(option, [one for one in known if one.startswith("--")])
    what = f"there is no option {option:.60}"
    return _error(what, option, near, words, f"{prog} --help")


def _with_name(words: Sequence[str], option: str, name: str) -> list[str]:
    """The words without an option; a name that was given with it stands in its place."""
    at = list(words).index(option)
    return [*words[:at], *([name] if name else []), *words[at + 1 :]]


def _error(what: str, word: str, near: tuple[str, ...], words: Sequence[str], see: str) -> UsageError:
    error = UsageError(what, next_step=f"See `{see}`.")
    error.instead = (word, near)
    return error


def suggest(error: BurrowError, words: Sequence[str]) -> None:
    """Put command lines that can be pasted into an error that knows what a word may have meant."""
    word, near = error.instead
    lines = corrected(words, word, near)
    if len(lines) == 1:
        error.next_step = f"Run: {lines[0]}"
    elif lines:
        error.next_step = "Run one of:\n" + "\n".join(f"  {line}" for line in lines)
    elif near:
        error.next_step = f"Is it {', '.join(near)}? {error.next_step}"


def corrected(words: Sequence[str], word: str, near: Sequence[str]) -> list[str]:
    """The command line with each of the near words in place of the wrong one, to be pasted."""
    lines = []
    for one in near:
        changed = [one if given == word else given for given in words]
        if changed == list(words):
            changed = [one + given[len(word) :] if given.startswith(f"{word}=") else given for given in words]
        if changed != list(words):
            lines.append(shlex.join(["zesty", *changed]))
    return lines
