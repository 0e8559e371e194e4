"""Files of a kit, and where they come from."""

from __future__ import annotations

import posixpath

from zesty_burrow.errors import printable
from zesty_burrow.records import dataclass, field


@dataclass(frozen=True, slots=True)
class Source:
    """The argument that a file came with.

    ``name``: as it is shown and kept as the origin. ``group``: what came in one archive or folder belongs together
    before it belongs to the rest; empty for files that were given by themselves. ``on_disk``: the file stays where it
    is, and everybody who can read it there still can.
    """

    name: str = ""
    group: str = ""
    on_disk: bool = True


@dataclass(frozen=True, slots=True)
class KitFile:
    """One file: its path within the kit, its octets, and its mode where the file system gave one.

    ``is_text``: what a document or a page says, as UTF-8; it is no longer in the document's own form.
    """

    path: str
    data: bytes = field(repr=False)
    mode: int | None = None
    source: Source = Source()
    is_text: bool = False

    @property
    def name(self) -> str:
        """The last part of the path."""
        return posixpath.basename(self.path)

    @property
    def folder(self) -> str:
        """The path without its last part."""
        return posixpath.dirname(self.path)

    def inside(self, name: str, data: bytes) -> KitFile:
        """A file that was packed in this one."""
        return KitFile(printable(f"{self.path}/{name}"), data, self.mode, self.source)
