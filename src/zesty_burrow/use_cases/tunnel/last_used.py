"""Which profile was used last. Light to load."""

from __future__ import annotations

TYPE_CHECKING = False
if TYPE_CHECKING:
    from zesty_burrow.use_cases.workspace import Workspace

LONGEST_NAME = 256


def last_used(workspace: Workspace) -> str:
    """The profile that was used last; empty if that is not known."""
    try:
        with workspace.paths.last_profile.open("rb") as stream:
            return stream.read(LONGEST_NAME).decode("utf-8", "replace").strip()
    except OSError:
        return ""
