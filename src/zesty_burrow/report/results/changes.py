"""What was removed, kept or written."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar

from zesty_burrow.report.results.base import Result


@dataclass(frozen=True)
class RemoveResult(Result):
    """``remove``."""

    removed: tuple[str, ...]
    forgotten: tuple[str, ...]
    shown_by: ClassVar[str] = "changes"
    kind: ClassVar[str] = "removed"


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
