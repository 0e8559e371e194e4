"""Manual pages (man(7)), made from the parsers: one for the program, one for each command."""

from __future__ import annotations

import importlib
from argparse import SUPPRESS, Action, ArgumentParser, _SubParsersAction
from collections.abc import Iterator

from zesty_burrow import __version__
from zesty_burrow.commands import COMMANDS
from zesty_burrow.commands.options import add_common

EXIT_CODES = (
    ("0", "it worked"), ("2", "the words do not fit together"), ("3", "an input cannot be taken"),
    ("4", "the state does not allow it"), ("5", "this machine lacks something"),
    ("6 to 9", "gateway, proof, sign-in or observatory"),
    ("10, 11", "leaking; unclear, or attention is needed"), ("130", "interrupted"),
)  # fmt: skip


def pages() -> Iterator[tuple[str, str]]:
    """Names of files and their texts."""
    yield "zesty.1", _program()
    for name, command in COMMANDS.items():
        yield f"zesty-{name}.1", _command(name, command.summary)


def _parser(name: str) -> tuple[ArgumentParser, str]:
    module = importlib.import_module(f"zesty_burrow.commands.{COMMANDS[name].module}")
    parser = ArgumentParser(prog=f"zesty {name}")
    module.add_arguments(parser)
    add_common(parser)
    return parser, module.EXAMPLE


def _head(name: str, summary: str) -> list[str]:
    title = name.upper().replace("-", r"\-")
    head = [f'.TH "{title}" "1" "" "zesty-burrow {__version__}" "Zesty Burrow"', ".SH NAME"]
    return [*head, rf"{_text(name)} \- {_text(summary)}"]


def _program() -> str:
    lines = _head("zesty", "bring VPN settings in, connect over open standards, prove that nothing leaks")
    lines += [".SH SYNOPSIS", r".B zesty", r"[\fICOMMAND\fR \fI\[u2026]\fR]", ".SH DESCRIPTION"]
    lines += ["Without a command it says where things stand, and what comes next.", ".SH COMMANDS"]
    for name, command in COMMANDS.items():
        lines += [".TP", rf".B {_text(name)}", f"{_text(command.summary)}; see \\fBzesty\\-{_text(name)}\\fR(1)"]
    lines += [".SH EXIT STATUS"]
    for code, words in EXIT_CODES:
        lines += [".TP", f".B {_text(code)}", _text(words)]
    return "\n".join([*lines, ""])


def _command(name: str, summary: str) -> str:
    parser, example = _parser(name)
    lines = [*_head(f"zesty-{name}", summary), ".SH SYNOPSIS"]
    lines += [_text(" ".join(parser.format_usage().removeprefix("usage: ").split()))]
    lines += [".SH DESCRIPTION", f"{_text(summary[:1].upper() + summary[1:])}.", ".SH OPTIONS", *_options(parser)]
    for action in parser._actions:
        if isinstance(action, _SubParsersAction):
            for word, choice in action.choices.items():
                lines += [f'.SS "{_text(name)} {_text(word)}"', *_options(choice)]
    lines += [".SH EXAMPLE", ".nf", _text(example), ".fi", ".SH SEE ALSO", r"\fBzesty\fR(1)"]
    return "\n".join([*lines, ""])


def _options(parser: ArgumentParser) -> Iterator[str]:
    for action in parser._actions:
        if action.help == SUPPRESS:
            continue
        yield ".TP"
        yield rf"\fB{_text(_called(action))}\fR"
        yield _text(parser._get_formatter()._expand_help(action) if action.help else "see below")


def _called(action: Action) -> str:
    usual = action.dest.upper() if action.option_strings else action.dest
    value = "" if action.nargs == 0 else str(action.metavar or usual)
    if not action.option_strings:
        return value
    return ", ".join(action.option_strings) + (f" {value}" if value else "")


def _text(words: str) -> str:
    """As roff takes it: no line of it is a request, and hyphens stay hyphens."""
    escaped = words.replace("\\", r"\e").replace("-", r"\-").replace("\n", " ")
    escaped = "".join(letter if letter.isascii() else rf"\[u{ord(letter):04X}]" for letter in escaped)
    return rf"\&{escaped}" if escaped.startswith((".", "'")) else escaped
