"""``zesty completion``: let the shell complete commands, options and names; and write manual pages."""

from __future__ import annotations

import importlib
import tomllib
from argparse import SUPPRESS, ArgumentParser, Namespace, _SubParsersAction
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path
from typing import Any

from zesty_burrow.commands import COMMANDS
from zesty_burrow.commands.context import Context
from zesty_burrow.errors import BurrowError, UsageError
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.plain import MessageResult, TextResult

EXAMPLE = "zesty completion bash > ~/.local/share/bash-completion/completions/zesty"
TAKES = {
    "names": ("show", "rename", "tag", "export", "remove", "connect", "choose", "change", "ready", "rehearse", "advise",
              "disconnect", "support", "status", "startup"),
    "devices": ("devices", "hand-over", "links"),
    "codes": ("explain",),
    "commands": ("help",),
    "fields": (),
}  # fmt: skip
"""What the words of a command are: of profiles, devices, findings and errors. ``fields``: after an option."""
FIELDS_AFTER = ("--set", "--unset")
MAX_NAMES = 2000
SHELLS = ("bash", "zsh", "fish")
MANUAL = "man"


def add_arguments(parser: ArgumentParser) -> None:
    parser.add_argument(
        "what", choices=(*SHELLS, MANUAL, *TAKES), help="the shell to write a script for; manual pages; or words alone"
    )
    parser.add_argument("prefix", nargs="?", default="", help="only words that begin like this")
    parser.add_argument("--to", type=Path, metavar="FOLDER", help=f"for {MANUAL}: where to write the pages")


def run(args: Namespace, context: Context) -> Result:
    """A script for the shell, manual pages, or words, one on a line."""
    if args.what == MANUAL:
        return _manual(args.to)
    if args.what in TAKES:
        return TextResult("\n".join(_words(args.what, args.prefix, context)))
    return TextResult(_fish() if args.what == "fish" else _bash(zsh=args.what == "zsh"))


def _manual(to: Path | None) -> Result:
    from zesty_burrow.commands.manual import pages
    from zesty_burrow.host.replace_file import write_file

    if to is None:
        raise UsageError("where do the pages go?", next_step="Run: zesty completion man --to ~/.local/share/man/man1")
    to = to.expanduser()
    to.mkdir(parents=True, exist_ok=True)
    count = 0
    for name, text in pages():
        write_file(to / name, text.encode())
        (to / name).chmod(0o644)
        count += 1
    return MessageResult(f"Wrote {count} pages to {to}. Read one: man zesty")


def _words(what: str, prefix: str, context: Context) -> list[str]:
    """This runs at each press of a key; what cannot be read gives none."""
    try:
        return [word for word in _known(what, prefix, context) if word.startswith(prefix)][:MAX_NAMES]
    except BurrowError:
        return []


def _known(what: str, prefix: str, context: Context) -> Iterable[str]:
    if what == "commands":
        return COMMANDS
    if what == "codes":
        from zesty_burrow.use_cases.codes import all_codes

        return sorted(all_codes())
    if what == "devices":
        with context.store() as store:
            return [device.name for device in store.fleet.list_devices()]
    with context.layered_store() as layered_store:
        if what == "names":
            return layered_store.names(prefix, MAX_NAMES)
        texts = layered_store.profile_texts(layered_store.list_profiles()[:MOST_READ])
        return sorted({f"{field}=" for _, text, _ in texts for field in _fields(tomllib.loads(text), "")})


def _fields(table: Mapping[str, Any], before: str) -> Iterator[str]:
    for key, value in table.items():
        if isinstance(value, Mapping):
            yield from _fields(value, f"{before}{key}.")
        elif before:
            yield f"{before}{key}"


MOST_READ = 20
"""Profiles whose fields are looked at: there are not so many kinds."""


def _words_of(name: str) -> list[str]:
    """Options and actions of a command, those of its actions as well."""
    module = importlib.import_module(f"zesty_burrow.commands.{COMMANDS[name].module}")
    parser = ArgumentParser(add_help=True)
    module.add_arguments(parser)
    return list(dict.fromkeys(["--json", "--for", "--quiet", *_all_words(parser)]))


def _all_words(parser: ArgumentParser) -> list[str]:
    words: list[str] = []
    for action in parser._actions:
        if action.help == SUPPRESS:
            continue
        words += [option for option in action.option_strings if option.startswith("--")]
        if isinstance(action, _SubParsersAction):
            words += list(action.choices)
            words += [word for choice in action.choices.values() for word in _all_words(choice)]
    return words


def _bash(*, zsh: bool) -> str:
    cases = "\n".join(f'    {name}) words="{" ".join(_words_of(name))}" ;;' for name in COMMANDS)
    kinds = "\n".join(f"    {'|'.join(names)}) kind={what} ;;" for what, names in TAKES.items() if names)
    head = "autoload -U +X bashcompinit && bashcompinit\n" if zsh else ""
    return f"""{head}_zesty_burrow() {{
  local current="${{COMP_WORDS[COMP_CWORD]}}" before="${{COMP_WORDS[COMP_CWORD-1]}}" words="" command="" kind="" i
  for ((i = 1; i < COMP_CWORD; i++)); do
    case "${{COMP_WORDS[i]}}" in -*) ;; *) command="${{COMP_WORDS[i]}}"; break ;; esac
  done
  case "$command" in
    "") words="help {" ".join(COMMANDS)}" ;;
{cases}
  esac
  case "$command" in
{kinds}
  esac
  case "$before" in {"|".join(FIELDS_AFTER)}) kind=fields; words="" ;; esac
  case "$kind:$current" in
    :*|*:-*) ;;
    devices:*) words="$words $(zesty completion devices "$current" 2>/dev/null)" ;;
    *) words="$(zesty completion "$kind" "$current" 2>/dev/null)" ;;
  esac
  COMPREPLY=($(compgen -W "$words" -- "$current"))
  if [ ${{#COMPREPLY[@]}} -eq 0 ] && [ -n "$command" ]; then COMPREPLY=($(compgen -f -- "$current")); fi
}}
complete -F _zesty_burrow zesty zesty-burrow"""


def _fish() -> str:
    lines = ["complete -c zesty -f -n __fish_use_subcommand -a 'help " + " ".join(COMMANDS) + "'"]
    for name in COMMANDS:
        options = [word for word in _words_of(name) if word.startswith("--")]
        given = " ".join(f"-l {word[2:]}" for word in options)
        lines.append(f"complete -c zesty -n '__fish_seen_subcommand_from {name}' {given}")
    for what, names in TAKES.items():
        if names:
            seen = f"__fish_seen_subcommand_from {' '.join(names)}"
            lines.append(f"complete -c zesty -f -n '{seen}' -a '(zesty completion {what} (commandline -ct))'")
    return "\n".join(lines)
