"""The simulated internet."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, ClassVar

from zesty_burrow.records import asdict, dataclass
from zesty_burrow.report.results.base import Result

if TYPE_CHECKING:
    from zesty_burrow.lab.wire.watch import Seen


@dataclass(frozen=True)
class LabResult(Result):
    """``lab start`` and ``lab status``."""

    status: dict[str, Any]
    kit: str
    shown_by: ClassVar[str] = "lab"
    kind: ClassVar[str] = "lab"


@dataclass(frozen=True)
class WatchResult(Result):
    """``lab watch``: what the workstation has sent in so many seconds."""

    seconds: float
    rows: tuple[Seen, ...]
    shown_by: ClassVar[str] = "lab"
    kind: ClassVar[str] = "watch"

    def content(self) -> dict[str, Any]:
        return {"seconds": self.seconds, "rows": [asdict(row) for row in self.rows]}


@dataclass(frozen=True)
class PhoneResult(Result):
    """``lab phone``: what the phone's screen shows; ``seen``: what its owner has seen on a page, if there was one.

    ``with_form``: the text for people shows the form, too.
    """

    host: str
    status: dict[str, Any]
    seen: dict[str, Any]
    with_form: bool
    shown_by: ClassVar[str] = "lab"
    kind: ClassVar[str] = "phone"

    def content(self) -> dict[str, Any]:
        return {"host": self.host, "status": self.status, "seen": self.seen}


@dataclass(frozen=True)
class ScreenResult(Result):
    """``lab press``: the lines on the box's screen."""

    host: str
    lines: tuple[str, ...]
    shown_by: ClassVar[str] = "lab"
    kind: ClassVar[str] = "screen"
