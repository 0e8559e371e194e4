"""What a use case can say and ask while it runs. A terminal, a script or a test implements it."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import AbstractContextManager, nullcontext
from typing import TYPE_CHECKING, Protocol

if TYPE_CHECKING:
    from zesty_burrow.carrier.control.status import StepReport

Progress = Callable[[int, int], None]
"""Called with how much is done, and of how much."""


class Interaction(Protocol):
    """A terminal, a script or a test."""

    @property
    def can_ask(self) -> bool:
        """Whether somebody can answer a question."""

    @property
    def can_ask_secret(self) -> bool:
        """Whether somebody can type a secret."""

    def ask(self, question: str) -> str:
        """The answer without blanks around it; empty if nobody answers."""

    def ask_or_end(self, question: str) -> str:
        """The answer as it was typed. Raises ``EOFError`` if nobody answers."""

    def ask_secret(self, question: str) -> str:
        """The answer, typed without echo; empty if nobody answers."""

    def step(self, done: StepReport) -> None:
        """A step of a connection is done."""

    def pause(self) -> None:
        """Something else writes to the terminal next: remove what :meth:`progress` shows."""

    def note(self, text: str, style: str = "") -> None:
        """Say a sentence while the work goes on."""

    def progress(self, title: str) -> AbstractContextManager[Progress]:
        """Show how far a long piece of work is."""


class Unattended:
    """Nobody answers and nobody reads: for scripts."""

    can_ask = False
    can_ask_secret = False

    def ask(self, question: str) -> str:
        """Empty."""
        return ""

    def ask_or_end(self, question: str) -> str:
        """Raises ``EOFError``."""
        raise EOFError

    def ask_secret(self, question: str) -> str:
        """Empty."""
        return ""

    def step(self, done: StepReport) -> None:
        """Discard the step."""

    def pause(self) -> None:
        """Nothing is shown."""

    def note(self, text: str, style: str = "") -> None:
        """Discard the sentence."""

    def progress(self, title: str) -> AbstractContextManager[Progress]:
        return nullcontext(lambda _done, _all: None)
