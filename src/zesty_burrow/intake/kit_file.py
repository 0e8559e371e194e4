"""Files of a kit."""

from __future__ import annotations

import posixpath
from dataclasses import dataclass, field


@dataclass(frozen=True, slots=True)
class KitFile:
    """One file: its path within the kit, its octets, and its mode where the file system gave one."""

    path: str
    data: bytes = field(repr=False)
    mode: int | None = None

    @property
    def name(self) -> str:
        """The last part of the path."""
        return posixpath.basename(self.path)

    @property
    def folder(self) -> str:
        """The path without its last part."""
        return posixpath.dirname(self.path)
