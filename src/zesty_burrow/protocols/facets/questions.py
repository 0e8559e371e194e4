"""What ``zesty create`` asks about a protocol, and how answers become settings."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Protocol

from zesty_burrow.core.identity import Identity
from zesty_burrow.core.profile import ProtocolSettings, SignIn
from zesty_burrow.records import dataclass, field

Answers = Mapping[str, str]


@dataclass(frozen=True, slots=True)
class Question:
    """One field. ``check`` gives the answer as it is kept, or raises ``ValueError`` with the reason.

    ``file``: the answer is a path, whose content is looked into; ``lookup``: a host name that should resolve.
    """

    key: str
    ask: str
    meaning: str
    source: str
    check: Callable[[str], str] = str.strip
    default: Callable[[Answers], str] = field(default=lambda _: "")
    applies: Callable[[Answers], bool] = field(default=lambda _: True)
    optional: bool = False
    choices: tuple[str, ...] = ()
    file: bool = False
    lookup: bool = False

    def take(self, text: str) -> str:
        """The answer as it is kept. Raises ``ValueError`` with the reason if it does not fit."""
        plain = text.strip().strip("\u200b\ufeff")
        if not plain:
            if self.optional:
                return ""
            raise ValueError("an answer is needed")
        if self.choices:
            fitting = [choice for choice in self.choices if choice.startswith(plain.casefold())]
            if len(fitting) != 1:
                raise ValueError(f"it is one of {', '.join(self.choices)}")
            return fitting[0]
        return self.check(plain)


class QuestionFacet(Protocol):
    """``introduction``: one clause for choosing the protocol. ``sign_ins``: methods by the words of the question.

    ``transports``: the default first; fewer than two are not asked about. ``questions``: asked after the port.
    """

    @property
    def introduction(self) -> str:
        """One clause."""

    @property
    def sign_ins(self) -> Mapping[str, str]:
        """Methods by ``password``, ``certificate``, ``shared-key``, ``raw-key``."""

    @property
    def why_no_other(self) -> str:
        """Why it has no other way to sign in, with the RFC."""

    @property
    def transports(self) -> tuple[str, ...]:
        """The default first."""

    @property
    def ports(self) -> Mapping[str, int]:
        """The default port by transport."""

    @property
    def questions(self) -> tuple[Question, ...]:
        """Of this protocol alone."""

    def settings(self, answers: Answers, identity: Identity) -> ProtocolSettings:
        """From whole answers."""

    def sign_in(self, answers: Answers) -> SignIn:
        """From whole answers."""
