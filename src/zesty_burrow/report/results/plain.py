"""Results that are hardly more than a sentence, or nothing at all."""

from __future__ import annotations

from typing import Any, ClassVar

from zesty_burrow.records import dataclass
from zesty_burrow.report.results.base import Result


@dataclass(frozen=True)
class Silent(Result):
    """Nothing to say but an exit code: the command that was run has spoken for itself."""

    code: int = 0
    shown_by: ClassVar[str] = "plain"
    kind: ClassVar[str] = "silent"

    @property
    def exit_code(self) -> int:
        return self.code


@dataclass(frozen=True)
class TextResult(Result):
    """Lines that are meant for another program."""

    text: str
    shown_by: ClassVar[str] = "plain"
    kind: ClassVar[str] = "text"


@dataclass(frozen=True)
class MessageResult(Result):
    """A sentence, where there is nothing more to say."""

    message: str
    code: int = 0
    shown_by: ClassVar[str] = "plain"
    kind: ClassVar[str] = "message"

    @property
    def exit_code(self) -> int:
        return self.code

    def content(self) -> dict[str, Any]:
        return {"message": self.message}
