"""Results that are hardly more than a sentence, as they are."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from zesty_burrow.report.layout import Verbatim
from zesty_burrow.report.parts import Parts
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.plain import MessageResult, TextResult


def _text(result: TextResult) -> Parts:
    """For another program: nothing is wrapped or coloured."""
    yield Verbatim(result.text)


def _message(result: MessageResult) -> Parts:
    yield result.message


RENDERERS: dict[type[Result], Callable[[Any], Parts]] = {TextResult: _text, MessageResult: _message}
