"""``zesty explain``: what a code means and what to do."""

from __future__ import annotations

import difflib
from argparse import ArgumentParser, Namespace

from zesty_burrow import errors
from zesty_burrow.commands.context import Context
from zesty_burrow.core.finding import CODES, Code, Severity
from zesty_burrow.errors import BurrowError, NotFound
from zesty_burrow.report.results.kits import ExplainResult

EXAMPLE = "zesty explain dns-leak"


def add_arguments(parser: ArgumentParser) -> None:
    """The command's words."""
    parser.add_argument("code", nargs="?", help="a finding's or an error's code; none: list them all")


def all_codes() -> dict[str, Code]:
    """Findings, and errors as codes."""
    rows = dict(CODES)
    kinds = [kind for kind in vars(errors).values() if isinstance(kind, type) and issubclass(kind, BurrowError)]
    for kind in kinds:
        title = (kind.__doc__ or "").strip().splitlines()[0]
        why = f"The command ends with exit code {kind.exit_code}."
        rows.setdefault(kind.slug, Code(kind.slug, Severity.SERIOUS, title, why, kind.next_step))
    return rows


def run(args: Namespace, context: Context) -> ExplainResult:
    """One code, or all of them."""
    rows = all_codes()
    if args.code is None:
        return ExplainResult(tuple(rows[slug] for slug in sorted(rows)))
    if args.code not in rows:
        near = difflib.get_close_matches(args.code, rows, 3)
        why = f"near it: {', '.join(near)}" if near else ""
        raise NotFound(f"there is no code {args.code!r}", why=why, next_step="`zesty explain` lists them all.")
    return ExplainResult((rows[args.code],))
