"""``zesty create``: a guided set-up that can be interrupted, and answered completely by options or a file."""

from __future__ import annotations

import tomllib
from argparse import ArgumentParser, Namespace
from pathlib import Path

from zesty_burrow.commands.context import Context
from zesty_burrow.errors import InputError
from zesty_burrow.host.files import read_bounded
from zesty_burrow.intake.dialogue import questions
from zesty_burrow.report.results.profile import CreateResult
from zesty_burrow.use_cases.profiles.create import CreateRequest, create

EXAMPLE = "zesty create --host lisbon.quillwort.example --provider 'Quillwort Relay' --credentials -"
MAX_ANSWERS = 1 << 16


def add_arguments(parser: ArgumentParser) -> None:
    """The command's words: one for each question, and where answers come from."""
    parser.add_argument("--answers", type=Path, metavar="FILE", help="a TOML file with answers, by the options' names")
    parser.add_argument("--resume", action="store_true", help="continue an interrupted set-up")
    parser.add_argument("--afresh", action="store_true", help="discard an interrupted set-up")
    parser.add_argument(
        "--credentials",
        default="",
        metavar="WHERE",
        help="a file that only you can read, - for standard input, keyring:SERVICE/NAME, or none; else asked for",
    )
    fields = parser.add_argument_group("answers, so that nothing is asked; the rest has defaults")
    for question in questions().values():
        ask = question.ask
        words = ask if ask[:2].isupper() else ask[0].lower() + ask[1:]  # "IPv6" and "MTU" stay
        fields.add_argument(f"--{question.key}", metavar="TEXT", help=words)


def run(args: Namespace, context: Context) -> CreateResult:
    """From the file, the options, and on a terminal from answers."""
    request = CreateRequest(_given(args), args.answers is not None, args.resume, args.afresh, args.credentials)
    made = create(request, context)
    return CreateResult(made.profile, made.text, made.findings, made.missing, made.slips)


def _given(args: Namespace) -> dict[str, str]:
    """Answers from the file, then from the options."""
    found: dict[str, str] = {}
    if args.answers is not None:
        data, _ = read_bounded(args.answers, MAX_ANSWERS)
        try:
            document = tomllib.loads(data.decode())
        except (tomllib.TOMLDecodeError, UnicodeDecodeError) as problem:
            raise InputError(f"{args.answers} is not TOML", why=str(problem)) from None
        for key, value in document.items():
            text = " ".join(map(str, value)) if isinstance(value, list) else str(value)
            found[key] = text
    for question in questions().values():
        value = getattr(args, question.key.replace("-", "_"))
        if value is not None:
            found[question.key] = value
    return found
