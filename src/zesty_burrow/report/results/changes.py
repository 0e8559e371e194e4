"""What was changed, removed, kept or written."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, ClassVar

from zesty_burrow.records import asdict, dataclass
from zesty_burrow.report.results.base import Result

if TYPE_CHECKING:
    from zesty_burrow.profiles.compare import Difference
    from zesty_burrow.store.history import ChangeRow


@dataclass(frozen=True)
class RemoveResult(Result):
    """``remove``."""

    removed: tuple[str, ...]
    forgotten: tuple[str, ...]
    for_good: bool = False
    shown_by: ClassVar[str] = "changes"
    kind: ClassVar[str] = "removed"


@dataclass(frozen=True)
class HistoryResult(Result):
    """``undo --list``, the newest first."""

    changes: tuple[ChangeRow, ...]
    shown_by: ClassVar[str] = "changes"
    kind: ClassVar[str] = "changes"

    def content(self) -> dict[str, Any]:
        return {"changes": [asdict(row) for row in self.changes]}


@dataclass(frozen=True)
class CredentialsResult(Result):
    """``credentials list``."""

    credentials: tuple[dict[str, Any], ...]
    shown_by: ClassVar[str] = "changes"
    kind: ClassVar[str] = "credentials"


@dataclass(frozen=True)
class ExportResult(Result):
    """``export``; ``left_out``: what the form cannot hold."""

    files: tuple[str, ...]
    profiles: tuple[str, ...]
    credentials: tuple[str, ...]
    left_out: tuple[str, ...] = ()
    shown_by: ClassVar[str] = "changes"
    kind: ClassVar[str] = "exported"


@dataclass(frozen=True)
class CodeResult(Result):
    """``export --show-code``: QR codes as the terminal draws them."""

    profile: str
    codes: tuple[str, ...]
    credentials: tuple[str, ...]
    shown_by: ClassVar[str] = "changes"
    kind: ClassVar[str] = "code"


@dataclass(frozen=True)
class ProfileChanges:
    name: str
    differences: tuple[Difference, ...]


@dataclass(frozen=True)
class ChangesResult(Result):
    """``change``: what has changed, or would. ``unchanged``: profiles that are so already."""

    rows: tuple[ProfileChanges, ...]
    unchanged: int
    dry_run: bool
    shown_by: ClassVar[str] = "changes"
    kind: ClassVar[str] = "changed"

    def content(self) -> dict[str, Any]:
        rows = [
            {"name": row.name, "differences": [asdict(difference) for difference in row.differences]}
            for row in self.rows
        ]
        return {"profiles": rows, "unchanged": self.unchanged, "dry_run": self.dry_run}
