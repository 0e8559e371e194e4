"""``zesty completion``: let the shell complete commands, options and profiles' names."""

from __future__ import annotations

import importlib
from argparse import SUPPRESS, ArgumentParser, Namespace, _SubParsersAction

from zesty_burrow.commands import COMMANDS
from zesty_burrow.commands.context import Context
from zesty_burrow.errors import BurrowError
from zesty_burrow.report.results.plain import TextResult

EXAMPLE = "zesty completion bash > ~/.local/share/bash-completion/completions/zesty"
TAKE_NAMES = ("show", "rename", "tag", "export", "remove", "connect")
MAX_NAMES = 2000
SHELLS = ("bash", "zsh", "fish")


def add_arguments(parser: ArgumentParser) -> None:
    parser.add_argument("what", choices=(*SHELLS, "names"), help="the shell to write a script for; or names alone")
    parser.add_argument("prefix", nargs="?", default="", help="only names that begin like this")


def run(args: Namespace, context: Context) -> TextResult:
    """A script for the shell, or the names, one on a line."""
    if args.what == "names":
        return TextResult("\n".join(_names(args.prefix, context)))
    return TextResult(_fish() if args.what == "fish" else _bash(zsh=args.what == "zsh"))


def _names(prefix: str, context: Context) -> list[str]:
    """This runs at each press of a key; what cannot be read gives none."""
    try:
        with context.layered_store() as layered_store:
            return layered_store.names(prefix, MAX_NAMES)
    except BurrowError:
        return []


def _words_of(name: str) -> list[str]:
    """Options and actions of a command."""
    module = importlib.import_module(f"zesty_burrow.commands.{COMMANDS[name].module}")
    parser = ArgumentParser(add_help=True)
    module.add_arguments(parser)
    words: list[str] = ["--json", "--for"]
    for action in parser._actions:
        if action.help == SUPPRESS:
            continue
        words += [option for option in action.option_strings if option.startswith("--")]
        if isinstance(action, _SubParsersAction):
            words += list(action.choices)
    return words


def _bash(*, zsh: bool) -> str:
    cases = "\n".join(f'    {name}) words="{" ".join(_words_of(name))}" ;;' for name in COMMANDS)
    head = "autoload -U +X bashcompinit && bashcompinit\n" if zsh else ""
    return f"""{head}_zesty_burrow() {{
  local current="${{COMP_WORDS[COMP_CWORD]}}" words="" command="" i
  for ((i = 1; i < COMP_CWORD; i++)); do
    case "${{COMP_WORDS[i]}}" in -*) ;; *) command="${{COMP_WORDS[i]}}"; break ;; esac
  done
  case "$command" in
    "") words="{" ".join(COMMANDS)}" ;;
{cases}
  esac
  case " {" ".join(TAKE_NAMES)} " in
    *" $command "*) case "$current" in -*) ;; *) words="$(zesty completion names "$current" 2>/dev/null)" ;; esac ;;
  esac
  COMPREPLY=($(compgen -W "$words" -- "$current"))
  if [ ${{#COMPREPLY[@]}} -eq 0 ] && [ -n "$command" ]; then COMPREPLY=($(compgen -f -- "$current")); fi
}}
complete -F _zesty_burrow zesty zesty-burrow"""


def _fish() -> str:
    lines = ["complete -c zesty -f -n __fish_use_subcommand -a '" + " ".join(COMMANDS) + "'"]
    for name in COMMANDS:
        options = [word for word in _words_of(name) if word.startswith("--")]
        given = " ".join(f"-l {word[2:]}" for word in options)
        lines.append(f"complete -c zesty -n '__fish_seen_subcommand_from {name}' {given}")
    names = " ".join(TAKE_NAMES)
    lines.append(
        f"complete -c zesty -f -n '__fish_seen_subcommand_from {names}' -a '(zesty completion names (commandline -ct))'"
    )
    return "\n".join(lines)
