"""``zesty seal``: what the stored secrets are sealed with."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace

from zesty_burrow.commands.context import Context
from zesty_burrow.report.results.plain import MessageResult
from zesty_burrow.store.seal import METHODS, replace_setting

EXAMPLE = "zesty seal --method passphrase"


def add_arguments(parser: ArgumentParser) -> None:
    parser.add_argument("--method", choices=METHODS, help="encrypt all secrets with this method (show the current one)")


def run(args: Namespace, context: Context) -> MessageResult:
    """Encrypt every secret again in one transaction, then remember the method."""
    method = context.settings().seal
    if args.method is None:
        return MessageResult(f"Secrets are encrypted with: {method}.")
    with context.store() as store:
        count = store.reseal(context.seal(args.method, store))
    context.paths.make(context.paths.config)
    replace_setting(context.paths.settings, "seal", args.method)
    return MessageResult(f"Encrypted {count} secrets with: {args.method}.")
