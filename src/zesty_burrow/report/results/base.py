"""What a command gives back: data first. Text and JSON are two renderings of it."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, ClassVar

from zesty_burrow.records import asdict, dataclass

if TYPE_CHECKING:
    # Types alone: a command that needs none of these rooms must not wait for them.
    pass

FORMAT = 1
EXIT_LEAKING, EXIT_UNCLEAR, EXIT_NOT_ALL_FIT = 10, 11, 12
EXIT_PARTIAL, EXIT_BLOCKED, EXIT_DOWN, EXIT_LEFT_OVER = 20, 21, 22, 23
EXIT_NOT_READY = 24
EXIT_NOTHING = 3
"""As an input that cannot be used."""
EXIT_INTERRUPTED = 130


@dataclass(frozen=True)
class Result:
    """Base of all results; ``kind`` names the document, ``shown_by`` the module of ``report.texts`` that shows it."""

    shown_by: ClassVar[str] = ""
    kind: ClassVar[str] = ""

    @property
    def exit_code(self) -> int:
        """What the program ends with."""
        return 0

    def content(self) -> dict[str, Any]:
        return asdict(self)

    def document(self) -> dict[str, Any]:
        return {"format": FORMAT, "result": self.kind, **self.content()}
